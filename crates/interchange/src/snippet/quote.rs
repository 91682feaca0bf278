//! Texts as literals of other languages. The templates call these as filters.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use minijinja::value::Kwargs;
use minijinja::{Environment, Error, ErrorKind, Value};
use std::collections::BTreeMap;
use yieldtray_source::escape::is_control_or_bidi;

/// Adds the filters of templates.
pub(super) fn add_filters(environment: &mut Environment<'_>) {
    environment.add_filter("quoted", |text: &str, options: Kwargs| -> Result<String, Error> {
        let control: &str = options.get::<Option<&str>>("control")?.unwrap_or("u4");
        let also: &str = options.get::<Option<&str>>("also")?.unwrap_or("");
        let either = options.get::<Option<bool>>("either")?.unwrap_or(false);
        options.assert_all_used()?;
        let form = match control {
            "u4" => |c: char| format!("\\u{:04x}", c as u32),
            "braced" => |c: char| format!("\\u{{{:x}}}", c as u32),
            "octal" => |c: char| each_byte(c, |byte| format!("\\{byte:03o}")),
            "x2" => |c: char| each_byte(c, |byte| format!("\\x{byte:02x}")),
            other => return Err(Error::new(ErrorKind::InvalidOperation, format!("unknown escaping `{other}`"))),
        };
        let mark = if either && text.contains('"') && !text.contains('\'') { '\'' } else { '"' };
        Ok(quoted(text, mark, form, also))
    });
    environment.add_filter("lines", |pieces: Vec<Value>| lines(&pieces));
    environment.add_filter("texts_alone", |pieces: Vec<Value>| pieces.iter().all(|piece| text_of(piece).is_some()));
    environment.add_filter("shell", |pieces: Vec<Value>| shell(&pieces));
    environment.add_filter("powershell", |text: &str| powershell(text));
    environment.add_filter("shell_field", |line: Vec<Value>| shell(&field_line(&line)));
    environment.add_filter("field_line", |line: Vec<Value>| field_line(&line));
    environment.add_filter("globs", |pieces: Vec<Value>| {
        pieces.iter().filter_map(text_of).any(|text| text.contains(['[', ']', '{', '}']))
    });
    environment.add_filter("seconds", |seconds: f64| format!("{seconds}"));
    environment.add_filter("jq_path", |steps: Vec<Value>| jq_path(&steps));
    environment.add_filter("needs_heads", |yields: Vec<Value>| {
        let kind = |own: &Value| own.get_attr("from").and_then(|from| from.get_attr("kind")).ok();
        yields.iter().filter_map(kind).any(|kind| matches!(kind.as_str(), Some("header" | "status")))
    });
    // Credentials with a value in them cannot be coded before it is known.
    environment.add_filter("credentials", |pair: Vec<Value>| match pair.iter().all(|piece| text_of(piece).is_some()) {
        true => STANDARD.encode(named(&pair)),
        false => "${BASIC_CREDENTIALS}".to_owned(),
    });
    environment.add_filter("texts", |body: Vec<Value>| {
        body.iter().map(|chunk| named(&chunk_pieces(chunk))).collect::<String>()
    });
    environment.add_filter("size", |body: Vec<Value>| body.iter().map(|chunk| chunk_bytes(chunk).len()).sum::<usize>());
    environment.add_filter("whole_base64", |body: Vec<Value>| {
        STANDARD.encode(body.iter().flat_map(chunk_bytes).collect::<Vec<u8>>())
    });
    environment.add_filter("byte_list", |text: &str| {
        let bytes = STANDARD.decode(text).unwrap_or_default();
        bytes.iter().map(|byte| format!("0x{byte:02x}")).collect::<Vec<_>>().join(", ")
    });
    environment.add_filter("camel", |name: &str| camel(name));
    environment.add_filter("ascii", |pieces: Vec<Value>| {
        pieces.iter().all(|piece| match text_of(piece) {
            Some(text) => text.is_ascii(),
            None => piece.get_attr("ascii").is_ok_and(|ascii| ascii.is_true()),
        })
    });
    // Some languages end a line, and so a comment, at more than a line feed.
    environment
        .add_filter("comment", |text: &str| text.replace(|c: char| c.is_control() || is_control_or_bidi(c), " "));
}

/// The bytes of a character, each as an escape.
fn each_byte(c: char, escape: impl Fn(u8) -> String) -> String {
    c.encode_utf8(&mut [0; 4]).bytes().map(escape).collect()
}

/// Between two marks, with backslashes. Characters that nobody sees, and those in `also`, are escaped too.
fn quoted(text: &str, mark: char, control: impl Fn(char) -> String, also: &str) -> String {
    let mut out = String::with_capacity(text.len() + 2);
    out.push(mark);
    for c in text.chars() {
        match c {
            c if c == mark || c == '\\' => out.extend(['\\', c]),
            '\n' => out.push_str("\\n"),
            '\r' => out.push_str("\\r"),
            '\t' => out.push_str("\\t"),
            c if also.contains(c) => out.extend(['\\', c]),
            c if is_control_or_bidi(c) => out.push_str(&control(c)),
            c => out.push(c),
        }
    }
    out.push(mark);
    out
}

