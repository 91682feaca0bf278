//! Lines of a body that were probably meant as something else: an instruction, another request, a separator. In a
//! body they would be sent, and a check among them would never be evaluated.

use super::instruction::{is_word, meant_word};
use yieldtray_source::{Code, Problem, Span};

/// Methods that a request line may begin with where it is not expected.
const METHODS: &[&str] = &["GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS"];

/// The lines of `body` that were probably not meant for it. `method` is that of its request.
pub(super) fn check(text: &str, body: Span, method: &str, problems: &mut Vec<Problem>) {
    // These requests rarely have a body: a line in one that looks like an instruction is unlikely to be meant as a
    // body.
    let bare = matches!(method, "GET" | "HEAD" | "DELETE");
    let mut at = body.start();
    let mut separator: Option<Span> = None;
    for line in body.of(text).split_inclusive('\n') {
        let span = Span::new(at, at + line.trim_end_matches(['\n', '\r']).len());
        at += line.len();
        let own = span.of(text);
        let Some(first) = own.bytes().next() else { continue };
        match first {
            b'%' => problems.extend(instruction(text, span)),
            b' ' | b'\t' if own.trim_start().starts_with("%%") => problems.push(indented(text, span)),
            b'A'..=b'Z' if is_request_line(own) => problems.push(request(span, separator, bare)),
            _ => {}
        }
        if is_separator(own) {
            separator = Some(span);
        } else if !own.trim().is_empty() {
            separator = None;
        }
    }
}

/// `%check …` without a space, or `% word …` with an unknown keyword.
fn instruction(text: &str, line: Span) -> Option<Problem> {
    let own = line.of(text);
    let rest = own[1..].trim_start();
    let blank = own.len() - 1 - rest.len();
    let end = rest.find(|c: char| !c.is_ascii_alphanumeric() && c != '_').unwrap_or(rest.len());
    let (word, after) = rest.split_at(end);
    let separate = after.is_empty() || after.starts_with([' ', '\t']);
    if rest.starts_with('%') && blank > 0 {
        let marks = line.part(0, 2 + blank);
        let problem = Problem::error(Code::SwallowedText, marks, "this line is part of the body, not a new request");
        return Some(problem.with_hint("write `%%` without a space to begin a request").with_replacement("%%"));
    }
    if word.is_empty() || !separate || !word.starts_with(|c: char| c.is_ascii_lowercase()) {
        return None;
    }
    let span = line.part(0, 1 + blank + word.len());
    let keep = "write `\\%` to send the line as it is";
    if blank == 0 {
        // A percent sign before a word is common in other texts: only words of the language, or likely
        // misspellings of them, are taken for an instruction.
        let meant = if is_word(word) { word } else { meant_word(word)? };
        let message = format!("`%{word}` is part of the body: this line is sent, not interpreted");
        let problem = Problem::error(Code::SwallowedText, span, message);
        return Some(problem.with_hint(format!("write `% {meant}`; {keep}")).with_replacement(format!("% {meant}")));
    }
    let message = format!("`% {word}` is not an instruction, so this line is part of the body and sent");
    let problem = Problem::warning(Code::SwallowedText, span, message);
    Some(problem.with_hint(format!("correct it if an instruction was intended; {keep}")))
}

fn indented(text: &str, line: Span) -> Problem {
    let own = line.of(text);
    let blank = own.len() - own.trim_start().len();
    let problem = Problem::warning(
        Code::SwallowedText,
        line.part(0, blank + 2),
        "this line is part of the body, not a new request",
    );
    problem.with_hint("remove the spaces before `%%`").with_replacement("%%")
}

fn request(line: Span, separator: Option<Span>, bare: bool) -> Problem {
    let message = "this looks like a second request, but it is part of the body of the one above";
    let (span, hint) = match separator {
        Some(separator) => (separator, "replace this line with `%% Title` to begin a request"),
        None => (line, "add a line `%% Title` above it; use `% body from FILE` to send text that contains such a line"),
    };
    match bare {
        true => Problem::error(Code::SwallowedText, span, message).with_hint(hint),
        false => Problem::warning(Code::SwallowedText, span, message).with_hint(hint),
    }
}

/// `GET /lots`, `POST http://…`, `GET {{base}}/lots`
fn is_request_line(line: &str) -> bool {
    let mut words = line.split_ascii_whitespace();
    let (Some(method), Some(target)) = (words.next(), words.next()) else { return false };
    let version = words.next();
    METHODS.contains(&method)
        && ["/", "http://", "https://", "{{"].iter().any(|start| target.starts_with(start))
        && words.next().is_none()
        && version.is_none_or(|version| version.starts_with("HTTP/"))
}

/// A line of three or more marks that other files use to keep things apart, with or without a title.
fn is_separator(line: &str) -> bool {
    ['#', '-', '=', '*', '~'].iter().any(|mark| {
        let rest = line.trim_start_matches(*mark);
        line.len() - rest.len() >= 3 && (rest.is_empty() || rest.starts_with([' ', '\t']))
    })
}
