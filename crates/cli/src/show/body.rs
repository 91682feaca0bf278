//! A response's body: laid out and coloured for a person, the bytes as they came for a program.

use super::look::Look;
use super::safe::safe;
use anstyle::{AnsiColor, Style};
use std::io::{self, Write};
use yieldtray_core::response::{Exchange, Piece, lay_out_json};
use yieldtray_core::secret::Masker;

/// Writes the body for a person at a terminal.
pub(crate) fn for_a_person(out: &mut impl Write, exchange: &Exchange, masker: &Masker, look: Look) -> io::Result<()> {
    if exchange.body.is_empty() {
        return Ok(());
    }
    let Ok(text) = std::str::from_utf8(&exchange.body) else {
        let kind = match exchange.media_type() {
            kind if kind.is_empty() => "of no media type".to_owned(),
            kind => kind,
        };
        let words = format!("{}, {}: not text, so not shown; `--out FILE` keeps it", kind, size(exchange.body.len()));
        return writeln!(out, "{}", look.faint(&words));
    };
    let text = masker.mask(text);
    let mut laid_out = String::with_capacity(text.len() + text.len() / 4);
    let is_json =
        text.starts_with(['{', '[']) && lay_out_json(&text, |piece, text| paint(&mut laid_out, piece, text, look));
    let shown = if is_json { laid_out.as_str() } else { &*safe(&text) };
    out.write_all(shown.as_bytes())?;
    if shown.ends_with('\n') { Ok(()) } else { out.write_all(b"\n") }
}

/// Writes the body for a program: the bytes as they came, secrets masked.
pub(crate) fn for_a_program(out: &mut impl Write, exchange: &Exchange, masker: &Masker) -> io::Result<()> {
    out.write_all(&masker.mask_bytes(&exchange.body))
}

fn paint(out: &mut String, piece: Piece, text: &str, look: Look) {
    let style = match piece {
        Piece::Key => AnsiColor::Cyan.on_default(),
        Piece::Text => AnsiColor::Green.on_default(),
        Piece::Number => AnsiColor::Yellow.on_default(),
        Piece::Word => AnsiColor::Magenta.on_default(),
        Piece::Mark | Piece::Space => Style::new(),
    };
    if piece == Piece::Space {
        out.push_str(text);
    } else {
        out.push_str(&look.paint(style, &safe(text)));
    }
}

/// A number of bytes, to be read.
pub(crate) fn size(bytes: usize) -> String {
    match bytes {
        0..1024 => format!("{bytes} B"),
        1024..1_048_576 => format!("{:.1} KiB", bytes as f64 / 1024.0),
        _ => format!("{:.1} MiB", bytes as f64 / 1_048_576.0),
    }
}
