use super::read::{Body, Part, Transfer};
use super::words::{Piece, Word};

/// A transfer as a cell that sends the same. What cannot be written stands in a comment.
///
/// # Errors
/// Why there is no such cell, in words.
pub fn cell(transfer: &Transfer) -> Result<String, String> {
    let Transfer { method, url, query, headers, body, auth, lines, version, notes } = transfer;
    let mut out = format!("%% {}\n", title(transfer));
    for note in notes {
        out.push_str(&format!("# {}\n", line(note)));
    }
    for own in lines {
        out.push_str(&format!("{own}\n"));
    }
    if let Some((kind, words)) = auth {
        let words: Vec<String> = words.iter().map(argument).collect::<Result<_, _>>()?;
        out.push_str(&format!("% auth {kind} {}\n", words.join(" ")));
    }
    match body {
        Body::File(path) => out.push_str(&format!("% body from {} verbatim\n", on_line("a path", path, false)?)),
        Body::Parts(parts) => {
            for (name, part) in parts {
                let name = on_line("a part's name", name, false)?;
                out.push_str(&match part {
                    Part::Text(text) => format!("% part {name} = {}\n", on_line("a part", text, false)?),
                    Part::File { path, media, name: own } => {
                        let media = media.as_ref().map(|media| format!(" type {media}")).unwrap_or_default();
                        let own = own.as_ref().map(|own| format!(" as {own}")).unwrap_or_default();
                        format!("% part {name} from {}{media}{own}\n", on_line("a path", path, false)?)
                    }
                });
            }
        }
        Body::None | Body::Text(_) => {}
    }
    let method = match method {
        Some(method) => on_line("a method", method, false)?,
        None => "GET".to_owned(),
    };
    let mut target = on_line("an address", url, true)?;
    if !target.contains("://") && !target.starts_with("{{") {
        target.insert_str(0, "http://");
    }
    for (index, parameter) in query.iter().enumerate() {
        target.push(if index == 0 && !target.contains('?') { '?' } else { '&' });
        target.push_str(&on_line("a parameter", parameter, true)?);
    }
    let version = version.map(|version| format!(" {version}")).unwrap_or_default();
    out.push_str(&format!("{method} {target}{version}\n"));
    for (name, value) in headers {
        let value = on_line("a header field", value, false)?;
        out.push_str(format!("{}: {value}", on_line("a header's name", name, false)?).trim_end());
        out.push('\n');
    }
    if let Body::Text(text) = body {
        out.push_str(&format!("\n{}\n", body_text(text)?));
    }
    Ok(out)
}

/// The method and the path.
fn title(transfer: &Transfer) -> String {
    let method = transfer.method.as_ref().and_then(Word::plain).unwrap_or("GET");
    let url = written(&transfer.url);
    let rest = url.split_once("://").map_or(url.as_str(), |(_, rest)| rest);
    let path = rest.find('/').map_or("/", |at| &rest[at..]);
    let path = path.split(['?', '#']).next().unwrap_or(path);
    line(&format!("{method} {path}"))
}

fn line(text: &str) -> String {
    text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect()
}

/// A word as a file has it: `{{` escaped, variables as values of the process environment.
fn written(word: &Word) -> String {
    let piece = |piece: &Piece| match piece {
        Piece::Text(text) => text.replace("{{", "\\{{"),
        Piece::Variable(name) => format!("{{{{env.{name}}}}}"),
    };
    word.0.iter().map(piece).collect()
}

/// The same where a line ends nothing but a line.
fn on_line(what: &str, word: &Word, target: bool) -> Result<String, String> {
    let text = written(word);
    let text = text.trim();
    if text.contains(|c: char| c.is_control() && c != '\t') {
        return Err(format!("{what} has a line end or another control character in it"));
    }
    Ok(if target { text.replace(' ', "%20") } else { text.to_owned() })
}

/// A word of `% auth`, in quotes where blanks are in it.
fn argument(word: &Word) -> Result<String, String> {
    let text = on_line("a user or a password", word, false)?;
    Ok(if text.is_empty() || text.contains([' ', '"']) { format!("\"{}\"", text.replace('"', "\\\"")) } else { text })
}

/// A body, which must come out as it went in.
fn body_text(word: &Word) -> Result<String, String> {
    let text = written(word);
    if text.trim_end_matches([' ', '\t']).ends_with('\n') || text.trim().is_empty() && !text.is_empty() {
        return Err("a body that ends with a line end must come from a file: `--data-binary @FILE`".to_owned());
    }
    let lines = text.split('\n').map(|line| if line.starts_with('%') { format!("\\{line}") } else { line.to_owned() });
    Ok(lines.collect::<Vec<_>>().join("\n"))
}
