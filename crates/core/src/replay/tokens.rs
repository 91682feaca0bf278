//! The tokens of a run: got when a cell asks for one, and not twice.

use super::Run;
use super::event::{Event, TokenReport};
use super::plan::Step;
use crate::request::{Granted, Token, TokenRequest, token_request};
use crate::response::{Exchange, Failure, FailureKind};
use crate::secret::Masker;
use crate::workspace::Lookup;

impl Run<'_> {
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
                    self.just_got = Some(token.profile.clone());
                    self.events.push_back(Event::Token(TokenReport {
                        profile: token.profile.clone(),
                        url: self.masker.mask(request.prepared.url.as_str()).into_owned(),
                        elapsed: exchange.timings.total,
                        seconds: token.ends.map(|ends| ends - now),
                        renewed: request.renews(),
                    }));
                    return self.tokens.put(token);
                }
                // What renews it has ended too: the next request for it starts from the beginning.
                Err(_) if request.renews() => {
                    self.dropped.push(request.profile.clone());
                    return self.tokens.drop_profile(&request.profile);
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
    }

    /// The token a step needs, or why none could be got for it.
    pub(super) fn granted(&mut self, step: usize) -> Result<Granted, Failure> {
        let just_got = self.just_got.take();
        if self.dry || self.cannot_be_sent(step) {
            return Ok(Granted::NotNeeded);
        }
        let mut memo = self.memo();
        let Step { cell, needs, .. } = &self.plan.steps[step];
        let granted =
            token_request(&mut Lookup::new(self.reach(), *cell, needs, &mut memo), &self.tokens, just_got.as_deref());
        self.masker.learn(memo.secrets.drain(..));
        match granted {
            Ok(Granted::Request(request)) => match self.refused.get(&request.profile) {
                None => Ok(Granted::Request(request)),
                Some(failure) => Err(self.masked(failure)),
            },
            Ok(granted) => Ok(granted),
            Err(found) => {
                self.found.extend(found);
                Ok(Granted::NotNeeded)
            }
        }
    }
}

/// Hides what a token holds.
pub(super) fn learn_token(masker: &mut Masker, token: &Token) {
    masker.add(&token.access);
    token.refresh.iter().for_each(|refresh| masker.add(refresh));
}
