//! Which letters the bytes of a body are.

use encoding_rs::{Encoding, UTF_8};
use std::borrow::Cow;

/// How far into a document its own word about its charset is looked for, as the HTML standard says.
const DECLARATION_BYTES: usize = 1024;

/// `body` as text: by its byte order mark, the `charset` of its Content-Type, the declaration of an XML or HTML
/// document, or else as UTF-8. Invalid bytes are replaced.
pub(super) fn decode<'b>(body: &'b [u8], content_type: &str) -> Cow<'b, str> {
    // Nearly every body is UTF-8, and says so or says nothing.
    let encoding = Encoding::for_bom(body).map(|(encoding, _)| encoding).or_else(|| named(body, content_type));
    let encoding = encoding.unwrap_or(UTF_8);
    if encoding == UTF_8 {
        let body = body.strip_prefix("\u{feff}".as_bytes()).unwrap_or(body);
        return String::from_utf8_lossy(body);
    }
    encoding.decode(body).0
}

/// Whether the bytes are text: letters in the charset they have, and none that only programs write.
pub(super) fn is_text(body: &[u8], content_type: &str) -> bool {
    let encoding = Encoding::for_bom(body).map(|(encoding, _)| encoding).or_else(|| named(body, content_type));
    match encoding {
        Some(encoding) if encoding != UTF_8 => !encoding.decode(body).2,
        _ => std::str::from_utf8(body).is_ok_and(|text| !text.contains('\0')),
    }
}

fn named(body: &[u8], content_type: &str) -> Option<&'static Encoding> {
    let parameter = content_type.split(';').skip(1).find_map(|parameter| {
        let (name, value) = parameter.split_once('=')?;
        name.trim().eq_ignore_ascii_case("charset").then(|| value.trim().trim_matches('"'))
    });
    if let Some(label) = parameter {
        return Encoding::for_label(label.as_bytes());
    }
    let media = content_type.split(';').next().unwrap_or_default().trim().to_ascii_lowercase();
    let word = match media.as_str() {
        "text/html" => "charset=",
        _ if media.ends_with("/xml") || media.ends_with("+xml") => "encoding=",
        _ => return None,
    };
    let start = &body[..body.len().min(DECLARATION_BYTES)];
    let at = memchr::memmem::find(start, word.as_bytes())? + word.len();
    let label: Vec<u8> = start[at..].iter().copied().skip_while(|b| matches!(b, b'"' | b'\'')).collect();
    let end = label.iter().position(|b| !(b.is_ascii_alphanumeric() || matches!(b, b'-' | b'_' | b'.' | b':')));
    Encoding::for_label(&label[..end.unwrap_or(label.len())])
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_body_is_read_in_its_own_charset() {
        for (content_type, body, text) in [
            ("text/plain", "Käthe".as_bytes(), "Käthe"),
            ("text/plain; charset=ISO-8859-1", b"K\xe4the", "Käthe"),
            ("text/csv; header=present; Charset=\"windows-1252\"", b"\x80 5", "€ 5"),
            ("text/plain", b"\xff\xfeK\0\xe4\0", "Kä"),
            ("application/json", b"\xef\xbb\xbf{}", "{}"),
            (
                "application/xml",
                b"<?xml version='1.0' encoding='iso-8859-1'?><g>K\xe4the</g>",
                "<?xml version='1.0' encoding='iso-8859-1'?><g>Käthe</g>",
            ),
            ("text/html", b"<meta charset=\"shift_jis\"><p>\x83\x8a", "<meta charset=\"shift_jis\"><p>リ"),
            ("text/plain; charset=nobody-knows", b"K\xe4", "K\u{fffd}"),
        ] {
            assert_eq!(decode(body, content_type), text, "{content_type}");
        }
        assert!(is_text(b"K\xe4the", "text/plain; charset=latin1") && !is_text(b"K\xe4the", "text/plain"));
        assert!(!is_text(b"GIF89a\0\0", ""));
    }
}
