//! Lines and columns of byte offsets.

use super::Span;
use memchr::memchr_iter;

/// A line and column, both counted from 1, columns in characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LineColumn {
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
}

/// Line starts of one text. Made only when a place has to be shown.
#[derive(Clone, Debug)]
pub struct Lines {
    starts: Vec<u32>,
}

impl Lines {
    /// Finds the line starts of `text`.
    pub fn new(text: &str) -> Self {
        let after_ends = memchr_iter(b'\n', text.as_bytes()).map(|end| end as u32 + 1);
        Self { starts: std::iter::once(0).chain(after_ends).collect() }
    }

    /// The place of byte `offset` of the same text; a byte beyond the end counts as the end.
    pub fn place(&self, text: &str, offset: usize) -> LineColumn {
        let line = self.line_of(offset);
        let start = self.starts[line - 1] as usize;
        let offset = text.floor_char_boundary(offset.min(text.len()));
        let column = text.get(start..offset).map_or(0, |before| before.chars().count()) + 1;
        LineColumn { line, column }
    }

    /// The line of byte `offset`, from 1.
    pub fn line_of(&self, offset: usize) -> usize {
        self.starts.partition_point(|&start| start as usize <= offset)
    }

    /// The bytes of line `line` (from 1), its end included; nothing for a line that is not there.
    pub fn span(&self, text: &str, line: usize) -> Option<Span> {
        let start = *self.starts.get(line.checked_sub(1)?)? as usize;
        let end = self.starts.get(line).map_or(text.len(), |&next| next as usize);
        Some(Span::new(start, end))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_count_lines_and_characters_from_one() {
        let text = "GET /lots\r\n# Äpfel\nend";
        let lines = Lines::new(text);
        let at = |needle: &str| lines.place(text, text.find(needle).expect("in the text"));
        assert_eq!(at("/lots"), LineColumn { line: 1, column: 5 });
        assert_eq!(at("pfel"), LineColumn { line: 2, column: 4 });
        assert_eq!(at("end"), LineColumn { line: 3, column: 1 });
        assert_eq!(lines.place(text, 999), LineColumn { line: 3, column: 4 });
        assert_eq!(lines.span(text, 3).map(|s| s.of(text)), Some("end"));
        assert_eq!(lines.span(text, 4), None);
    }
}