/// Pieces of which each line of a text is one.
fn lines(pieces: &[Value]) -> Vec<Value> {
    let mut all = Vec::new();
    for piece in pieces {
        match text_of(piece) {
            Some(text) => {
                let lines = text.split_inclusive('\n');
                all.extend(lines.map(|line| Value::from(BTreeMap::from([("text", line.to_owned())]))));
            }
            None => all.push(piece.clone()),
        }
    }
    all
}

/// The text of a piece, where it is one.
fn text_of(piece: &Value) -> Option<String> {
    piece.get_attr("text").ok().filter(|text| !text.is_undefined()).map(|text| text.to_string())
}

/// The text of pieces, values by the names of their variables.
fn named(pieces: &[Value]) -> String {
    let value = |piece: &Value| {
        let name = |name: &str| piece.get_attr(name).ok().filter(|own| !own.is_none()).map(|own| own.to_string());
        let own = name("env").or_else(|| name("id")).unwrap_or_default();
        format!("${{{}}}", own.to_ascii_uppercase())
    };
    pieces.iter().map(|piece| text_of(piece).unwrap_or_else(|| value(piece))).collect()
}

fn chunk_pieces(chunk: &Value) -> Vec<Value> {
    let text = chunk.get_attr("text").ok().filter(|text| !text.is_undefined());
    text.and_then(|text| text.try_iter().ok()).into_iter().flatten().collect()
}

fn chunk_bytes(chunk: &Value) -> Vec<u8> {
    match chunk.get_attr("base64").ok().filter(|text| !text.is_undefined()) {
        Some(text) => STANDARD.decode(text.to_string()).unwrap_or_default(),
        None => named(&chunk_pieces(chunk)).into_bytes(),
    }
}

/// `NamedValue: value`, an empty one as curl wants it: `NamedValue;`.
fn field_line(line: &[Value]) -> Vec<Value> {
    match line {
        [only] => match text_of(only).and_then(|text| text.strip_suffix(": ").map(str::to_owned)) {
            Some(name) => vec![Value::from(BTreeMap::from([("text", format!("{name};"))]))],
            None => line.to_vec(),
        },
        _ => line.to_vec(),
    }
}

/// Steps into a JSON value as jq writes them.
fn jq_path(steps: &[Value]) -> String {
    let mut path = String::from(".");
    for step in steps {
        let of = |name: &str| step.get_attr(name).ok().filter(|own| !own.is_undefined()).map(|own| own.to_string());
        match (of("place"), of("name")) {
            (Some(place), _) => path.push_str(&format!("[{place}]")),
            (None, Some(name)) if yieldtray_source::names::is_value_name(&name) => {
                path.push_str(&format!("{}{name}", if path.ends_with('.') { "" } else { "." }));
            }
            (None, Some(name)) => path.push_str(&format!("[{}]", serde_json::Value::from(name))),
            (None, None) => {}
        }
    }
    path
}

/// A word of a POSIX shell (2.2 of its language). Values are variables, those that are encoded go through a
/// function of the encoding's name.
fn shell(pieces: &[Value]) -> String {
    let safe = |c: char| c.is_ascii_alphanumeric() || "-_./:=,@%+".contains(c);
    if pieces.iter().all(|piece| text_of(piece).is_some()) {
        let text: String = pieces.iter().filter_map(text_of).collect();
        return match !text.is_empty() && text.chars().all(safe) {
            true => text,
            false if text.contains(is_control_or_bidi) => format!("\"{}\"", printed(&text)),
            false => format!("'{}'", text.replace('\'', "'\\''")),
        };
    }
    let mut out = String::from("\"");
    for piece in pieces {
        if let Some(text) = text_of(piece) {
            for c in text.chars() {
                match c {
                    '"' | '\\' | '$' | '`' => out.extend(['\\', c]),
                    c if is_control_or_bidi(c) => out.push_str(&printed(c.encode_utf8(&mut [0; 4]))),
                    c => out.push(c),
                }
            }
            continue;
        }
        let name =
            |name: &str| piece.get_attr(name).ok().filter(|value| !value.is_none()).map(|value| value.to_string());
        let own = name("env").or_else(|| name("id")).unwrap_or_default();
        let answer = piece.get_attr("answer").is_ok_and(|answer| answer.is_true());
        match name("encoding").as_deref() {
            Some("json_value") if answer => out.push_str(&format!("${{{own}_json}}")),
            Some("json_value") => out.push_str(&format!("\\\"$(json \"${own}\")\\\"")),
            Some("plain") | None => out.push_str(&format!("${{{own}}}")),
            Some(encoding) => out.push_str(&format!("$({encoding} \"${own}\")")),
        }
    }
    out.push('"');
    out
}

