//! Pretty-prints XML and HTML: one element a line, indented by depth. Parses no more than that needs, so that an
//! invalid document is printed as well as possible.

use super::{LayoutPiece, new_line};

/// Elements of HTML that have no end (HTML 13.1.2).
const VOID: &[&str] =
    &["area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"];

/// Elements of HTML whose text is not markup.
const RAW: &[&str] = &["script", "style", "textarea", "title", "pre"];

/// A piece of a document.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Token<'t> {
    /// `<name …>`, `<name …/>`
    Open { tag: &'t str, name: &'t str, closed: bool },
    /// `</name>`
    Close { tag: &'t str, name: &'t str },
    /// `<!-- -->`, `<?…?>`, `<!…>`, CDATA
    Aside(&'t str),
    /// Anything between.
    Text(&'t str),
}

pub(super) fn lay_out(text: &str, html: bool, mut piece: impl FnMut(LayoutPiece, &str)) -> bool {
    if !text.trim_start().starts_with('<') {
        return false;
    }
    let tokens = tokens(text, html);
    let (mut depth, mut first, mut at) = (0usize, true, 0);
    while let Some(token) = tokens.get(at) {
        if let Token::Text(text) = token
            && text.trim().is_empty()
        {
            at += 1;
            continue;
        }
        if let Token::Close { .. } = token {
            depth = depth.saturating_sub(1);
        }
        if !std::mem::take(&mut first) {
            new_line(depth, &mut piece);
        }
        match *token {
            Token::Aside(aside) => piece(LayoutPiece::Aside, aside.trim()),
            Token::Text(text) => piece(LayoutPiece::Text, text.trim()),
            Token::Close { tag, .. } => write_tag(tag, &mut piece),
            Token::Open { tag, name, closed } => {
                write_tag(tag, &mut piece);
                // An element with nothing but text in it stays on its line.
                let content = match tokens.get(at + 1) {
                    Some(Token::Text(text)) => Some((*text, at + 2)),
                    _ => Some(("", at + 1)),
                };
                let whole = content.filter(
                    |(_, end)| matches!(tokens.get(*end), Some(Token::Close { name: own, .. }) if *own == name),
                );
                match whole {
                    _ if closed => {}
                    Some((text, end)) => {
                        piece(LayoutPiece::Text, text.trim());
                        if let Some(Token::Close { tag, .. }) = tokens.get(end) {
                            write_tag(tag, &mut piece);
                        }
                        at = end;
                    }
                    None => depth += 1,
                }
            }
        }
        at += 1;
    }
    true
}

fn tokens(text: &str, html: bool) -> Vec<Token<'_>> {
    let mut tokens = Vec::new();
    let mut rest = text;
    while !rest.is_empty() {
        let (token, length) = next(rest, html);
        rest = &rest[length..];
        tokens.push(token);
        if let Token::Open { name, closed: false, .. } = token
            && html
            && RAW.iter().any(|raw| raw.eq_ignore_ascii_case(name))
        {
            let end = raw_end(rest, name);
            if end > 0 {
                tokens.push(Token::Text(&rest[..end]));
            }
            rest = &rest[end..];
        }
    }
    tokens
}

fn next(rest: &str, html: bool) -> (Token<'_>, usize) {
    let until = |mark: &str| rest.find(mark).map_or(rest.len(), |at| at + mark.len());
    let is_name = |text: &str| text.starts_with(|c: char| c.is_alphabetic() || c == '_' || c == ':');
    if rest.starts_with("<!--") {
        let end = until("-->");
        return (Token::Aside(&rest[..end]), end);
    }
    if rest.starts_with("<![CDATA[") {
        let end = until("]]>");
        return (Token::Text(&rest[..end]), end);
    }
    if rest.starts_with("<!") || rest.starts_with("<?") {
        let end = until(">");
        return (Token::Aside(&rest[..end]), end);
    }
    let close = rest.starts_with("</") && is_name(&rest[2..]);
    if close || (rest.starts_with('<') && is_name(&rest[1..])) {
        let end = tag_end(rest);
        let tag = &rest[..end];
        let inside = tag.trim_start_matches(['<', '/']);
        let name = &inside[..inside.find([' ', '\t', '\n', '\r', '/', '>']).unwrap_or(inside.len())];
        let void = html && VOID.iter().any(|void| void.eq_ignore_ascii_case(name));
        let token = match close {
            true => Token::Close { tag, name },
            false => Token::Open { tag, name, closed: void || tag.ends_with("/>") },
        };
        return (token, end);
    }
    // A `<` that begins nothing is text.
    let from = usize::from(rest.starts_with('<'));
    let end = rest[from..].find('<').map_or(rest.len(), |at| at + from);
    (Token::Text(&rest[..end]), end)
}

