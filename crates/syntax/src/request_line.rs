//! The request line and the header fields.

use super::file::{Field, RequestLine, Version};
use yieldtray_source::{Code, Problem, Span, scan};

/// Header fields that the connection writes itself (RFC 9112 6, RFC 9110 7.6.1).
const CONNECTION_FIELDS: &[&str] = &["content-length", "transfer-encoding", "connection"];

/// Whether a word is a token (RFC 9110 5.6.2), as methods and names of header fields are.
pub fn is_token(word: &str) -> bool {
    !word.is_empty() && word.bytes().all(|b| b.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(&b))
}

/// The words of a line: white space inside `{{ }}` does not split.
fn words(text: &str, line: Span) -> Vec<Span> {
    let bytes = text.as_bytes();
    let mut words = Vec::with_capacity(3);
    let mut at = line.start();
    while at < line.end() {
        if bytes[at].is_ascii_whitespace() {
            at += 1;
            continue;
        }
        let start = at;
        while at < line.end() && !bytes[at].is_ascii_whitespace() {
            let mark = bytes[at..line.end()].starts_with(b"{{").then(|| scan::mark_end(&text[..line.end()], at + 2));
            at = mark.flatten().map_or(at + 1, |close| close + 2);
        }
        words.push(Span::new(start, at));
    }
    words
}

/// Reads a request line; `None` where it is too broken to send.
pub(super) fn parse(text: &str, line: Span, problems: &mut Vec<Problem>) -> Option<RequestLine> {
    let span = line.trimmed(text);
    let words = words(text, span);
    let (method, rest) = match words.as_slice() {
        [first, rest @ ..] if !rest.is_empty() && is_token(first.of(text)) => (Some(*first), rest),
        // A bare verb has nothing to be sent to.
        [only] if is_token(only.of(text)) && only.of(text).bytes().all(|b| b.is_ascii_uppercase()) => {
            problems.push(
                Problem::error(Code::BadRequestLine, *only, "the URL is missing after the method")
                    .with_hint(format!("for example `{} /lots`", only.of(text))),
            );
            return None;
        }
        all => (None, all),
    };
    let (version, target_words) = match rest {
        [target @ .., last] if !target.is_empty() && last.of(text).starts_with("HTTP/") => {
            (Some(version(text, *last, problems)?), target)
        }
        all => (None, all),
    };
    let target = Span::new(target_words.first()?.start(), target_words.last()?.end());
    if target_words.len() > 1 {
        let blank = Span::new(target_words[0].end(), target_words[1].start());
        let encoded = target_words.iter().map(|word| word.of(text)).collect::<Vec<_>>().join("%20");
        problems.push(
            Problem::error(Code::BadRequestLine, blank, "unencoded space in the URL")
                .with_hint(format!("write `{encoded}`")),
        );
        return None;
    }
    if let Some(method) = method {
        let word = method.of(text);
        let upper = word.to_ascii_uppercase();
        if word != upper && ["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"].contains(&upper.as_str()) {
            problems.push(
                Problem::info(
                    Code::Assumption,
                    method,
                    format!("sending method `{word}`; HTTP methods are case-sensitive"),
                )
                .with_hint(format!("use `{upper}`")),
            );
        }
    }
    Some(RequestLine { span, method, target, version })
}

fn version(text: &str, word: Span, problems: &mut Vec<Problem>) -> Option<Version> {
    match word.of(text) {
        "HTTP/1.1" => Some(Version::Http11),
        "HTTP/2" | "HTTP/2.0" => Some(Version::Http2),
        other => {
            problems.push(
                Problem::error(Code::BadRequestLine, word, format!("unsupported HTTP version `{other}`"))
                    .with_hint("use `HTTP/1.1` or `HTTP/2`, or omit it"),
            );
            None
        }
    }
}

/// Parses a header line; `None` if a problem was reported.
pub(super) fn field(text: &str, span: Span, problems: &mut Vec<Problem>) -> Option<Field> {
    let line = span.of(text);
    if line.starts_with([' ', '\t']) {
        problems.push(
            Problem::error(Code::BadHeader, span.trimmed(text), "header line begins with a space")
                .with_hint("write the whole header on one line: line folding is obsolete (RFC 9112 5.2)"),
        );
        return None;
    }
    let Some(colon) = memchr::memchr(b':', line.as_bytes()) else {
        problems.push(
            Problem::error(Code::BadHeader, span, "expected a header, `Name: value`")
                .with_hint("add an empty line between the headers and the body"),
        );
        return None;
    };
    let name = span.part(0, colon);
    let value = span.part(colon + 1, line.len()).trimmed(text);
    if let Err(problem) = check_field_name(text, name).and_then(|()| check_field_value(text, value)) {
        problems.push(problem);
        return None;
    }
    Some(Field { span, name, value })
}

/// Parses `Name: value` from an option; a name alone has an empty value.
/// # Errors
/// A problem without a place.
pub fn typed_field(line: &str) -> Result<(&str, &str), Problem> {
    let colon = line.find(':').unwrap_or(line.len());
    check_field_name(line, Span::new(0, colon))?;
    let value = line[colon..].trim_start_matches(':').trim();
    if value.contains(|c: char| c.is_control()) {
        let message = format!("the value of `{}` contains a control character", &line[..colon]);
        return Err(Problem::error(Code::BadHeader, Span::default(), message));
    }
    Ok((&line[..colon], value))
}

/// The first control character of a text, but for the tab, which header fields may hold (RFC 9110 5.5).
pub fn control_in_field(value: &str) -> Option<char> {
    value.chars().find(|c| c.is_ascii_control() && *c != '\t')
}

/// Whether a header may have this value as it is written.
pub(super) fn check_field_value(text: &str, value: Span) -> Result<(), Problem> {
    let Some(odd) = control_in_field(value.of(text)) else { return Ok(()) };
    let message = format!("the header contains the control character U+{:04X}", odd as u32);
    Err(Problem::error(Code::BadHeader, value, message)
        .with_hint("remove it: headers cannot contain control characters (RFC 9110 5.5)"))
}

/// Whether a header may be named so.
pub(super) fn check_field_name(text: &str, name: Span) -> Result<(), Problem> {
    let word = name.of(text);
    if CONNECTION_FIELDS.iter().any(|owned| owned.eq_ignore_ascii_case(word)) {
        return Err(Problem::error(Code::ConnectionHeader, name, format!("`{word}` is set automatically"))
            .with_hint("remove the line, or comment it out with `#`"));
    }
    if is_token(word) {
        return Ok(());
    }
    let hint = if word.ends_with([' ', '\t']) && is_token(word.trim_end()) {
        format!("remove the space before the colon: `{}:`", word.trim_end())
    } else if word.trim_start().starts_with(['{', '[', '"']) {
        "add an empty line between the headers and the body".to_owned()
    } else {
        "a header name cannot contain spaces or any of `\"(),/:;<=>?@[\\]{}` (RFC 9110 5.1)".to_owned()
    };
    Err(Problem::error(Code::BadHeader, name, format!("`{}` is not a valid header name", word.trim())).with_hint(hint))
}
