//! The tokens of a run: got when a cell asks for one, and not twice.

use super::Run;
use super::event::TokenReport;
use super::lane::{Doing, Lane};
use super::run::Next;
use crate::event_buffer::Told;
use yieldtray_http::{Exchange, Failure, FailureKind};
use yieldtray_workspace::plan::Step;
use yieldtray_workspace::request::{Granted, Token, TokenRequest, token_request};
use yieldtray_workspace::scope::Lookup;
use yieldtray_workspace::secret::Masker;

impl<'w> Run<'w> {
    /// Takes the answer to a request for a token. Where there is none, the cells that ask for it are
    /// reported as not answered.
    pub fn authorize(&mut self, request: &TokenRequest, answer: Result<&Exchange, &Failure>) {
        let now = self.engine.made_up().now().timestamp();
        let failure = match answer {
            Err(failure) => Failure {
                message: format!("no token for `{}`: {}", request.profile, failure.message),
                ..failure.clone()
            },
            Ok(exchange) => match request.token(exchange, now) {
                Ok(token) => {
                    learn_token(&mut self.masker, &token);
                    self.order.add_token(TokenReport {
                        profile: token.profile.clone(),
                        url: self.masker.mask(request.prepared.url.as_str()).into_owned(),
                        elapsed: exchange.timings.total,
                        seconds: token.ends.map(|ends| ends - now),
                        renewed: request.renews(),
                    });
                    self.tokens.put(token);
                    return self.release(&request.profile, true);
                }
                // What renews it has ended too: the next request for it starts from the beginning.
                Err(_) if request.renews() => {
                    self.dropped.push(request.profile.clone());
                    self.tokens.drop_profile(&request.profile);
                    return self.release(&request.profile, false);
                }
                Err(message) => Failure {
                    kind: FailureKind::NotAuthorized,
                    message,
                    hint: Some("compare the profile in `[oauth2]` with what the server expects".to_owned()),
                    elapsed: exchange.timings.total,
                },
            },
        };
        self.refused.insert(request.profile.clone(), failure);
        self.release(&request.profile, false);
    }

    /// Lets the lanes go on that wait for a profile's token.
    fn release(&mut self, profile: &str, got: bool) {
        for lane in 0..self.lanes.len() {
            if is_for(&self.lanes[lane], profile) {
                self.enter(lane);
                self.come_back();
                self.lane.just_got = got.then(|| profile.to_owned());
                self.exit();
            }
        }
    }

    /// Lets the entered lane wait for a token; the first one that does asks for it.
    pub(super) fn wait_for_token(&mut self, request: Box<TokenRequest>) -> Option<Next<'w>> {
        let asked = self.lanes.iter().any(|lane| is_for(lane, &request.profile));
        self.engage(Doing::Token(request.profile.clone()));
        (!asked).then_some(Next::Authorize(request))
    }

    /// Tells of a token that is used, if it was got in this run.
    fn tell_token(&mut self, token: &Token) {
        let number = self.order.token(&token.profile).filter(|_| token.fresh);
        if let (Some(number), Some(lane)) = (number, self.entered) {
            self.order.tell(lane, self.lane.current, Told::Token(number), &self.masker);
        }
    }

    /// The token a step needs, or why none could be got for it.
    pub(super) fn granted(&mut self, step: usize) -> Result<Granted, Failure> {
        let just_got = self.lane.just_got.take();
        if self.dry || self.cannot_be_sent(step) {
            return Ok(Granted::NotNeeded);
        }
        let mut memo = self.memo();
        let Step { cell, needs, .. } = &self.plan.steps[step];
        let granted =
            token_request(&mut Lookup::new(self.reach(), *cell, needs, &mut memo), &self.tokens, just_got.as_deref());
        self.masker.learn(memo.new_secrets());
        match granted {
            Ok(Granted::Request(request)) => match self.refused.get(&request.profile) {
                None => Ok(Granted::Request(request)),
                Some(failure) => Err(self.masked(failure)),
            },
            Ok(granted) => {
                if let Granted::Token(token) = &granted {
                    self.tell_token(token);
                }
                Ok(granted)
            }
            Err(found) => {
                self.lane.found.extend(found);
                Ok(Granted::NotNeeded)
            }
        }
    }
}

/// Whether a lane waits for a profile's token.
fn is_for(lane: &Lane<'_>, profile: &str) -> bool {
    matches!(&lane.doing, Doing::Token(waiting) if waiting == profile)
}

/// Hides what a token holds.
pub(super) fn learn_token(masker: &mut Masker, token: &Token) {
    masker.add(&token.access);
    token.refresh.iter().for_each(|refresh| masker.add(refresh));
}
