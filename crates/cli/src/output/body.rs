//! A response's body: pretty-printed and highlighted for a person, the received bytes for a program.

use crate::output::styles::Styles;
use anstyle::{AnsiColor, Style};
use std::io::{self, Write};
use yieldtray_http::layout::{LayoutPiece, pretty_print};
use yieldtray_http::{BodyKind, Exchange};
use yieldtray_source::escape::escape_terminal;
use yieldtray_workspace::secret::Masker;

/// Writes the body for a person at a terminal.
pub(crate) fn for_a_person(out: &mut impl Write, exchange: &Exchange, masker: &Masker, look: Styles) -> io::Result<()> {
    if exchange.size == 0 {
        return Ok(());
    }
    if !exchange.holds_body() {
        return writeln!(out, "{}", look.faint("the body was written to its file only"));
    }
    if let BodyKind::Binary(kind, pixels) = exchange.nature() {
        let pixels = pixels.map(|(width, height)| format!("{width} × {height} pixels, ")).unwrap_or_default();
        let size = size(exchange.size);
        let words =
            format!("{}, {pixels}{size}: not text, so not shown; `--out FILE` keeps it", escape_terminal(&kind));
        return writeln!(out, "{}", look.faint(&words));
    }
    let text = exchange.text();
    let text = masker.mask(&text);
    let mut laid_out = String::with_capacity(text.len() + text.len() / 2);
    let painter = Painter::new(look);
    let done = pretty_print(&text, &exchange.media_type(), |piece, text| painter.paint(&mut laid_out, piece, text));
    let shown = if done { laid_out.as_str() } else { &*escape_terminal(&text) };
    out.write_all(shown.as_bytes())?;
    if shown.ends_with('\n') { Ok(()) } else { out.write_all(b"\n") }
}

/// Writes the body for a program: the received bytes, secrets masked.
pub(crate) fn for_a_program(out: &mut impl Write, exchange: &Exchange, masker: &Masker) -> io::Result<()> {
    out.write_all(&masker.mask_bytes(&exchange.body))
}

/// Writes pieces in their colours. What starts and ends a colour is made once.
struct Painter([Option<(String, String)>; 6]);

impl Painter {
    fn new(look: Styles) -> Self {
        let colours = |style: Style| look.is_coloured().then(|| (style.to_string(), format!("{style:#}")));
        let colour = |colour: AnsiColor| colours(colour.on_default());
        Self([
            colour(AnsiColor::Cyan),
            colour(AnsiColor::Green),
            colour(AnsiColor::Yellow),
            colour(AnsiColor::Magenta),
            colour(AnsiColor::Blue),
            colours(Style::new().dimmed()),
        ])
    }

    fn paint(&self, out: &mut String, piece: LayoutPiece, text: &str) {
        let colours = match piece {
            LayoutPiece::Key => &self.0[0],
            LayoutPiece::Text => &self.0[1],
            LayoutPiece::Number => &self.0[2],
            LayoutPiece::Word => &self.0[3],
            LayoutPiece::Element => &self.0[4],
            LayoutPiece::Aside => &self.0[5],
            LayoutPiece::Mark | LayoutPiece::Space => return out.push_str(text),
        };
        let Some((start, end)) = colours.as_ref().filter(|_| !text.is_empty()) else {
            return out.push_str(&escape_terminal(text));
        };
        out.push_str(start);
        out.push_str(&escape_terminal(text));
        out.push_str(end);
    }
}

/// A number of bytes, to be read.
pub(crate) fn size(bytes: u64) -> String {
    match bytes {
        0..1024 => format!("{bytes} B"),
        1024..1_048_576 => format!("{:.1} KiB", bytes as f64 / 1024.0),
        1_048_576..1_073_741_824 => format!("{:.1} MiB", bytes as f64 / 1_048_576.0),
        _ => format!("{:.2} GiB", bytes as f64 / 1_073_741_824.0),
    }
}
