//! Writes a request as a cell.

use super::{Body, ImportedRequest, Part, RequestError};
use yieldtray_syntax::{ValuePiece, ValueText, is_token, media_at_end};

/// Header fields that the connection writes itself.
const CONNECTION: &[&str] = &["content-length", "transfer-encoding", "connection"];

impl ImportedRequest {
    /// The cell that sends it, not formatted.
    ///
    /// # Errors
    /// Why there is no such cell.
    pub fn cell(&self) -> Result<String, RequestError> {
        let mut out = String::with_capacity(512);
        out.push_str(&format!("%% {}\n", self.title()));
        for note in &self.notes {
            for line in note.lines() {
                out.push_str(&comment(line));
            }
        }
        if let Some(name) = &self.name {
            out.push_str(&format!("% name {name}\n"));
        }
        for line in &self.lines {
            out.push_str(&format!("{line}\n"));
        }
        if let Some((kind, words)) = &self.auth {
            let words: Vec<String> = words.iter().map(word).collect();
            out.push_str(&format!("% auth {kind} {}\n", words.join(" ")));
        }
        for (name, value) in &self.parameters {
            out.push_str(&format!("% query {} = {}\n", name_on_line(name), on_line(value)));
        }
        self.body_lines(&mut out);
        out.push_str(&self.request_line()?);
        for (name, value) in &self.headers {
            let name = name.plain().filter(|name| is_token(name));
            let name = name.ok_or(RequestError::HeaderName)?;
            if CONNECTION.iter().any(|own| own.eq_ignore_ascii_case(name)) {
                continue;
            }
            out.push_str(&format!("{name}: {}\n", field_value(name, value)?));
        }
        if let Body::Text(text) = &self.body
            && !text.is_empty()
        {
            out.push_str(&format!("\n{}\n", body(text)));
        }
        if !self.tail.is_empty() {
            out.push_str(&format!("\n{}\n", self.tail.join("\n")));
        }
        Ok(out)
    }

    /// The title.
    pub fn title(&self) -> String {
        let title = self.title.trim();
        if !title.is_empty() {
            return plain(title);
        }
        let method = self.method.as_ref().and_then(ValueText::plain).unwrap_or("GET");
        let target = shown(&self.target);
        let rest = target.split_once("://").map_or(target.as_str(), |(_, rest)| rest);
        let path = rest.find('/').map_or("/", |at| &rest[at..]);
        let path = path.split(['?', '#']).next().unwrap_or(path);
        plain(&format!("{method} {path}"))
    }

    fn request_line(&self) -> Result<String, RequestError> {
        let method = match &self.method {
            Some(method) => method.plain().filter(|word| is_token(word)).ok_or(RequestError::Method)?,
            None => "GET",
        };
        let mut target = address(&self.target);
        if !target.contains("://") && !target.starts_with("{{") && !target.starts_with('/') {
            target.insert_str(0, "http://");
        }
        for (index, parameter) in self.query.iter().enumerate() {
            target.push(if index == 0 && !target.contains('?') { '?' } else { '&' });
            target.push_str(&address(parameter));
        }
        let version = self.version.map(|version| format!(" {version}")).unwrap_or_default();
        Ok(format!("{method} {target}{version}\n"))
    }

    fn body_lines(&self, out: &mut String) {
        match &self.body {
            Body::File(path) => out.push_str(&format!("% body from {} verbatim\n", word(path))),
            Body::Parts(parts) => {
                for (name, part) in parts {
                    let name = name_on_line(name);
                    out.push_str(&match part {
                        Part::Text(text, media) => part_text(&name, text, media.as_deref()),
                        Part::File { path, media, name: own } => {
                            let media = media.as_ref().map(|media| format!(" type {}", word(&media.as_str().into())));
                            let media = media.unwrap_or_default();
                            let own = own.as_ref().map(|own| format!(" as {}", word(&own.as_str().into())));
                            format!("% part {name} from {}{media}{}\n", word(path), own.unwrap_or_default())
                        }
                    });
                }
            }
            Body::None | Body::Text(_) | Body::Bytes(_) => {}
        }
    }
}

