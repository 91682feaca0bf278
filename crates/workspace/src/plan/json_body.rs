//! Syntax errors in JSON bodies, with placeholders counted as values.

use yieldtray_http::is_json;
use yieldtray_source::{Code, Problem, Span, closest};
use yieldtray_syntax::{Cell, Segment, Template};

/// The first syntax error in the JSON body of a cell.
pub fn find_json_error(text: &str, cell: &Cell) -> Option<Problem> {
    if cell.is_graphql() {
        return None;
    }
    let media = cell.fields.iter().find(|field| field.name.of(text).eq_ignore_ascii_case("content-type"));
    let is_json = match media {
        // Lines of JSON, and the like, are several documents.
        Some(field) => is_json(field.value.of(text).split(';').next().unwrap_or_default().trim()),
        None => cell.body.of(text).trim_start().starts_with(['{', '[']),
    };
    (is_json && !cell.body.is_empty()).then(|| slip(text, cell.body)).flatten()
}

/// The first syntax error in a JSON body; `None` for one that is made of parts.
pub(crate) fn slip(text: &str, body: Span) -> Option<Problem> {
    let template = Template::parse(text, body, true, &mut Vec::new());
    if template.expressions().any(|expression| expression.of(text).starts_with("raw(")) {
        return None;
    }
    let shadow = shadow(text, body, &template);
    let mut reader = Reader { bytes: &shadow, at: 0, start: body.start(), text };
    reader.document().err().map(|problem| *problem)
}

/// Stands for a mark outside a string: a value of any kind.
const MARK: u8 = 0;

/// The body with each placeholder replaced by bytes that stand for its value, at the same offsets.
fn shadow(text: &str, body: Span, template: &Template) -> Vec<u8> {
    let (mut out, mut in_string, mut escaped) = (Vec::with_capacity(body.len()), false, false);
    for segment in &template.segments {
        match segment {
            Segment::Text(span) => {
                for byte in span.of(text).bytes() {
                    match byte {
                        _ if escaped => escaped = false,
                        b'\\' if in_string => escaped = true,
                        b'"' => in_string = !in_string,
                        _ => {}
                    }
                    out.push(byte);
                }
            }
            Segment::Escape(span) => out.extend(std::iter::repeat_n(if in_string { b'x' } else { b' ' }, span.len())),
            Segment::Placeholder { span, .. } => {
                out.extend(std::iter::repeat_n(if in_string { b'x' } else { MARK }, span.len()));
            }
        }
    }
    out
}

type Read = Result<(), Box<Problem>>;

/// Reads a document without recursion, as far as it is one.
struct Reader<'t> {
    bytes: &'t [u8],
    at: usize,
    /// Where the body starts in the text.
    start: usize,
    text: &'t str,
}

#[derive(Clone, Copy, PartialEq)]
enum Inside {
    Object,
    Array,
}

