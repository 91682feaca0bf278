//! Streams of events while they arrive.

use super::LaneCx;
use crate::ready::ReadyRequest;
use crate::stream::StreamVerdict;
use yieldtray_expression::Value;
use yieldtray_http::{Exchange, StreamEnd, StreamEvent};
use yieldtray_workspace::scope::{ResponseScope, event_value};

/// The most events that a condition on `events` reads: it is evaluated after each of them.
const MAX_CONDITION_EVENTS: usize = 10_000;

impl<'w> LaneCx<'_, 'w> {
    /// Takes the next events of a stream whose head is `head`.
    pub(crate) fn on_events(
        &mut self,
        ready: &mut ReadyRequest<'w>,
        head: &Exchange,
        events: &[StreamEvent],
    ) -> StreamVerdict {
        let is_graphql = self.inputs.workspace().cell(ready.cell).is_graphql();
        let until = ready.work.stream.until.take();
        let keeps = until.iter().any(|until| until.expression.names().any(|name| name == "events"));
        let mut verdict = StreamVerdict { used: events.len(), end: None };
        for (index, event) in events.iter().enumerate() {
            let stream = &mut ready.work.stream;
            stream.seen += 1;
            let is_last = stream.take.is_some_and(|take| stream.seen >= take);
            // A subscription of GraphQL says that it is over (GraphQL over SSE, distinct connections).
            if is_graphql && event.name == "complete" {
                verdict = StreamVerdict { used: index + 1, end: Some(StreamEnd::Server) };
                break;
            }
            let holds = until.as_ref().is_some_and(|until| {
                let mut names = ResponseScope::new(head);
                let value = event_value(event);
                if keeps {
                    ready.work.stream.events.push(value.clone());
                    names.set("events", Value::list(ready.work.stream.events.clone()));
                }
                names.set("event", value);
                let mut checks = self.checks(ready.cell, ready.step, &mut ready.work.cache);
                checks.evaluate(std::slice::from_ref(until), &mut names).failures.is_empty()
            });
            if !holds && ready.work.stream.events.len() >= MAX_CONDITION_EVENTS {
                verdict = StreamVerdict { used: index + 1, end: Some(StreamEnd::EventLimit) };
                break;
            }
            if holds || is_last {
                let end = if holds { StreamEnd::Condition } else { StreamEnd::Count };
                verdict = StreamVerdict { used: index + 1, end: Some(end) };
                break;
            }
        }
        ready.work.stream.until = until;
        verdict
    }
}