/// The end of a tag: the first `>` outside quotes.
fn tag_end(tag: &str) -> usize {
    let mut quote = None;
    for (at, byte) in tag.bytes().enumerate() {
        match (quote, byte) {
            (None, b'>') => return at + 1,
            (None, b'"' | b'\'') => quote = Some(byte),
            (Some(open), _) if open == byte => quote = None,
            _ => {}
        }
    }
    tag.len()
}

fn raw_end(rest: &str, name: &str) -> usize {
    let ends = |at: &usize| {
        let after = rest.get(at + 2..at + 2 + name.len());
        after.is_some_and(|word| word.eq_ignore_ascii_case(name))
    };
    rest.match_indices("</").map(|(at, _)| at).find(ends).unwrap_or(rest.len())
}

/// `<name attribute="value">` in its pieces.
fn write_tag(tag: &str, piece: &mut impl FnMut(LayoutPiece, &str)) {
    let open = if tag.starts_with("</") { 2 } else { 1 };
    let name = tag[open..].find([' ', '\t', '\n', '\r', '/', '>']).map_or(tag.len(), |at| open + at);
    piece(LayoutPiece::Mark, &tag[..open]);
    piece(LayoutPiece::Element, &tag[open..name]);
    let mut rest = &tag[name..];
    while !rest.is_empty() {
        let (kind, length) = match rest.as_bytes()[0] {
            b'"' | b'\'' => {
                let close = rest[1..].find(&rest[..1]).map_or(rest.len(), |at| at + 2);
                (LayoutPiece::Text, close)
            }
            b' ' | b'\t' | b'\n' | b'\r' => {
                let blanks = rest.find(|c: char| !c.is_ascii_whitespace()).unwrap_or(rest.len());
                // Attributes over several lines come together on one.
                let more = !rest[blanks..].starts_with(['>', '/']) && blanks < rest.len();
                piece(LayoutPiece::Space, if more { " " } else { "" });
                rest = &rest[blanks..];
                continue;
            }
            b'=' | b'/' | b'>' => (LayoutPiece::Mark, 1),
            _ => (LayoutPiece::Key, rest.find(['=', ' ', '\t', '\n', '\r', '/', '>', '"', '\'']).unwrap_or(rest.len())),
        };
        piece(kind, &rest[..length]);
        rest = &rest[length..];
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn formatted(text: &str, html: bool) -> String {
        let mut out = String::new();
        lay_out(text, html, |_, text| out.push_str(text));
        out
    }

    #[test]
    fn documents_are_laid_out_an_element_a_line() {
        assert_eq!(
            formatted(
                "<?xml version=\"1.0\"?><manifest  day='7'><lot id=\"a>b\"><bins>24</bins><empty/></lot><!-- x --></manifest>",
                false
            ),
            "<?xml version=\"1.0\"?>\n<manifest day='7'>\n  <lot id=\"a>b\">\n    <bins>24</bins>\n    <empty/>\n  </lot>\n  <!-- x -->\n</manifest>"
        );
        assert_eq!(
            formatted("<!doctype html><body><p>Lots<br>of <b>fruit</b></p><script>if (a < b) { x() }</script>", true),
            "<!doctype html>\n<body>\n  <p>\n    Lots\n    <br>\n    of\n    <b>fruit</b>\n  </p>\n  <script>if (a < b) { x() }</script>"
        );
        assert_eq!(formatted("no markup", false), "");
    }

    proptest! {
        #[test]
        fn nothing_is_lost_but_white_space(text in "<[a-z<>/\"'= !?\\[\\]é-]{0,60}") {
            let letters = |text: &str| text.chars().filter(|c| !c.is_whitespace()).collect::<String>();
            prop_assert_eq!(letters(&formatted(&text, true)), letters(&text));
            prop_assert_eq!(letters(&formatted(&text, false)), letters(&text));
        }
    }
}
