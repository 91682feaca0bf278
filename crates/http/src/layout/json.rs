//! JSON: the same text with other white space.

use super::{LayoutPiece, new_line};

/// Pretty-prints `json` with two spaces a level, and passes each piece on in order. Numbers and texts keep their form.
/// Returns `false`, and passes nothing on, if `json` is not JSON (RFC 8259).
pub(super) fn lay_out(json: &str, mut piece: impl FnMut(LayoutPiece, &str)) -> bool {
    if serde_json::from_str::<serde::de::IgnoredAny>(json).is_err() {
        return false;
    }
    let bytes = json.as_bytes();
    let (mut at, mut depth) = (0, 0usize);
    while at < bytes.len() {
        let start = at;
        match bytes[at] {
            b' ' | b'\t' | b'\n' | b'\r' => at += 1,
            b'"' => {
                at = text_end(bytes, at);
                let after = bytes[at..].iter().find(|b| !b.is_ascii_whitespace());
                let kind = if after == Some(&b':') { LayoutPiece::Key } else { LayoutPiece::Text };
                piece(kind, &json[start..at]);
            }
            open @ (b'{' | b'[') => {
                let close = if open == b'{' { b'}' } else { b']' };
                let inside =
                    bytes[at + 1..].iter().position(|b| !b.is_ascii_whitespace()).map(|offset| at + 1 + offset);
                match inside {
                    // Nothing in it: it stays on one line.
                    Some(end) if bytes[end] == close => {
                        piece(LayoutPiece::Mark, if open == b'{' { "{}" } else { "[]" });
                        at = end + 1;
                    }
                    _ => {
                        piece(LayoutPiece::Mark, &json[at..=at]);
                        depth += 1;
                        new_line(depth, &mut piece);
                        at += 1;
                    }
                }
            }
            b'}' | b']' => {
                depth = depth.saturating_sub(1);
                new_line(depth, &mut piece);
                piece(LayoutPiece::Mark, &json[at..=at]);
                at += 1;
            }
            b',' => {
                piece(LayoutPiece::Mark, ",");
                new_line(depth, &mut piece);
                at += 1;
            }
            b':' => {
                piece(LayoutPiece::Mark, ":");
                piece(LayoutPiece::Space, " ");
                at += 1;
            }
            first => {
                at += bytes[at..].iter().take_while(|b| !b",:]} \t\r\n".contains(b)).count().max(1);
                let kind = if first.is_ascii_alphabetic() { LayoutPiece::Word } else { LayoutPiece::Number };
                piece(kind, &json[start..at]);
            }
        }
    }
    true
}

fn text_end(bytes: &[u8], open: usize) -> usize {
    let mut at = open + 1;
    while at < bytes.len() {
        match bytes[at] {
            b'\\' => at += 2,
            b'"' => return at + 1,
            _ => at += 1,
        }
    }
    bytes.len()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn laid_out_json_is_the_same_document() {
        let json =
            r#"{"lots":[{"id":"L-1 \"x\"","bins":1.50e3,"open":true},[]],"none":{ }, "n":12345678901234567890123}"#;
        let mut out = String::new();
        let mut keys = Vec::new();
        assert!(lay_out(json, |piece, text| {
            if piece == LayoutPiece::Key {
                keys.push(text.to_owned());
            }
            out.push_str(text);
        }));
        assert_eq!(
            out,
            "{\n  \"lots\": [\n    {\n      \"id\": \"L-1 \\\"x\\\"\",\n      \"bins\": 1.50e3,\n      \"open\": true\n    },\n    []\n  ],\n  \"none\": {},\n  \"n\": 12345678901234567890123\n}"
        );
        assert_eq!(keys, ["\"lots\"", "\"id\"", "\"bins\"", "\"open\"", "\"none\"", "\"n\""]);
        assert!(!lay_out("{\"a\": }", |_, _| unreachable!("nothing is handed on")));
    }
}
