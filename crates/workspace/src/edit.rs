//! Changes of a cell in memory; its file stays as it is.

use crate::{CellId, Workspace};
use yieldtray_source::{Code, Problem, Span};
use yieldtray_syntax as syntax;

impl Workspace {
    /// Replaces the body of a cell in memory; its file stays as it is.
    pub fn replace_body(&mut self, cell: CellId, body: &str) -> Result<(), Problem> {
        let source = self.source(cell.source);
        let (own, text) = (self.cell(cell), &source.text);
        let (at, before) = match (own.body.is_empty(), &own.request) {
            (false, _) | (_, None) => (own.body.range(), ""),
            // Below the header fields: at the first blank line after the request line.
            (true, Some(request)) => {
                let rest = &text[request.span.start()..own.span.end()];
                let blank = rest.find("\n\n").or_else(|| rest.find("\r\n\r\n")).unwrap_or(rest.trim_end().len());
                let place = request.span.start() + blank;
                (place..place, "\n\n")
            }
        };
        let edited = format!("{}{before}{body}{}", &text[..at.start], &text[at.end..]);
        let stem = source.path.file_stem().unwrap_or_default().to_string_lossy();
        let parsed = syntax::parse(&edited, cell.source, &stem);
        let same = parsed.file.cells.len() == source.file.cells.len()
            && parsed.file.cells[cell.index as usize].body.of(&edited) == body.trim_end();
        if !same {
            let message = "this text would not be read as a body";
            let problem = Problem::error(Code::StrayText, Span::default(), message);
            return Err(problem.with_hint("a body line that must start with `%` is written `\\%`"));
        }
        self.set_text(cell.source, edited);
        Ok(())
    }
}