impl Reader<'_> {
    fn document(&mut self) -> Read {
        let mut open: Vec<(Inside, usize)> = Vec::new();
        loop {
            // A value, or the end of an empty list.
            self.blanks();
            let at = self.at;
            match self.peek() {
                Some(b'{') => {
                    self.at += 1;
                    open.push((Inside::Object, at));
                    self.blanks();
                    if self.peek() != Some(b'}') {
                        self.key(&open)?;
                        continue;
                    }
                }
                Some(b'[') => {
                    self.at += 1;
                    open.push((Inside::Array, at));
                    self.blanks();
                    if self.peek() != Some(b']') {
                        continue;
                    }
                }
                _ => self.scalar(&open)?,
            }
            // After a value: closing brackets, then a comma.
            loop {
                self.blanks();
                let Some((inside, _)) = open.last().copied() else {
                    return match self.peek() {
                        None => Ok(()),
                        Some(_) => self.wrong(self.at, self.word(self.at), "expected the end of the JSON body", None),
                    };
                };
                match (inside, self.peek()) {
                    (Inside::Object, Some(b'}')) | (Inside::Array, Some(b']')) => {
                        self.at += 1;
                        open.pop();
                    }
                    (_, Some(b',')) => {
                        self.comma(inside, &open)?;
                        break;
                    }
                    (_, None) => return self.unclosed(&open),
                    (_, Some(b'}' | b']')) => {
                        let close = closing(inside);
                        let message = format!("expected `{close}`, which closes line {}", self.line(&open));
                        return self.wrong(self.at, self.at + 1, &message, Some(close.to_string()));
                    }
                    _ => {
                        let end = self.bytes[..self.at].iter().rposition(|b| !b.is_ascii_whitespace());
                        let end = end.map_or(self.at, |end| end + 1);
                        return self.wrong(end, end, "expected `,` between two values", Some(",".to_owned()));
                    }
                }
            }
        }
    }

    /// A comma, and in an object the key that follows.
    fn comma(&mut self, inside: Inside, open: &[(Inside, usize)]) -> Read {
        let comma = self.at;
        self.at += 1;
        self.blanks();
        match (inside, self.peek()) {
            (_, Some(b'}' | b']')) => self.wrong(comma, comma + 1, "a comma after the last value", Some(String::new())),
            (_, None) => self.unclosed(open),
            (Inside::Object, _) => self.key(open),
            (Inside::Array, _) => Ok(()),
        }
    }

    /// `"key":`
    fn key(&mut self, open: &[(Inside, usize)]) -> Read {
        let at = self.at;
        match self.peek() {
            Some(b'"') => self.string()?,
            Some(MARK) => {
                let end = at + self.run(at, |b| b == MARK);
                let written = format!("\"{}\"", self.shown(at, end));
                return self.wrong(at, end, "JSON keys must be in double quotes", Some(written));
            }
            None => return self.unclosed(open),
            Some(_) => {
                let end = self.word(at);
                let word = self.shown(at, end);
                let bare = word.trim_matches('\'');
                let plain = !bare.is_empty() && bare.chars().all(|c| c.is_alphanumeric() || c == '_' || c == '-');
                return self.wrong(at, end, "JSON keys must be in double quotes", plain.then(|| format!("\"{bare}\"")));
            }
        }
        self.blanks();
        match self.peek() {
            Some(b':') => {
                self.at += 1;
                Ok(())
            }
            None => self.unclosed(open),
            Some(b'=') => self.wrong(self.at, self.at + 1, "expected `:` after a key", Some(":".to_owned())),
            Some(_) => self.wrong(self.at, self.at, "expected `:` after a key", Some(": ".to_owned())),
        }
    }

    fn scalar(&mut self, open: &[(Inside, usize)]) -> Read {
        let at = self.at;
        match self.peek() {
            None if open.is_empty() => self.wrong(at, at, "expected a JSON value", None),
            None => self.unclosed(open),
            Some(b'"') => self.string(),
            Some(MARK) => {
                // Digits beside a mark make one number.
                self.at += self.run(at, |b| b == MARK || b.is_ascii_digit());
                Ok(())
            }
            Some(b'-' | b'0'..=b'9') => self.number(),
            Some(b'\'') => self.wrong(at, self.word(at), "JSON strings must be in double quotes", None),
            Some(b'/') if matches!(self.bytes.get(at + 1), Some(b'/' | b'*')) => {
                let end = at + self.run(at, |b| b != b'\n');
                self.wrong(at, end, "JSON has no comments", Some(String::new()))
            }
            Some(_) => {
                let end = self.word(at);
                let word = self.shown(at, end);
                if ["true", "false", "null"].contains(&&*word) {
                    self.at = end;
                    return Ok(());
                }
                let meant = closest(&word, ["true", "false", "null"]).map(str::to_owned).or_else(|| match &*word {
                    "None" | "nil" | "undefined" => Some("null".to_owned()),
                    word => word.chars().all(|c| c.is_alphanumeric() || c == '_').then(|| format!("\"{word}\"")),
                });
                self.wrong(at, end, &format!("`{word}` is not a JSON value"), meant)
            }
        }
    }

    fn string(&mut self) -> Read {
        let at = self.at;
        let mut i = at + 1;
        while let Some(byte) = self.bytes.get(i) {
            match byte {
                b'\\' => {
                    let next = self.bytes.get(i + 1).copied().unwrap_or(b'\n');
                    if !b"\"\\/bfnrtux".contains(&next) {
                        return self.wrong(i, i + 1, "invalid escape in JSON", Some("\\\\".to_owned()));
                    }
                    i += 2;
                }
                b'"' => {
                    self.at = i + 1;
                    return Ok(());
                }
                b'\n' | b'\r' => break,
                0x01..0x20 => {
                    return self.wrong(i, i + 1, "a control character in a text of JSON", Some(escape(*byte)));
                }
                _ => i += 1,
            }
        }
        self.wrong(at, i, "this text is never closed", None)
    }

    fn number(&mut self) -> Read {
        let at = self.at;
        let end = at + self.run(at, |b| matches!(b, b'0'..=b'9' | b'-' | b'+' | b'.' | b'e' | b'E' | MARK));
        let number = &self.bytes[at..end];
        let marked = number.contains(&MARK);
        let valid = serde_json::from_slice::<serde_json::Number>(number).is_ok();
        if marked || valid {
            self.at = end;
            return Ok(());
        }
        let shown = self.shown(at, end);
        let bare = shown.trim_start_matches('0');
        let meant = (bare.len() < shown.len() && serde_json::from_str::<serde_json::Number>(bare).is_ok())
            .then(|| bare.to_owned());
        self.wrong(at, end, &format!("`{shown}` is not a JSON number"), meant)
    }

    /// An unclosed bracket, reported at the end of the body with its counterpart.
    fn unclosed(&self, open: &[(Inside, usize)]) -> Read {
        let Some((inside, at)) = open.last() else { return Ok(()) };
        let close = closing(*inside);
        let problem = self.problem(*at, at + 1, format!("this is never closed: expected `{close}`"));
        Err(Box::new(problem.with_hint(format!("write `{close}` at the end of the body"))))
    }

    fn line(&self, open: &[(Inside, usize)]) -> usize {
        let at = self.start + open.last().map_or(0, |(_, at)| *at);
        self.text[..at].matches('\n').count() + 1
    }

    fn wrong(&self, from: usize, to: usize, message: &str, instead: Option<String>) -> Read {
        let problem = self.problem(from, to, message.to_owned());
        Err(Box::new(match instead {
            Some(text) if text.is_empty() => problem.with_hint("omit it").with_replacement(text),
            Some(text) => problem.with_hint(format!("write `{}`", text.trim())).with_replacement(text),
            None => problem,
        }))
    }

    fn problem(&self, from: usize, to: usize, message: String) -> Problem {
        let span = Span::new(self.start + from, self.start + to.max(from));
        Problem::warning(Code::BadJson, span, format!("this body is not JSON: {message}"))
    }

    fn shown(&self, from: usize, to: usize) -> std::borrow::Cow<'_, str> {
        String::from_utf8_lossy(&self.text.as_bytes()[self.start + from..self.start + to])
    }

    fn peek(&self) -> Option<u8> {
        self.bytes.get(self.at).copied()
    }

    fn blanks(&mut self) {
        self.at += self.run(self.at, |b| matches!(b, b' ' | b'\t' | b'\n' | b'\r'));
    }

    fn run(&self, from: usize, belongs: impl Fn(u8) -> bool) -> usize {
        self.bytes[from..].iter().take_while(|b| belongs(**b)).count()
    }

    /// The end of the word at `from`, at least one whole character.
    fn word(&self, from: usize) -> usize {
        let word = self.run(from, |b| !b.is_ascii_whitespace() && !b"{}[],:\"".contains(&b) && b != MARK);
        let first = self.text[self.start + from..].chars().next().map_or(0, char::len_utf8);
        (from + word.max(first)).min(self.bytes.len())
    }
}

