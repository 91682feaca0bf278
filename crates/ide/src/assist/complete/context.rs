//! The syntactic context at a position, derived from the line so far: while somebody types, that line is rarely valid.

use crate::assist::{IdeContext, cell_at, line_at};
use yieldtray_source::{SourceId, Span};
use yieldtray_workspace::{CellId, Workspace};

/// The syntactic context at a position.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(in crate::assist) enum Context {
    /// An expression: its text so far, and whether the response is there.
    Expression { before: Span, after: bool },
    /// The word of an instruction; whether in a cell, and below its request.
    Instruction { word: Span, cell: bool, tail: bool },
    /// The rest of the line of an instruction.
    Argument { word: Span, rest: Span },
    /// The name of a header field.
    Header(Span),
    /// The value of one.
    HeaderValue { name: Span, value: Span },
    /// A request line.
    Request(Span),
    /// Something that nothing is known of.
    Other,
}

/// The context at byte `at`.
pub(in crate::assist) fn context(view: IdeContext<'_>, source: SourceId, at: usize) -> Context {
    let text = view.text(source);
    let line = line_at(text, at);
    let before = Span::new(line.start(), at.clamp(line.start(), line.end()));
    let written = before.of(text);
    let cell = cell_at(view.workspace(), source, at);
    let region = region(view.workspace(), cell, before.start());
    if let Some(open) = written.rfind("{{").filter(|open| !written[*open..].contains("}}")) {
        return Context::Expression { before: before.part(open + 2, before.len()), after: false };
    }
    if written.starts_with("%%") || written.starts_with('#') && region != Region::Body {
        return Context::Other;
    }
    let is_line = written.starts_with('%') && (region != Region::Body || written.starts_with("% ") || written == "%");
    if is_line {
        return instruction(text, before, cell.is_some(), region);
    }
    match region {
        Region::Head if cell.is_some() => Context::Request(before),
        Region::Fields => match written.find(':') {
            None => Context::Header(before),
            Some(colon) => {
                let value = before.part(colon + 1, before.len());
                let blanks = value.len() - value.of(text).trim_start().len();
                Context::HeaderValue { name: before.part(0, colon), value: value.part(blanks, value.len()) }
            }
        },
        _ => Context::Other,
    }
}

fn instruction(text: &str, before: Span, cell: bool, region: Region) -> Context {
    let rest = before.part(1, before.len());
    let blanks = rest.len() - rest.of(text).trim_start().len();
    let rest = rest.part(blanks, rest.len());
    let Some(end) = rest.of(text).find(|c: char| c.is_ascii_whitespace()) else {
        return Context::Instruction { word: rest, cell, tail: matches!(region, Region::Fields | Region::Body) };
    };
    let word = rest.part(0, end);
    let rest = rest.part(end + 1, rest.len());
    let argument = rest.of(text);
    let expression = |from: usize, after: bool| Context::Expression { before: rest.part(from, rest.len()), after };
    match word.of(text) {
        "let" => argument.find('=').map(|equals| expression(equals + 1, false)),
        "yield" => argument.find('=').map(|equals| expression(equals + 1, true)),
        "check" => {
            // After a label and its colon, but not after one of the expression's own.
            let label = argument.find(':').filter(|colon| {
                argument[..*colon].chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.'))
            });
            Some(expression(label.map_or(0, |colon| colon + 1), true))
        }
        "skip" => argument.strip_prefix("when ").map(|_| expression("when ".len(), false)),
        "wait" => argument.strip_prefix("until ").map(|_| expression("until ".len(), true)),
        "ask" => argument.rfind(" default ").map(|at| expression(at + " default ".len(), false)),
        "play" => argument.find(" with ").and_then(|at| {
            let equals = argument[at..].rfind('=')?;
            Some(expression(at + equals + 1, false))
        }),
        _ => None,
    }
    .unwrap_or(Context::Argument { word, rest })
}

/// The parts of a cell.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Region {
    /// Before the request line, or on it.
    Head,
    /// Among the header fields.
    Fields,
    /// After the blank line that ends them.
    Body,
}

/// The part of a cell that the line at byte `start` belongs to, whatever is wrong with that line.
fn region(workspace: &Workspace, cell: Option<CellId>, start: usize) -> Region {
    let Some(cell) = cell else { return Region::Head };
    let text = &workspace.source(cell.source).text;
    let own = workspace.cell(cell).span;
    let mut region = Region::Head;
    for line in text[own.start()..start.max(own.start())].lines() {
        let is_item = line.starts_with(['#', '%']);
        region = match region {
            Region::Head if line.trim().is_empty() || is_item => Region::Head,
            Region::Head => Region::Fields,
            Region::Fields if line.trim().is_empty() => return Region::Body,
            other => other,
        };
    }
    region
}
