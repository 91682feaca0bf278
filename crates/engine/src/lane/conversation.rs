//! Conversations while they go on.

use super::LaneCx;
use crate::conversation::{ConversationEvent, ConversationStep, Turn, failure};
use crate::ready::ReadyRequest;
use std::time::Duration;
use yieldtray_http::{ConversationMessage, Exchange, MessageData};
use yieldtray_source::Problem;
use yieldtray_workspace::request::{message_from_file, message_text};
use yieldtray_workspace::scope::{ResponseScope, message_value};

impl<'w> LaneCx<'_, 'w> {
    /// Takes what happened in a conversation that `head` began, at `now` after the exchange did.
    pub(crate) fn on_conversation(
        &mut self,
        ready: &mut ReadyRequest<'w>,
        head: &Exchange,
        event: ConversationEvent,
        now: Duration,
    ) -> ConversationStep {
        let ended = match event {
            ConversationEvent::Ready => None,
            ConversationEvent::Received(message) => {
                self.on_message(ready, head, message);
                None
            }
            ConversationEvent::TimeLimit => Some("no message fulfilled it in time".to_owned()),
            ConversationEvent::Closed { code, reason } => {
                let reason = if reason.is_empty() { String::new() } else { format!(": {reason}") };
                Some(format!("the server ended the conversation ({code}{reason})"))
            }
        };
        if let Some(why) = ended {
            self.fail_turn(ready, head, &why);
            return ConversationStep::End;
        }
        self.next_turn(ready, now)
    }

    /// Whether a message is what the present line waits for.
    fn on_message(&mut self, ready: &mut ReadyRequest<'w>, head: &Exchange, message: ConversationMessage) {
        let work = &mut ready.work.conversation;
        work.passed += 1;
        let Some(Turn::Expect { until, name, .. }) = work.turns.get(work.at).cloned() else {
            work.last = Some(message);
            return;
        };
        let value = message_value(&message);
        work.last = Some(message);
        let mut names = ResponseScope::new(head);
        names.set("message", value.clone());
        let mut checks = self.checks(ready.cell, ready.step, &mut ready.work.cache);
        if checks.evaluate(std::slice::from_ref(&until), &mut names).failures.is_empty() {
            if let Some(name) = name {
                ready.work.cache.with.retain(|(known, _)| known != name);
                ready.work.cache.with.push((name.to_owned(), value));
            }
            let work = &mut ready.work.conversation;
            (work.at, work.deadline, work.passed) = (work.at + 1, None, 0);
            work.fulfilled += 1;
        }
    }

    fn next_turn(&mut self, ready: &mut ReadyRequest<'w>, now: Duration) -> ConversationStep {
        let limit = ready.prepared.sending.timeout;
        let work = &mut ready.work.conversation;
        match work.turns.get(work.at).cloned() {
            // Without a line to wait for, a conversation goes on until the server ends it.
            None if work.turns.is_empty() => ConversationStep::Listen(limit),
            None => ConversationStep::End,
            Some(Turn::Expect { within, .. }) => {
                let deadline = *work.deadline.get_or_insert(now + within);
                ConversationStep::Listen(deadline.min(limit))
            }
            Some(turn) => {
                work.at += 1;
                match self.rendered(ready, &turn) {
                    Ok(data) => ConversationStep::Say(data),
                    Err(problems) => {
                        let why = problems.first().map(|problem| problem.message.clone()).unwrap_or_default();
                        ready.work.problems.extend(problems);
                        ready.work.conversation.failure = match turn {
                            Turn::Say(_, line) | Turn::SayFrom(_, line) | Turn::Expect { line, .. } => Some(failure(
                                self.inputs.workspace(),
                                ready.cell,
                                line,
                                format!("it cannot be sent: {why}"),
                            )),
                        };
                        ConversationStep::End
                    }
                }
            }
        }
    }

    fn rendered(&mut self, ready: &mut ReadyRequest<'w>, turn: &Turn<'w>) -> Result<MessageData, Vec<Problem>> {
        let (cell, url) = (ready.cell, ready.prepared.url.clone());
        let mut cache = std::mem::take(&mut ready.work.cache);
        let needs = &self.step(ready.step).needs;
        let mut resolver = self.resolver(cell, needs, &mut cache);
        let data = match *turn {
            Turn::Say(span, _) => message_text(&mut resolver, span, &url),
            Turn::SayFrom(path, _) => message_from_file(&mut resolver, path, &url),
            Turn::Expect { .. } => Err(Vec::new()),
        };
        self.mask_new_secrets(&mut cache);
        ready.work.cache = cache;
        data
    }

    /// The failure of the line that waits, explained by the last message.
    fn fail_turn(&mut self, ready: &mut ReadyRequest<'w>, head: &Exchange, why: &str) {
        let work = &ready.work.conversation;
        let Some(Turn::Expect { until, line, .. }) = work.turns.get(work.at).cloned() else { return };
        let arrived = match work.passed {
            0 => "no message arrived".to_owned(),
            1 => "1 message arrived".to_owned(),
            more => format!("{more} messages arrived"),
        };
        let mut found = failure(self.inputs.workspace(), ready.cell, line, format!("{why}; {arrived}"));
        if let Some(last) = work.last.as_ref().filter(|_| work.passed > 0) {
            let mut names = ResponseScope::new(head);
            names.set("message", message_value(last));
            let mut checks = self.checks(ready.cell, ready.step, &mut ready.work.cache);
            let results = checks.evaluate(std::slice::from_ref(&until), &mut names);
            if let Some(explained) = results.failures.into_iter().next() {
                let notes = found.notes.into_iter().chain(explained.notes.clone()).collect();
                found = crate::event::CheckFailure { notes, ..explained };
            }
        }
        ready.work.conversation.failure = Some(found);
    }
}