/// `% part NAME = TEXT [type MEDIA]`
fn part_text(name: &str, text: &ValueText, media: Option<&str>) -> String {
    let text = on_line(text);
    match media.filter(|media| media_at_end(&format!("x type {media}")).is_some()) {
        Some(media) => format!("% part {name} = {text} type {media}\n"),
        // A text that only looks like a media type.
        None if media_at_end(&text).is_some() => format!("% part {name} = {text}{{{{\"\"}}}}\n"),
        None => format!("% part {name} = {text}\n"),
    }
}

/// A line of a comment that stays one, whatever it says: it accepts no finding either.
pub(crate) fn comment(line: &str) -> String {
    let line = plain(line);
    let dash = if line.trim_start().starts_with("accepted") { "- " } else { "" };
    format!("{}\n", format!("# {dash}{line}").trim_end())
}

/// Text for a line that means nothing.
fn plain(text: &str) -> String {
    text.replace(|c: char| c.is_control(), " ")
}

/// A text as a person reads it.
fn shown(text: &ValueText) -> String {
    let piece = |piece: &ValuePiece| match piece {
        ValuePiece::Literal(text) => text.clone(),
        ValuePiece::Value(expression) => format!("{{{{{expression}}}}}"),
    };
    text.pieces().iter().map(piece).collect()
}

/// A text as a literal of an expression.
fn literal(text: &str) -> String {
    // The escapes of JSON are also those of expressions; a byte order mark would be invisible.
    serde_json::Value::from(text).to_string().replace('\u{feff}', "\\ufeff")
}

/// The same, written as it is.
fn raw(text: &str) -> String {
    format!("raw({})", literal(text))
}

/// Writes a literal as an expression if it cannot be in a file as it is. `odd` returns true for each character that
/// must be escaped.
fn without<F>(text: &ValueText, odd: F, value: fn(&str) -> String) -> ValueText
where
    F: Fn(&str, Ends) -> Box<dyn Fn(usize, char) -> bool>,
{
    let mut kept = ValueText::default();
    for (index, piece) in text.pieces().iter().enumerate() {
        let ValuePiece::Literal(own) = piece else {
            kept.push_piece(piece.clone());
            continue;
        };
        let odd = odd(own, Ends { first: index == 0, last: index + 1 == text.pieces().len() });
        // Runs of such characters, and the text between them.
        let (mut from, mut inside) = (0, false);
        for (at, c) in own.char_indices() {
            let is_odd = odd(at, c);
            if is_odd != inside {
                match inside {
                    true => kept.push_value(value(&own[from..at])),
                    false => kept.push_str(&own[from..at]),
                }
                (from, inside) = (at, is_odd);
            }
        }
        match inside {
            true => kept.push_value(value(&own[from..])),
            false => kept.push_str(&own[from..]),
        }
    }
    kept
}

/// Whether a literal begins or ends a text.
#[derive(Clone, Copy)]
struct Ends {
    first: bool,
    last: bool,
}

/// A text with its marks; with `lines`, one of many lines, none of which may look like an instruction.
fn written(text: &ValueText, lines: bool, mark: impl Fn(&str, bool) -> String) -> String {
    let mut out = String::new();
    for (index, piece) in text.pieces().iter().enumerate() {
        let own = match piece {
            ValuePiece::Value(expression) => {
                out.push_str(&mark(expression, index == 0));
                continue;
            }
            ValuePiece::Literal(own) => own,
        };
        // The text before a placeholder must not become a part of it.
        let before_mark = index + 1 < text.pieces().len();
        let end = if before_mark { own.trim_end_matches(['{', '\\']).len() } else { own.len() };
        if lines && own[..end].starts_with('%') && (out.is_empty() || out.ends_with('\n')) {
            out.push('\\');
        }
        let escaped = own[..end].replace("{{", "\\{{");
        out.push_str(&if lines { escaped.replace("\n%", "\n\\%") } else { escaped });
        if end < own.len() {
            out.push_str(&format!("{{{{{}}}}}", raw(&own[end..])));
        }
    }
    out
}

/// A value that is written unchanged.
fn plain_mark(expression: &str, _first: bool) -> String {
    format!("{{{{{expression}}}}}")
}

/// A value where others are encoded: one of the process's environment is written as it is, as a shell does;
/// one that was made for its place says itself how it is written.
fn own_mark(expression: &str, first: bool) -> String {
    match expression.starts_with("env.") && !first {
        true => format!("{{{{raw({expression})}}}}"),
        false => format!("{{{{{expression}}}}}"),
    }
}

