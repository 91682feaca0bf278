//! Response heads that violate HTTP/1.1 (RFC 9110, RFC 9112): the line, and why.

use yieldtray_source::escape::escape_line;

/// The longest piece of a line that is shown, in characters.
const MAX_QUOTED_CHARS: usize = 80;

/// The maximum number of header fields of a response.
pub(crate) const MAX_FIELDS: usize = 100;

/// The violation in a head that the HTTP library refused.
pub(crate) enum Wrong {
    /// It does not begin as HTTP does: the first line.
    NotHttp(String),
    /// A line breaks a rule: which line and rule.
    Line(String),
}

/// The violation in the head of a response, if it is found.
pub(crate) fn what_is_wrong(head: &[u8]) -> Option<Wrong> {
    let mut lines = lines(head);
    let (_, first) = lines.next()?;
    if !first.starts_with(b"HTTP/") {
        return Some(Wrong::NotHttp(shown(first)));
    }
    if let Some(rule) = status_line_rule(first) {
        return Some(Wrong::Line(format!("the status line `{}` {rule}", shown(first))));
    }
    let lengths: Vec<(usize, &[u8])> = lines
        .clone()
        .filter(|(_, line)| name_of(line).is_some_and(|name| name.eq_ignore_ascii_case(b"content-length")))
        .collect();
    if let Some((number, line, rule)) = lines.find_map(|(number, line)| Some((number, line, field_rule(line)?))) {
        return Some(Wrong::Line(format!("line {number}, `{}`, {rule}", shown(line))));
    }
    let value = |line: &[u8]| value_of(line).trim_ascii().to_vec();
    let is_number = |line: &[u8]| value(line).split(|b| *b == b',').all(|it| is_digits(it.trim_ascii()));
    if let Some((number, line)) = lengths.iter().find(|(_, line)| !is_number(line)) {
        return Some(Wrong::Line(format!("line {number}, `{}`, is not a valid length (RFC 9110 8.6)", shown(line))));
    }
    let different = lengths.windows(2).find(|two| value(two[0].1) != value(two[1].1))?;
    let [(first, one), (second, other)] = [different[0], different[1]];
    Some(Wrong::Line(format!(
        "lines {first} and {second}, `{}` and `{}`, contradict each other about the length (RFC 9112 6.3)",
        shown(one),
        shown(other)
    )))
}

/// The lines of a head that the HTTP library passed over, each with what is wrong with it.
pub(crate) fn passed_over(head: &[u8]) -> Vec<String> {
    let message = |(number, line): (usize, &[u8])| {
        let rule = field_rule(line)?;
        Some(format!("line {number} of the response, `{}`, {rule}: ignored", shown(line)))
    };
    lines(head).skip(1).filter_map(message).collect()
}

/// The lines of a head, counted from 1, without their ends.
fn lines(head: &[u8]) -> impl Iterator<Item = (usize, &[u8])> + Clone {
    let end = memchr::memmem::find(head, b"\r\n\r\n").unwrap_or(head.len());
    let lines = head[..end].split(|byte| *byte == b'\n');
    let lines = lines.map(|line| line.strip_suffix(b"\r").unwrap_or(line));
    (1..).zip(lines)
}

fn name_of(line: &[u8]) -> Option<&[u8]> {
    line.split(|byte| *byte == b':').next().filter(|name| name.len() < line.len())
}

fn value_of(line: &[u8]) -> &[u8] {
    name_of(line).map_or(b"", |name| &line[name.len() + 1..])
}

fn is_digits(bytes: &[u8]) -> bool {
    !bytes.is_empty() && bytes.iter().all(u8::is_ascii_digit)
}

fn status_line_rule(line: &[u8]) -> Option<&'static str> {
    let mut parts = line.splitn(3, |byte| *byte == b' ');
    let (version, status) = (parts.next().unwrap_or_default(), parts.next().unwrap_or_default());
    if !matches!(version, b"HTTP/1.1" | b"HTTP/1.0") {
        return Some("has a version that is neither HTTP/1.1 nor HTTP/1.0 (RFC 9112 2.3)");
    }
    if status.len() != 3 || !is_digits(status) {
        return Some("has no three-digit status code (RFC 9112 4)");
    }
    let reason = parts.next().unwrap_or_default();
    has_control(reason).then_some("has a control character in its reason phrase (RFC 9112 4)")
}