fn closing(inside: Inside) -> char {
    match inside {
        Inside::Object => '}',
        Inside::Array => ']',
    }
}

fn escape(byte: u8) -> String {
    if byte == b'\t' { "\\t".to_owned() } else { format!("\\u{byte:04x}") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use yieldtray_source::{Edit, edited};

    fn error_of(body: &str) -> Option<(String, String, Option<String>)> {
        let problem = slip(body, Span::new(0, body.len()))?;
        let mended =
            problem.replacement.as_ref().map(|text| edited(body, &[Edit::replace(problem.span, text.as_str())]));
        let message = problem.message.strip_prefix("this body is not JSON: ").expect("it says so").to_owned();
        Some((message, problem.span.of(body).to_owned(), mended))
    }

    #[test]
    fn slips_are_told_and_mended() {
        for (body, message, at, mended) in [
            ("{\"a\": 1,}", "a comma after the last value", ",", Some("{\"a\": 1}")),
            ("[1, 2,\n]", "a comma after the last value", ",", Some("[1, 2\n]")),
            ("{\"a\": 1 \"b\": 2}", "expected `,` between two values", "", Some("{\"a\": 1, \"b\": 2}")),
            ("[{{a}} {{b}}]", "expected `,` between two values", "", Some("[{{a}}, {{b}}]")),
            ("{bins: 1}", "JSON keys must be in double quotes", "bins", Some("{\"bins\": 1}")),
            ("{ {{name}}: 1}", "JSON keys must be in double quotes", "{{name}}", Some("{ \"{{name}}\": 1}")),
            ("{\"a\" 1}", "expected `:` after a key", "", Some("{\"a\" : 1}")),
            ("{\"a\": nul}", "`nul` is not a JSON value", "nul", Some("{\"a\": null}")),
            ("{\"a\": None}", "`None` is not a JSON value", "None", Some("{\"a\": null}")),
            ("{\"a\": gala}", "`gala` is not a JSON value", "gala", Some("{\"a\": \"gala\"}")),
            ("{\"a\": 007}", "`007` is not a JSON number", "007", Some("{\"a\": 7}")),
            ("{\"a\": [1}", "expected `]`, which closes line 1", "}", Some("{\"a\": [1]")),
            ("{\"a\": [1]", "this is never closed: expected `}`", "{", None),
            ("{\"a\": \"x\n\"}", "this text is never closed", "\"x", None),
            ("{\"a\": \"\\d\"}", "invalid escape in JSON", "\\", Some("{\"a\": \"\\\\d\"}")),
            ("{\"a\": 'x'}", "JSON strings must be in double quotes", "'x'", None),
            ("{} x", "expected the end of the JSON body", "x", None),
            ("{\"a\": 1} // c", "expected the end of the JSON body", "//", None),
        ] {
            let expected = Some((message.to_owned(), at.to_owned(), mended.map(str::to_owned)));
            assert_eq!(error_of(body), expected, "{body}");
        }
    }

    #[test]
    fn what_becomes_json_is_none_of_our_business() {
        for body in [
            "{}",
            "[]",
            " {\"a\": {{a}}, \"b\": \"x{{b}}\\\"y\", \"c\": [{{c}}, {\"d\": null}], \"e\": -1.5e3} ",
            "{\"n\": {{a}}{{b}}, \"m\": 1{{a}}, \"o\": {{a}}0}",
            "{\"a\": \\{{}",
            "{{raw(anything)}}",
            "{\"q\": \"{{ f('\"') }}\"}",
        ] {
            let found = error_of(body);
            assert!(found.is_none() || body.contains("\\{{"), "{body}: {found:?}");
        }
    }
}
