//! Conversations over a WebSocket: one step of a script, or what a person types.

use super::cancel::or_cancelled;
use std::io::BufRead;
use std::sync::Arc;
use std::thread;
use tokio::sync::{Mutex, Notify, mpsc};
use yieldtray_engine::{ConversationEvent, ConversationStep, ReadyRequest};
use yieldtray_http::{ConversationMessage, Failure, MessageData};
use yieldtray_transport::{Conversation, NextMessage};

/// How many typed lines wait at most.
const MAX_TYPED_LINES: usize = 64;

/// A conversation under way.
pub(super) struct Conversing<'w> {
    pub(super) ready: Box<ReadyRequest<'w>>,
    pub(super) conversation: Box<Conversation>,
    /// The lines that a person types, if there is no script.
    pub(super) typed: Option<TypedLines>,
    /// The messages that were sent or received in this step.
    pub(super) messages: Vec<ConversationMessage>,
    /// The last event.
    pub(super) event: ConversationEvent,
    /// Whether it was cut off, or the person ended it.
    pub(super) is_over: bool,
}

/// The lines that a person types. The thread that reads them ends with the process: a read of a terminal cannot be given up.
pub(super) type TypedLines = Arc<Mutex<mpsc::Receiver<String>>>;

/// Reads lines from standard input.
pub(super) fn typed_lines() -> TypedLines {
    let (sender, lines) = mpsc::channel(MAX_TYPED_LINES);
    thread::spawn(move || {
        for line in std::io::stdin().lock().lines() {
            let Ok(line) = line else { break };
            if sender.blocking_send(line).is_err() {
                break;
            }
        }
    });
    Arc::new(Mutex::new(lines))
}

impl<'w> Conversing<'w> {
    pub(super) fn begin(
        ready: Box<ReadyRequest<'w>>,
        conversation: Box<Conversation>,
        typed: Option<TypedLines>,
    ) -> Self {
        let event = ConversationEvent::Ready;
        Self { ready, conversation, typed, messages: Vec::new(), event, is_over: false }
    }

    /// Does a step. What arrived before it is cut off is kept.
    pub(super) async fn step(
        mut self: Box<Self>,
        step: ConversationStep,
        cut_off: &Arc<Notify>,
    ) -> Result<Box<Self>, (Box<ReadyRequest<'w>>, Failure)> {
        self.messages.clear();
        match or_cancelled(Arc::clone(cut_off), self.take(step)).await {
            Ok(Ok(())) => Ok(self),
            Ok(Err(failure)) => Err((self.ready, failure)),
            Err(_) => {
                self.is_over = true;
                Ok(self)
            }
        }
    }

    async fn take(&mut self, step: ConversationStep) -> Result<(), Failure> {
        match step {
            ConversationStep::Say(data) => {
                self.messages.push(self.conversation.say(data).await?);
                self.event = ConversationEvent::Ready;
            }
            ConversationStep::Listen(until) => match self.typed.clone() {
                None => {
                    let next = self.conversation.next(Some(until)).await?;
                    self.received(next);
                }
                Some(typed) => self.listen_to_both(&typed).await?,
            },
            ConversationStep::End => self.is_over = true,
        }
        Ok(())
    }

    /// Waits for the server or the person, as long as both are there.
    async fn listen_to_both(&mut self, typed: &TypedLines) -> Result<(), Failure> {
        let mut lines = typed.lock().await;
        tokio::select! {
            next = self.conversation.next(None) => {
                let next = next?;
                self.received(next);
            }
            line = lines.recv() => match line {
                Some(line) => {
                    self.messages.push(self.conversation.say(MessageData::Text(line)).await?);
                    self.event = ConversationEvent::Ready;
                }
                None => self.is_over = true,
            },
        }
        Ok(())
    }

    fn received(&mut self, next: NextMessage) {
        self.event = match next {
            NextMessage::Message(message) => {
                self.messages.push(message.clone());
                ConversationEvent::Received(message)
            }
            NextMessage::TimeLimit => ConversationEvent::TimeLimit,
            NextMessage::Closed { code, reason } => ConversationEvent::Closed { code, reason },
        };
    }
}