/// The violation in the line of a field. A line that begins with white space continues the one before (RFC 9112 5.2).
fn field_rule(line: &[u8]) -> Option<&'static str> {
    if line.first().is_some_and(|byte| matches!(byte, b' ' | b'\t')) {
        return has_control(line).then_some("contains a control character (RFC 9110 5.5)");
    }
    let Some(name) = name_of(line) else { return Some("has no colon (RFC 9112 5)") };
    if name.is_empty() {
        return Some("has no name before its colon (RFC 9112 5)");
    }
    if name.last().is_some_and(|byte| matches!(byte, b' ' | b'\t')) {
        return Some("has a space before its colon (RFC 9112 5.1)");
    }
    if !name.iter().all(|byte| byte.is_ascii_alphanumeric() || b"!#$%&'*+-.^_`|~".contains(byte)) {
        return Some("has an invalid character in its name (RFC 9110 5.1)");
    }
    has_control(value_of(line)).then_some("contains a control character (RFC 9110 5.5)")
}

fn has_control(bytes: &[u8]) -> bool {
    bytes.iter().any(|byte| (*byte < b' ' && *byte != b'\t') || *byte == 0x7f)
}

/// A line as it can be shown.
fn shown(line: &[u8]) -> String {
    let text = escape_line(&String::from_utf8_lossy(line)).into_owned();
    match text.char_indices().nth(MAX_QUOTED_CHARS) {
        Some((at, _)) => format!("{}…", &text[..at]),
        None => text,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_line_that_breaks_a_rule_is_named() {
        for (head, message) in [
            ("SSH-2.0-gate\r\n", "SSH-2.0-gate"),
            ("HTTP/3 200 OK\r\n\r\n", "neither HTTP/1.1 nor"),
            ("HTTP/1.1 20 OK\r\n\r\n", "three-digit status code"),
            ("HTTP/1.1 200 O\u{1}K\r\n\r\n", "the status line `HTTP/1.1 200 O\\u{1}K` has a control character"),
            ("HTTP/1.1 200 OK\r\nA: 1\r\nnothing\r\n\r\n", "line 3, `nothing`, has no colon"),
            ("HTTP/1.1 200 OK\r\nX-Lot : 1\r\n\r\n", "line 2, `X-Lot : 1`, has a space before its colon"),
            ("HTTP/1.1 200 OK\r\nX Lot: 1\r\n\r\n", "has an invalid character in its name"),
            ("HTTP/1.1 200 OK\r\nContent-Length: two\r\n\r\n", "is not a valid length"),
            ("HTTP/1.1 200 OK\r\nContent-Length: 2\r\nA: 1\r\ncontent-length: 3\r\n\r\n", "lines 2 and 4"),
        ] {
            let message_of = match what_is_wrong(head.as_bytes()) {
                Some(Wrong::NotHttp(line) | Wrong::Line(line)) => line,
                None => panic!("{head:?} is taken for right"),
            };
            assert!(message_of.contains(message), "{head:?}: {message_of}");
        }
        let right = "HTTP/1.1 200 OK\r\nX-Lot: 1\r\n and 2\r\nContent-Length: 2\r\nContent-Length: 2\r\n\r\n\u{1}";
        assert!(what_is_wrong(right.as_bytes()).is_none() && passed_over(right.as_bytes()).is_empty());
        assert_eq!(
            passed_over(b"HTTP/1.1 200 OK\r\nSet-Cookie: a=\x01b\r\nA: 1\r\n\r\n\x01"),
            ["line 2 of the response, `Set-Cookie: a=\\u{1}b`, contains a control character (RFC 9110 5.5): ignored"]
        );
    }
}
