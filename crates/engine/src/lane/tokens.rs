//! OAuth 2.0 tokens: requested when a cell needs one, and once for all lanes.

use super::{Activity, LaneCx};
use crate::event_buffer::LaneEvent;
use crate::next::Next;
use yieldtray_credentials::oauth::{Token, TokenFlow};
use yieldtray_http::Failure;
use yieldtray_workspace::plan::Step;
use yieldtray_workspace::request::{TokenLookup, find_token};

impl<'w> LaneCx<'_, 'w> {
    /// The token that a step needs, or why none could be obtained for it.
    pub(super) fn token(&mut self, step: usize) -> Result<TokenLookup, Failure> {
        let fresh = self.lane.take_fresh_token();
        if self.inputs.is_dry() || self.cannot_be_sent(step) {
            return Ok(TokenLookup::NotNeeded);
        }
        let mut cache = self.cache();
        let Step { cell, needs, .. } = self.step(step);
        let mut resolver = self.resolver(*cell, needs, &mut cache);
        let found = find_token(&mut resolver, self.run.oauth.tokens(), fresh.as_deref());
        self.mask_new_secrets(&mut cache);
        match found {
            Ok(TokenLookup::Flow(flow)) => match self.run.oauth.failure(flow.profile()) {
                None => Ok(TokenLookup::Flow(flow)),
                Some(failure) => Err(self.mask_failure(failure)),
            },
            Ok(found) => {
                if let TokenLookup::Token(token) = &found {
                    self.report_token(token);
                }
                Ok(found)
            }
            Err(problems) => {
                self.lane.add_problems(problems);
                Ok(TokenLookup::NotNeeded)
            }
        }
    }

    /// Waits for a token; the first lane that does has it obtained.
    pub(super) fn wait_for_token(&mut self, flow: Box<TokenFlow>) -> Option<Next<'w>> {
        let is_first = self.run.oauth.begin_request(flow.profile());
        self.begin_wait(Activity::Token(flow.profile().to_owned()));
        is_first.then_some(Next::Authorize(flow))
    }

    /// Ends the wait for a token. `profile` is given if one was obtained.
    pub(crate) fn resume_with_token(&mut self, profile: Option<&str>) {
        self.end_wait();
        self.lane.set_fresh_token(profile.map(str::to_owned));
    }

    /// Reports that a token is used, if it was obtained in this run.
    fn report_token(&mut self, token: &Token) {
        if let Some(number) = self.run.events.token_number(&token.profile).filter(|_| token.obtained_now) {
            let step = self.lane.current();
            self.run.events.push(self.index, step, LaneEvent::TokenUsed(number), &self.run.masker);
        }
    }
}