/// Text up to the end of its line. Parts that would be lost are written as placeholders.
fn on_line(text: &ValueText) -> String {
    let odd = |own: &str, ends: Ends| -> Box<dyn Fn(usize, char) -> bool> {
        let blank = [' ', '\t'];
        let start = if ends.first { own.len() - own.trim_start_matches(blank).len() } else { 0 };
        let end = if ends.last { own.trim_end_matches(blank).len() } else { own.len() };
        Box::new(move |at, c| at < start || at >= end || c.is_control() && c != '\t')
    };
    written(&without(text, odd, literal), false, plain_mark)
}

/// One word of a line, in quotes if it contains white space.
fn word(text: &ValueText) -> String {
    let odd = |_: &str, _: Ends| -> Box<dyn Fn(usize, char) -> bool> { Box::new(|_, c| c == '"' || c.is_control()) };
    let written = written(&without(text, odd, literal), false, plain_mark);
    match written.is_empty() || written.contains(' ') {
        true => format!("\"{written}\""),
        false => written,
    }
}

/// A name before a `=` or another word.
fn name_on_line(text: &ValueText) -> String {
    let odd = |c: char| !c.is_alphanumeric() && !matches!(c, '-' | '_' | '.' | '[' | ']');
    match text.plain() {
        Some(plain) if plain.is_empty() || plain.contains(odd) => format!("{{{{{}}}}}", literal(plain)),
        _ => on_line(text),
    }
}

/// The value of a header field.
fn field_value(name: &str, text: &ValueText) -> Result<String, RequestError> {
    let written = written(text, false, plain_mark);
    match written.contains(|c: char| c.is_control() && c != '\t') {
        true => Err(RequestError::HeaderValue(name.to_owned())),
        // An empty one would drop what a file above gives.
        false if written.trim().is_empty() => Ok("{{\"\"}}".to_owned()),
        false => Ok(written.trim().to_owned()),
    }
}

/// A URL or a part of one.
fn address(text: &ValueText) -> String {
    let encoded = text.map(|own| {
        let odd = |c: char| c == ' ' || c.is_ascii_control();
        let encode = |c: char| if odd(c) { format!("%{:02X}", c as u32) } else { c.to_string() };
        own.trim().chars().map(encode).collect()
    });
    written(&encoded, false, own_mark)
}

/// A body, which must come out as it went in.
fn body(text: &ValueText) -> String {
    if let Some(plain) = text.plain().filter(|plain| is_plain(plain)) {
        return plain.to_owned();
    }
    let odd = |own: &str, ends: Ends| -> Box<dyn Fn(usize, char) -> bool> {
        // Blank lines at the end are not sent, and those at the beginning are easily lost.
        let start = if ends.first { own.len() - own.trim_start_matches(['\n', '\r']).len() } else { 0 };
        let trimmed = own.trim_end_matches(['\n', '\r', ' ', '\t']).len();
        let blank_end = ends.last && (own[trimmed..].contains('\n') || trimmed == 0 && ends.first);
        let end = if blank_end { trimmed } else { own.len() };
        // A backslash before a `%` that begins a line would not be sent.
        let escapes = own.match_indices("\\%").map(|(at, _)| at);
        let begins = |at: &usize| if *at == 0 { ends.first } else { own.as_bytes()[at - 1] == b'\n' };
        let escapes: Vec<usize> = escapes.filter(begins).collect();
        Box::new(move |at, c| {
            let shown = at >= start && at < end && (!c.is_control() || c == '\t' || c == '\n');
            !shown || c == '\u{feff}' || escapes.contains(&at)
        })
    };
    written(&without(text, odd, raw), true, own_mark)
}

/// True if a body can be in a file as it is, as most can.
fn is_plain(body: &str) -> bool {
    let odd = |byte: u8| byte.is_ascii_control() && byte != b'\n' && byte != b'\t';
    let begins_line = |at: usize| at == 0 || body.as_bytes()[at - 1] == b'\n';
    // Control characters beyond ASCII, and the mark of byte order, begin with these bytes.
    let rare = |byte: u8| matches!(byte, 0xC2 | 0xEF);
    !body.bytes().any(|byte| odd(byte) || rare(byte))
        && !body.contains("{{")
        && !memchr::memchr_iter(b'%', body.as_bytes()).any(|at| begins_line(at) || body.as_bytes()[at - 1] == b'\\')
        && !body.starts_with('\n')
        && !body.ends_with(['\n', ' ', '\t'])
}
