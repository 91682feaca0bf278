//! The structure of files: what is listed, folded, selected bit by bit, followed.

use super::{IdeContext, Referent, cell_at, in_requests, line_at, references::name_place};
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::{Item, Node, Template};
use yieldtray_workspace::{CellId, Workspace};

/// A cell in a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Symbol {
    /// The cell.
    pub cell: CellId,
    /// Its name.
    pub name: String,
    /// Its method and target.
    pub detail: String,
    /// All of it.
    pub span: Span,
    /// The span of its name.
    pub at: Span,
}

/// The cells of a file.
pub fn symbols(workspace: &Workspace, source: SourceId) -> Vec<Symbol> {
    let text = &workspace.source(source).text;
    let symbol = |cell: CellId| {
        let own = workspace.cell(cell);
        let detail = own.request.as_ref().map(|line| {
            let method = line.method.map_or("GET", |method| method.of(text));
            format!("{method} {}", line.target.of(text))
        });
        let end = own.span.of(text).trim_end().len();
        let (span, at) = (own.span.part(0, end), name_place(workspace, cell));
        let at = if span.contains(at) { at } else { Span::empty(span.start()) };
        Symbol { cell, name: own.name.to_string(), detail: detail.unwrap_or_default(), span, at }
    };
    workspace.cells(source).map(symbol).collect()
}

/// The cells of all loaded files whose names, titles or targets contain the letters of `query` in order.
pub fn workspace_symbols(workspace: &Workspace, query: &str) -> Vec<Symbol> {
    let query = query.to_lowercase();
    let matches = |symbol: &Symbol| {
        let shown = format!("{} {} {}", symbol.name, workspace.title(symbol.cell), symbol.detail).to_lowercase();
        let mut letters = shown.chars();
        query.chars().filter(|c| !c.is_whitespace()).all(|wanted| letters.any(|letter| letter == wanted))
    };
    workspace.loaded().flat_map(|file| symbols(workspace, file)).filter(matches).collect()
}

/// The kind of a folding range.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fold {
    /// A cell.
    Cell(Span),
    /// A body.
    Body(Span),
    /// Comments in a row.
    Comments(Span),
}

/// The folding ranges of a file: cells, and bodies and comments of several lines.
pub fn folds(workspace: &Workspace, source: SourceId) -> Vec<Fold> {
    let own = workspace.source(source);
    let text = &own.text;
    let mut folds = Vec::new();
    let several = |span: Span| span.of(text).trim_end().contains('\n');
    let mut comments = |items: &[Item]| {
        let mut open: Option<Span> = None;
        let spans: Vec<Option<Span>> = items
            .iter()
            .map(|item| match item {
                Item::Comment(span) => Some(*span),
                _ => None,
            })
            .collect();
        let mut blocks = Vec::new();
        for span in spans.into_iter().chain([None]) {
            match (open, span) {
                (Some(block), Some(span)) if text[block.end()..span.start()].trim_matches(['\r', '\n']).is_empty() => {
                    open = Some(Span::new(block.start(), span.end()));
                }
                (_, next) => {
                    blocks.extend(open);
                    open = next;
                }
            }
        }
        folds.extend(blocks.into_iter().filter(|block| several(*block)).map(Fold::Comments));
    };
    comments(&own.file.preamble);
    own.file.cells.iter().for_each(|cell| comments(&cell.items));
    for cell in &own.file.cells {
        let end = cell.span.of(text).trim_end().len();
        let whole = cell.span.part(0, end);
        folds.extend(several(whole).then_some(Fold::Cell(whole)));
        folds.extend(several(cell.body).then_some(Fold::Body(cell.body)));
    }
    folds
}

/// The ranges around byte `at`, from the smallest to the whole text, each inside the next.
pub fn selections(view: IdeContext<'_>, source: SourceId, at: usize) -> Vec<Span> {
    let workspace = view.workspace();
    let text = view.text(source);
    let own = workspace.source(source);
    let mut spans: Vec<Span> =
        in_requests(workspace, view.context.engine, source).into_iter().map(|found| found.span).collect();
    let mut marks = |span: Span, body: bool| {
        let template = Template::parse(text, span, body, &mut Vec::new());
        for expression in template.expressions() {
            spans.push(expression);
            let open = text[..expression.start()].rfind("{{").unwrap_or(expression.start());
            let close = text[expression.end()..].find("}}").map_or(expression.end(), |at| expression.end() + at + 2);
            spans.push(Span::new(open, close));
        }
    };
    if let Some(cell) = cell_at(workspace, source, at) {
        let cell = workspace.cell(cell);
        cell.request.iter().for_each(|line| marks(line.target, false));
        cell.fields.iter().for_each(|field| marks(field.value, false));
        marks(cell.template_body(), true);
        spans.extend(cell.request.iter().map(|line| line.target));
        spans.extend(cell.fields.iter().map(|field| field.value));
        spans.push(cell.span);
    }
    spans.push(line_at(text, at));
    spans.extend(own.file.nodes(text).into_iter().filter(|(node, _)| *node != Node::Gap).map(|(_, span)| span));
    spans.push(Span::new(0, text.len()));
    spans.retain(|span| span.start() <= at && at <= span.end());
    spans.sort_by_key(|span| (span.len(), span.start()));
    spans.dedup();
    // Only those that hold all before them.
    let mut nested: Vec<Span> = Vec::new();
    for span in spans {
        if nested.last().is_none_or(|last| span.contains(*last)) {
            nested.push(span);
        }
    }
    nested
}

/// The files that a file names, each with where it names it.
pub fn links(view: IdeContext<'_>, source: SourceId) -> Vec<(Span, String)> {
    let text = view.text(source);
    let found = in_requests(view.workspace(), view.context.engine, source);
    let files = found.into_iter().filter(|found| found.what == Referent::File);
    files.map(|found| (found.span, found.span.of(text).to_owned())).collect()
}
