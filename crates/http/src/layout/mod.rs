//! Laying a body out over lines for a person to read. What is written stays the same; only the white
//! space between is ours.

mod form;
mod json;
mod markup;
mod table;

/// The kind of a piece of a pretty-printed body, for highlighting.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LayoutPiece {
    /// The name of a member, an attribute, a column or a form field.
    Key,
    /// A text; in JSON with its quotes.
    Text,
    /// A number.
    Number,
    /// `true`, `false`, `null`.
    Word,
    /// The name of an element.
    Element,
    /// A comment, a declaration.
    Aside,
    /// Brackets, commas, colons.
    Mark,
    /// White space that is ours.
    Space,
}

/// Lays out `text`, which has this media type, and hands each piece on in order. Gives `false`, and hands
/// on nothing, if it does not match the media type, or the media type is not known.
pub fn pretty_print(text: &str, media_type: &str, piece: impl FnMut(LayoutPiece, &str)) -> bool {
    let start = text.trim_start();
    match media_type {
        "text/html" | "application/xhtml+xml" => markup::lay_out(text, true, piece),
        "text/csv" => table::lay_out(text, b',', piece),
        "text/tab-separated-values" => table::lay_out(text, b'\t', piece),
        "application/x-www-form-urlencoded" => form::lay_out(text, piece),
        media if media.ends_with("/xml") || media.ends_with("+xml") => markup::lay_out(text, false, piece),
        _ if start.starts_with(['{', '[']) => json::lay_out(text, piece),
        _ => false,
    }
}

/// The deepest level that is still set further in.
const MAX_INDENT_LEVELS: usize = 64;

fn new_line(depth: usize, piece: &mut impl FnMut(LayoutPiece, &str)) {
    const BLANKS: &str = "                                                                ";
    piece(LayoutPiece::Space, "\n");
    // Nobody reads further in than this, and a hostile document must not become a thousand times as long.
    let mut left = depth.min(MAX_INDENT_LEVELS) * 2;
    while left > 0 {
        let now = left.min(BLANKS.len());
        piece(LayoutPiece::Space, &BLANKS[..now]);
        left -= now;
    }
}
