//! The GraphQL document of a cell: its body or a file, and fragments from other files.

use crate::{CellId, Workspace};
use std::ops::Range;
use yieldtray_source::{Code, Lines, Problem, SourceId, Span};
use yieldtray_syntax::InstructionKind;

/// The largest document, in bytes.
const MAX_DOCUMENT_BYTES: usize = 4 << 20;

/// A GraphQL document, and where its parts are from.
#[derive(Clone, Debug)]
pub struct GraphQlDocument {
    /// The whole text.
    pub text: String,
    /// The name in `% operation`, with its place.
    pub operation: Option<(String, Span)>,
    parts: Vec<DocumentPart>,
}

#[derive(Clone, Debug)]
struct DocumentPart {
    /// Where it begins in the whole text.
    start: usize,
    origin: Origin,
}

#[derive(Clone, Debug)]
enum Origin {
    /// The body of the cell, at this byte of its text.
    Body(SourceId, usize),
    /// A file of this name, which the line at the span names.
    File { path: String, source: SourceId, line: Span },
}

/// The document of a cell; `None` if it is no GraphQL request.
///
/// # Errors
/// If it has none, or a file of it cannot be read.
pub fn graphql_document(workspace: &Workspace, cell: CellId) -> Option<Result<GraphQlDocument, Problem>> {
    workspace.cell(cell).is_graphql().then(|| read(workspace, cell))
}

fn read(workspace: &Workspace, cell: CellId) -> Result<GraphQlDocument, Problem> {
    let own = workspace.cell(cell);
    let source = cell.source;
    let text = &workspace.source(source).text;
    let mut document = GraphQlDocument { text: String::new(), operation: None, parts: Vec::new() };
    let mut mark = Span::empty(own.span.start());
    if !own.body.is_empty() {
        document.add(own.body.of(text), Origin::Body(source, own.body.start()));
    }
    for line in own.instructions() {
        match line.kind {
            InstructionKind::GraphQl => mark = line.span,
            InstructionKind::Operation(name) => document.operation = Some((name.of(text).to_owned(), name)),
            InstructionKind::BodyFrom { path, .. } | InstructionKind::Fragments(path) => {
                let written = path.of(text);
                let refused = |why: &dyn std::fmt::Display| {
                    let message = format!("cannot read the GraphQL document `{written}`: {why}");
                    let hint = "paths are relative to the request file and must be inside the workspace";
                    Problem::error(Code::UnreadableFile, path, message).with_hint(hint).in_source(source)
                };
                let bytes = workspace.read_relative(source, written).map_err(|error| refused(&error))?;
                let content = String::from_utf8(bytes).map_err(|_| refused(&"it is not UTF-8 text"))?;
                let origin = Origin::File { path: written.to_owned(), source, line: path };
                document.add(&content, origin);
            }
            _ => {}
        }
    }
    if document.text.trim().is_empty() {
        let hint = "write it below the headers, or add `% body from FILE.graphql`";
        let problem = Problem::error(Code::InvalidGraphql, mark, "this GraphQL request has no document");
        return Err(problem.with_hint(hint).in_source(source));
    }
    if document.text.len() > MAX_DOCUMENT_BYTES {
        let message = format!("the GraphQL document is larger than {} MiB", MAX_DOCUMENT_BYTES >> 20);
        return Err(Problem::error(Code::InvalidGraphql, mark, message).in_source(source));
    }
    Ok(document)
}

impl GraphQlDocument {
    fn add(&mut self, text: &str, origin: Origin) {
        if !self.text.is_empty() && !self.text.ends_with('\n') {
            self.text.push('\n');
        }
        self.parts.push(DocumentPart { start: self.text.len(), origin });
        self.text.push_str(text);
    }

    /// A problem at a place of the document, where a person looks for it.
    pub fn problem(&self, problem: Problem, range: Range<usize>) -> Problem {
        let Some(part) = self.parts.iter().rev().find(|part| part.start <= range.start) else { return problem };
        match &part.origin {
            Origin::Body(source, start) => {
                let at = |offset: usize| start + (offset - part.start);
                // An error may reach into what follows.
                let end = range.end.min(self.end_of(part)).max(range.start);
                Problem { span: Span::new(at(range.start), at(end)), ..problem }.in_source(*source)
            }
            Origin::File { path, source, line } => {
                let text = &self.text[part.start..self.end_of(part)];
                let number = Lines::new(text).line_of(range.start - part.start);
                let message = format!("in `{path}`, line {number}: {}", problem.message);
                Problem { span: *line, message, replacement: None, ..problem }.in_source(*source)
            }
        }
    }

    fn end_of(&self, part: &DocumentPart) -> usize {
        let next = self.parts.iter().find(|other| other.start > part.start);
        next.map_or(self.text.len(), |next| next.start)
    }

    /// The place in the document of a byte of the cell's text, if it is in the body.
    pub fn offset_of(&self, source: SourceId, at: usize) -> Option<usize> {
        self.parts.iter().find_map(|part| match &part.origin {
            Origin::Body(own, start) if *own == source && at >= *start => {
                let offset = part.start + (at - start);
                (offset <= self.end_of(part)).then_some(offset)
            }
            _ => None,
        })
    }

    /// The line and column in the cell's file of a position (from 1) of the document; `None` in another file.
    pub fn place_of(&self, line: usize, column: usize) -> Option<(SourceId, usize)> {
        let start: usize = self.text.split_inclusive('\n').take(line.checked_sub(1)?).map(str::len).sum();
        let rest = self.text.get(start..)?;
        let offset = start + rest.char_indices().nth(column.saturating_sub(1)).map_or(rest.len(), |(at, _)| at);
        let part = self.parts.iter().rev().find(|part| part.start <= offset)?;
        match &part.origin {
            Origin::Body(source, begin) => Some((*source, begin + (offset - part.start))),
            Origin::File { .. } => None,
        }
    }
}
