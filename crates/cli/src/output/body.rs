//! A response's body: pretty-printed and highlighted for a person, the received bytes for a program.

use crate::styles::Styles;
use anstyle::{AnsiColor, Style};
use yieldtray_http::layout::{LayoutPiece, pretty_print};
use yieldtray_http::{BodyKind, Exchange};
use yieldtray_source::escape::escape_terminal;
use yieldtray_workspace::secret::Masker;

/// The body for a person at a terminal: pretty-printed, highlighted, with a line end; or why it is not shown.
pub(crate) fn readable(exchange: &Exchange, masker: &Masker, styles: Styles) -> String {
    if exchange.size == 0 {
        return String::new();
    }
    if !exchange.is_body_complete() {
        return styles.dim("the body was written only to its file") + "\n";
    }
    if let BodyKind::Binary(kind, pixels) = exchange.body_kind() {
        let pixels = pixels.map(|(width, height)| format!("{width} × {height} pixels, ")).unwrap_or_default();
        let size = size(exchange.size);
        let message =
            format!("{}, {pixels}{size}: binary, not shown; use `--output FILE` to save it", escape_terminal(&kind));
        return styles.dim(&message) + "\n";
    }
    let text = exchange.text();
    let text = masker.mask(&text);
    let painted = painted(&text, &exchange.media_type(), styles, false);
    let mut formatted = painted.unwrap_or_else(|| escape_terminal(&text).into_owned());
    if !formatted.ends_with('\n') {
        formatted.push('\n');
    }
    formatted
}

/// A text laid out and in colors, as its media type allows; `None` if it does not. With `one_line` it stays on its line.
pub(crate) fn painted(text: &str, media_type: &str, styles: Styles, one_line: bool) -> Option<String> {
    let mut formatted = String::with_capacity(text.len() + text.len() / 2);
    let painter = Painter::new(styles);
    let done = pretty_print(text, media_type, |piece, text| match piece {
        LayoutPiece::Space if one_line => {}
        _ => painter.paint(&mut formatted, piece, text),
    });
    done.then_some(formatted)
}

/// Writes pieces in their colors. What starts and ends a colour is made once.
struct Painter([Option<(String, String)>; 6]);

impl Painter {
    fn new(styles: Styles) -> Self {
        let colors = |style: Style| styles.has_color().then(|| (style.to_string(), format!("{style:#}")));
        let colour = |colour: AnsiColor| colors(colour.on_default());
        Self([
            colour(AnsiColor::Cyan),
            colour(AnsiColor::Green),
            colour(AnsiColor::Yellow),
            colour(AnsiColor::Magenta),
            colour(AnsiColor::Blue),
            colors(Style::new().dimmed()),
        ])
    }

    fn paint(&self, out: &mut String, piece: LayoutPiece, text: &str) {
        let colors = match piece {
            LayoutPiece::Key => &self.0[0],
            LayoutPiece::Text => &self.0[1],
            LayoutPiece::Number => &self.0[2],
            LayoutPiece::Word => &self.0[3],
            LayoutPiece::Element => &self.0[4],
            LayoutPiece::Aside => &self.0[5],
            LayoutPiece::Mark | LayoutPiece::Space => return out.push_str(text),
        };
        let Some((start, end)) = colors.as_ref().filter(|_| !text.is_empty()) else {
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
