//! Bytes of a text, and lines and columns as the client counts them.

use lsp_types::{Position, Range};
use yieldtray_source::{Lines, Span};

/// How the client counts columns (LSP 3.17, `positionEncodings`).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum PositionEncoding {
    /// In bytes.
    Utf8,
    /// In units of UTF-16: what every client can do.
    Utf16,
}

/// A text with its lines.
#[derive(Clone, Copy)]
pub(crate) struct LineIndex<'t> {
    pub(crate) text: &'t str,
    pub(crate) lines: &'t Lines,
    pub(crate) encoding: PositionEncoding,
}

impl LineIndex<'_> {
    /// The byte at a position. One beyond the end of its line is the end of the line, one beyond the last line the
    /// end of the text, one inside a character its beginning.
    pub(crate) fn offset(&self, position: Position) -> usize {
        let Some(line) = self.lines.span(self.text, position.line as usize + 1) else { return self.text.len() };
        let written = line.of(self.text).trim_end_matches(['\n', '\r']);
        let character = position.character as usize;
        let within = match self.encoding {
            PositionEncoding::Utf8 => written.floor_char_boundary(character.min(written.len())),
            PositionEncoding::Utf16 => {
                let mut units = 0;
                let fitting = written.chars().take_while(|c| {
                    units += c.len_utf16();
                    units <= character
                });
                fitting.map(char::len_utf8).sum()
            }
        };
        line.start() + within
    }

    /// The position of a byte.
    pub(crate) fn position(&self, offset: usize) -> Position {
        let offset = self.text.floor_char_boundary(offset.min(self.text.len()));
        let line = self.lines.line_of(offset);
        let start = self.lines.span(self.text, line).map_or(0, Span::start);
        let before = &self.text[start..offset];
        let column = match self.encoding {
            PositionEncoding::Utf8 => before.len(),
            PositionEncoding::Utf16 => before.chars().map(char::len_utf16).sum(),
        };
        Position::new(line as u32 - 1, column as u32)
    }

    pub(crate) fn range(&self, span: Span) -> Range {
        Range::new(self.position(span.start()), self.position(span.end()))
    }

    pub(crate) fn span(&self, range: Range) -> Span {
        let start = self.offset(range.start);
        Span::new(start, self.offset(range.end).max(start))
    }

    /// How wide a piece of one line is.
    pub(crate) fn width(&self, piece: &str) -> u32 {
        match self.encoding {
            PositionEncoding::Utf8 => piece.len() as u32,
            PositionEncoding::Utf16 => piece.chars().map(char::len_utf16).sum::<usize>() as u32,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn columns_are_counted_as_the_client_does() {
        let text = "GET /🍏/x\r\n# Äpfel\nend";
        let lines = Lines::new(text);
        for (encoding, apple, umlaut) in [(PositionEncoding::Utf16, 7, 3), (PositionEncoding::Utf8, 9, 4)] {
            let view = LineIndex { text, lines: &lines, encoding };
            let at = |needle: &str| text.find(needle).expect("it is there");
            assert_eq!(view.position(at("/x")), Position::new(0, apple));
            assert_eq!(view.offset(Position::new(0, apple)), at("/x"));
            assert_eq!(view.position(at("pfel")), Position::new(1, umlaut));
            assert_eq!(view.offset(Position::new(1, umlaut)), at("pfel"));
            // Inside a character, beyond the line, beyond the text.
            assert_eq!(view.offset(Position::new(0, 6)), at("🍏"));
            assert_eq!(view.offset(Position::new(0, 99)), at("\r\n"));
            assert_eq!(view.offset(Position::new(99, 0)), text.len());
            let all = (0..=text.len()).filter(|at| text.is_char_boundary(*at) && !text[..*at].ends_with('\r'));
            all.for_each(|at| assert_eq!(view.offset(view.position(at)), at));
        }
    }
}
