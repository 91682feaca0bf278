//! Pages that lead to the next one (`% follow next`): by a link (RFC 8288), or by an expression.

use crate::response_exprs::{Purpose, ResponseExpr};
use bytes::Bytes;
use std::sync::Arc;
use yieldtray_expression::Engine;
use yieldtray_http::{Hop, PreparedRequest};
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

/// What a cell says about pages.
pub(crate) fn page_work<'w>(workspace: &'w Workspace, engine: &Engine, cell: CellId) -> Option<PageWork<'w>> {
    let found = workspace.cell(cell).instructions().find_map(|line| match line.kind {
        InstructionKind::Follow { next, pages } => Some((next, pages)),
        _ => None,
    });
    let (next, most) = found?;
    let next = next.and_then(|span| {
        let expression = engine.compile(span.of(&workspace.source(cell.source).text)).ok()?;
        let purpose = Purpose::Check { label: None, hint: None };
        Some(ResponseExpr { source: cell.source, span, expression, purpose })
    });
    Some(PageWork { next, most, first: None, hops: Vec::new(), bodies: Vec::new() })
}
