//! Pages that lead to the next one (`% follow next`): by a link (RFC 8288), or by an expression.

use crate::response_exprs::{self, ResponseExpr};
use bytes::Bytes;
use std::sync::Arc;
use std::time::Duration;
use url::Url;
use yieldtray_expression::Engine;
use yieldtray_http::{Exchange, Hop, HopKind, PreparedRequest};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::{CellId, Workspace};

/// The most bytes of all pages together.
pub(crate) const MAX_PAGES_BYTES: usize = 64 << 20;

/// The pages of a cell so far.
#[derive(Debug)]
pub(crate) struct PageWork<'w> {
    /// The expression that gives the next URL; without one, the `Link` header does.
    pub(crate) next: Option<ResponseExpr<'w>>,
    /// How many pages there may be.
    pub(crate) most: u32,
    /// The first request.
    pub(crate) first: Option<Arc<PreparedRequest>>,
    /// The pages before the present one.
    pub(crate) hops: Vec<Hop>,
    /// Their bodies.
    pub(crate) bodies: Vec<Bytes>,
}

impl PageWork<'_> {
    /// Takes a page that led to another one.
    pub(crate) fn push(&mut self, page: Exchange, next: &PreparedRequest) {
        self.hops.push(Hop {
            kind: HopKind::Page,
            timings: page.timings,
            status: page.status,
            method: page.sent.method.clone(),
            url: page.sent.address().into_owned(),
            location: next.url.to_string(),
        });
        self.bodies.push(page.body);
    }

    /// Whether a URL is that of a page before the present one.
    pub(crate) fn has_seen(&self, url: &Url) -> bool {
        self.hops.iter().any(|hop| hop.url == url.as_str())
    }

    /// The bytes of the pages before the present one.
    pub(crate) fn size(&self) -> usize {
        self.bodies.iter().map(Bytes::len).sum()
    }

    /// The last page with those before it. A logged response has its pages already.
    pub(crate) fn joined(self, mut last: Exchange) -> Exchange {
        if !self.hops.is_empty() {
            last.timings.total += self.hops.iter().map(|hop| hop.timings.total).sum::<Duration>();
            last.hops.splice(..0, self.hops);
            last.pages = self.bodies;
        }
        last
    }
}

/// The pages of a cell, if it follows any.
pub(crate) fn page_work<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> Option<PageWork<'w>> {
    let found = workspace.cell(cell).instructions().find_map(|line| match line.kind {
        InstructionKind::Follow { next, pages } => Some((next, pages)),
        _ => None,
    });
    let (next, most) = found?;
    let next = next.and_then(|span| response_exprs::condition(workspace, engine, cell.source, span));
    Some(PageWork { next, most, first: None, hops: Vec::new(), bodies: Vec::new() })
}