/// A text with characters that nobody sees, as a shell makes it of their numbers.
fn printed(text: &str) -> String {
    let mut out = String::from("$(printf '");
    for (at, c) in text.char_indices() {
        match c {
            // At the beginning it would be an option of `printf`.
            '-' if at == 0 => out.push_str("\\055"),
            '%' => out.push_str("%%"),
            '\\' => out.push_str("\\\\"),
            '\'' => out.push_str("'\\''"),
            c if is_control_or_bidi(c) => out.push_str(&each_byte(c, |byte| format!("\\{byte:03o}"))),
            c => out.push(c),
        }
    }
    // A shell leaves line ends at the end of what it is given out.
    let ends = text.len() - text.trim_end_matches('\n').len();
    out.truncate(out.len() - ends);
    format!("{out}'){}", "\n".repeat(ends))
}

/// A text with characters that nobody sees, in double quotes, of which there are several kinds too.
fn powershell_escaped(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '$' | '`' | '\u{201c}' | '\u{201d}' | '\u{201e}' => out.extend(['`', c]),
            c if is_control_or_bidi(c) => out.push_str(&format!("$([char]0x{:x})", c as u32)),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// Every kind of single quote ends a text there; doubled, it is one.
fn powershell(text: &str) -> String {
    if text.contains(is_control_or_bidi) {
        return powershell_escaped(text);
    }
    let mut out = String::from("'");
    for c in text.chars() {
        if matches!(c, '\'' | '\u{2018}' | '\u{2019}' | '\u{201a}' | '\u{201b}') {
            out.push(c);
        }
        out.push(c);
    }
    out.push('\'');
    out
}

/// `lot_id` as `lotId`.
fn camel(name: &str) -> String {
    let mut parts = name.split('_').filter(|part| !part.is_empty());
    let mut out = parts.next().unwrap_or_default().to_owned();
    for part in parts {
        let mut letters = part.chars();
        out.extend(letters.next().map(|c| c.to_ascii_uppercase()));
        out.push_str(letters.as_str());
    }
    out
}

/// Words that some language keeps for itself, and names that the templates use.
const RESERVED_WORDS: &[&str] = &[
    "abstract",
    "add",
    "address",
    "and",
    "answer",
    "args",
    "arguments",
    "as",
    "assert",
    "async",
    "await",
    "base64",
    "body",
    "bool",
    "boolean",
    "break",
    "byte",
    "bytes",
    "came",
    "case",
    "catch",
    "char",
    "check",
    "class",
    "client",
    "connection",
    "const",
    "content",
    "continue",
    "curl",
    "data",
    "decode",
    "def",
    "default",
    "defer",
    "del",
    "delete",
    "do",
    "done",
    "double",
    "echo",
    "elif",
    "else",
    "encoding",
    "end",
    "enum",
    "error",
    "except",
    "export",
    "extends",
    "false",
    "fields",
    "files",
    "final",
    "finally",
    "float",
    "fn",
    "for",
    "foreach",
    "form",
    "from",
    "fun",
    "func",
    "function",
    "global",
    "goto",
    "handle",
    "handler",
    "headers",
    "heads",
    "host",
    "http",
    "if",
    "impl",
    "implements",
    "import",
    "in",
    "init",
    "instanceof",
    "int",
    "interface",
    "internal",
    "io",
    "is",
    "join",
    "json",
    "json_text",
    "kind",
    "lambda",
    "let",
    "list",
    "lock",
    "login",
    "long",
    "loop",
    "main",
    "map",
    "match",
    "message",
    "method",
    "mod",
    "module",
    "move",
    "mut",
    "name",
    "namespace",
    "new",
    "next",
    "nil",
    "none",
    "not",
    "null",
    "object",
    "open",
    "operator",
    "options",
    "or",
    "origin",
    "os",
    "out",
    "override",
    "package",
    "parts",
    "pass",
    "percent",
    "piece",
    "print",
    "private",
    "protected",
    "public",
    "raise",
    "range",
    "read",
    "ref",
    "reply",
    "request",
    "requests",
    "require",
    "response",
    "return",
    "secure",
    "self",
    "send",
    "sender",
    "set",
    "short",
    "size",
    "ssl",
    "static",
    "status",
    "string",
    "struct",
    "super",
    "switch",
    "target",
    "text",
    "then",
    "this",
    "throw",
    "timeout",
    "trait",
    "true",
    "try",
    "type",
    "typeof",
    "union",
    "unsafe",
    "until",
    "url",
    "urllib",
    "use",
    "using",
    "val",
    "value",
    "var",
    "void",
    "when",
    "where",
    "while",
    "with",
    "xml",
    "yield",
];

/// A name that no language keeps for itself.
pub(super) fn variable(name: &str) -> String {
    let plain: String =
        name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '_' }).collect();
    let plain = plain.trim_matches('_');
    match plain {
        "" => "value".to_owned(),
        kept if RESERVED_WORDS.contains(&kept) || kept.starts_with(|c: char| c.is_ascii_digit()) => {
            format!("my_{kept}")
        }
        plain => plain.to_owned(),
    }
}

/// Whether a member can be named without quotes.
pub(super) fn keyword_free(name: &str) -> bool {
    yieldtray_source::names::is_value_name(name) && !RESERVED_WORDS.contains(&name)
}
