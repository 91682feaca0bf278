//! A request that is ready to be sent.

use crate::conversation::ConversationWork;
use crate::pages::PageWork;
use crate::response_exprs::{self, Poll, ResponseExpr};
use crate::stream::{MAX_HELD_BYTES, StreamWork};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;
use yieldtray_credentials::oauth::Token;
use yieldtray_http::PreparedRequest;
use yieldtray_source::Problem;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::EvalCache;

/// A request that is ready to be sent.
#[derive(Debug)]
pub struct ReadyRequest<'w> {
    /// The request.
    pub prepared: Arc<PreparedRequest>,
    /// The cell it was made from.
    pub cell: CellId,
    /// The row it is for, from 1.
    pub row: Option<usize>,
    /// When it was sent, after the run began. Set by the caller.
    pub sent_at: Duration,
    /// The file that the response's body is saved to, relative to the root.
    pub save: Option<PathBuf>,
    /// The lane it belongs to; each lane has cookies of its own.
    pub lane: usize,
    /// The round, from 1.
    pub round: usize,
    /// The steps of other lanes that it needs: it sends their cookies, too.
    pub cookie_sources: Vec<usize>,
    /// Whether a cell of another file needs this step.
    pub needed_elsewhere: bool,
    /// Its place in the plan.
    pub step: usize,
    pub(crate) work: ResponseWork<'w>,
}

/// The handling of the response of a request: checks, captures, files.
#[derive(Debug)]
pub(crate) struct ResponseWork<'w> {
    /// The token that the request carries.
    pub(crate) token: Option<Token>,
    pub(crate) cache: EvalCache,
    /// The checks and yields.
    pub(crate) exprs: Vec<ResponseExpr<'w>>,
    /// Problems of the request that do not stop it.
    pub(crate) problems: Vec<Problem>,
    /// The largest body that is kept of the response whatever reads it, in bytes.
    pub(crate) capture_limit: u64,
    /// The condition of `% wait`.
    pub(crate) poll: Option<Poll<'w>>,
    /// Whether the body is read beside the expressions.
    pub(crate) reads_body: bool,
    /// The instructions about a stream of events.
    pub(crate) stream: StreamWork<'w>,
    /// The lines of a conversation.
    pub(crate) conversation: ConversationWork<'w>,
    /// How often it was sent again since the server asked to wait.
    pub(crate) retries: usize,
    /// The pages that are followed.
    pub(crate) pages: Option<PageWork<'w>>,
}

impl ReadyRequest<'_> {
    /// Problems of the request that do not stop it.
    pub fn problems(&self) -> &[Problem] {
        &self.work.problems
    }

    /// The largest body to hold of the response, in bytes: any size where something reads it, else what reports and the
    /// log keep.
    pub fn largest_body(&self) -> u64 {
        if self.reads_body() { u64::MAX } else { self.work.capture_limit }
    }

    /// The largest part of a stream of events to hold, in bytes.
    pub fn largest_stream(&self) -> u64 {
        if self.reads_body() { u64::MAX } else { self.work.capture_limit.min(MAX_HELD_BYTES) }
    }

    /// Whether a conversation has lines: else whoever is there may speak.
    pub fn has_script(&self) -> bool {
        !self.work.conversation.turns.is_empty()
    }

    /// Whether the cell has lines about a stream of events.
    pub fn has_stream_lines(&self) -> bool {
        let StreamWork { until, take, reconnects, .. } = &self.work.stream;
        until.is_some() || take.is_some() || *reconnects > 0
    }

    /// How often a stream of events is connected again when the server ends it.
    pub fn reconnects(&self) -> u32 {
        self.work.stream.reconnects
    }

    /// Whether a check or a yield reads the response's body, or it is validated.
    pub fn reads_body(&self) -> bool {
        let next_page = self.work.pages.iter().filter_map(|pages| pages.next.as_ref());
        let condition = self.work.poll.iter().map(|poll| &poll.until).chain(next_page);
        self.work.reads_body
            || self.work.exprs.iter().chain(condition).any(|expr| response_exprs::reads_body(&expr.expression))
    }
}
