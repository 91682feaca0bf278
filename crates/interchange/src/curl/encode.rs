//! Values of options that curl encodes or expands.

use super::error::CurlError;
use percent_encoding::utf8_percent_encode;
use yieldtray_source::percent::PERCENT_ENCODE_SET;
use yieldtray_syntax::{ValuePiece, ValueText};

/// The expression for the text of a file.
pub(super) fn file_text(path: &str) -> String {
    format!("file({})", serde_json::Value::from(path))
}

/// A URL without the braces around a single word, as curl sends it.
pub(super) fn globbed(url: ValueText) -> Result<ValueText, CurlError> {
    let Some(ValuePiece::Literal(text)) = url.pieces().first() else { return Ok(url) };
    let Some(at) = text.find(['{', '[']) else { return Ok(url) };
    let close = if text.as_bytes()[at] == b'{' { '}' } else { ']' };
    let Some(end) = text[at..].find(close).map(|end| end + at) else { return Ok(url) };
    let inside = &text[at + 1..end];
    // IPv6 addresses are in brackets too.
    let several = if close == '}' { inside.contains(',') } else { inside.contains('-') && !inside.contains(':') };
    match several {
        true => Err(CurlError::SeveralAddresses(text[at..=end].to_owned())),
        false if close == '}' && !inside.contains('{') => {
            let mut bare = ValueText::from(format!("{}{inside}", &text[..at]));
            bare.append(&url.behind(end + 1));
            Ok(bare)
        }
        false => Ok(url),
    }
}

/// `content`, `=content`, `name=content`: the content percent-encoded.
pub(super) fn encoded(option: &str, value: &ValueText) -> Result<ValueText, CurlError> {
    let from_file = value.plain().and_then(|text| text.split_once('@')).filter(|(name, _)| !name.contains('='));
    if let Some((name, path)) = from_file {
        if path == "-" {
            return Err(CurlError::EncodedInput(option.to_owned()));
        }
        let mut word = ValueText::from(if name.is_empty() { String::new() } else { format!("{name}=") });
        word.push_value(format!("urlencode({})", file_text(path)));
        return Ok(word);
    }
    let (name, content) = value.split('=').map_or((None, value.clone()), |(name, content)| (Some(name), content));
    let mut word = ValueText::default();
    if let Some(name) = name.filter(|name| !name.is_empty()) {
        word.append(&name);
        word.push('=');
    }
    for piece in content.pieces() {
        match piece {
            // A space is a `+` here, as in forms.
            ValuePiece::Literal(text) => {
                word.push_str(&utf8_percent_encode(text, PERCENT_ENCODE_SET).to_string().replace("%20", "+"))
            }
            ValuePiece::Value(expression) => word.push_value(format!("urlencode({expression})")),
        }
    }
    Ok(word)
}
