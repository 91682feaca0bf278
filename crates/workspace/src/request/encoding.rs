//! The context of a placeholder decides how its value is encoded, so that no value can change the structure of the
//! message around it.

use crate::secret::Encoding;
use std::borrow::Cow;
use yieldtray_expression::{NotRepresentable, Value, ValueKind};
use yieldtray_http::is_json;

/// The context of a placeholder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SubstitutionContext {
    /// The start of a target: the value is a URL.
    TargetStart,
    /// A path or query.
    Target,
    /// A header value.
    Header,
    /// A JSON body, inside a string literal.
    JsonString,
    /// A JSON body, elsewhere.
    Json,
    /// An XML body.
    Xml,
    /// A form body (application/x-www-form-urlencoded).
    Form,
    /// Any other text.
    Text,
}

impl SubstitutionContext {
    /// How the place is called in a message.
    pub(super) fn describe(self) -> &'static str {
        match self {
            SubstitutionContext::TargetStart | SubstitutionContext::Target => "the target",
            SubstitutionContext::Header => "a header",
            SubstitutionContext::JsonString => "a JSON string",
            SubstitutionContext::Json => "JSON",
            SubstitutionContext::Xml => "XML",
            SubstitutionContext::Form => "a form",
            SubstitutionContext::Text => "text",
        }
    }

    /// `value` as it is written here; `raw` leaves the encoding off.
    pub fn write(self, value: &Value, raw: bool) -> Result<Cow<'_, str>, NotRepresentable> {
        if self == SubstitutionContext::Json {
            let structure = matches!(value.kind(), ValueKind::List | ValueKind::Map | ValueKind::Null);
            return match raw && !structure {
                true => value.to_text(),
                false => Ok(Cow::Owned(value.show())),
            };
        }
        let text = value.to_text()?;
        Ok(if raw { text } else { self.encode(text) })
    }

    /// A text as it is written here.
    pub fn encode(self, text: Cow<'_, str>) -> Cow<'_, str> {
        match self {
            SubstitutionContext::TargetStart
            | SubstitutionContext::Header
            | SubstitutionContext::Text
            | SubstitutionContext::Json => text,
            SubstitutionContext::Target => encoded(Encoding::Percent, text),
            SubstitutionContext::JsonString => encoded(Encoding::Json, text),
            SubstitutionContext::Xml => encoded(Encoding::Xml, text),
            SubstitutionContext::Form => encoded(Encoding::Form, text),
        }
    }
}

fn encoded(encoding: Encoding, text: Cow<'_, str>) -> Cow<'_, str> {
    match text {
        Cow::Borrowed(text) => encoding.of(text),
        Cow::Owned(text) => Cow::Owned(encoding.of(&text).into_owned()),
    }
}

/// Follows a text as it is written and knows at each mark what surrounds it.
#[derive(Clone, Debug)]
pub enum ContextTracker {
    /// A request target.
    Target {
        /// Whether something of it is written.
        started: bool,
    },
    /// A JSON text.
    Json {
        /// True inside a string.
        in_string: bool,
        /// True after a backslash.
        escaped: bool,
    },
    /// The same place all along.
    Same(SubstitutionContext),
    /// The same place all along, where plain text is encoded as values are.
    Encoded(SubstitutionContext),
}

impl ContextTracker {
    /// Literal text as it is written here.
    pub(super) fn literal<'t>(&self, text: &'t str) -> Cow<'t, str> {
        match self {
            Self::Encoded(place) => place.encode(Cow::Borrowed(text)),
            _ => Cow::Borrowed(text),
        }
    }

    pub(super) fn target() -> Self {
        Self::Target { started: false }
    }

    /// The surroundings of a body with this media type; without one, of a body that begins so.
    pub fn body(media_type: Option<&str>, body: &str) -> Self {
        let media = media_type.map(|full| full.split(';').next().unwrap_or_default().trim().to_ascii_lowercase());
        match media.as_deref() {
            Some(media) if is_json(media) => Self::json(),
            Some(media) if media.ends_with("/xml") || media.ends_with("+xml") => Self::Same(SubstitutionContext::Xml),
            Some("application/x-www-form-urlencoded") => Self::Same(SubstitutionContext::Form),
            None if looks_like_json(body) => Self::json(),
            _ => Self::Same(SubstitutionContext::Text),
        }
    }

    pub(super) fn json() -> Self {
        Self::Json { in_string: false, escaped: false }
    }

    /// Goes over literal text.
    pub fn consume(&mut self, text: &str) {
        match self {
            Self::Target { started } => *started |= !text.is_empty(),
            Self::Json { in_string, escaped } => {
                for byte in text.bytes() {
                    match byte {
                        _ if *escaped => *escaped = false,
                        b'\\' if *in_string => *escaped = true,
                        b'"' => *in_string = !*in_string,
                        _ => {}
                    }
                }
            }
            Self::Same(_) | Self::Encoded(_) => {}
        }
    }

    /// The context of a placeholder at this position. A placeholder counts as content.
    pub fn at_placeholder(&mut self) -> SubstitutionContext {
        match self {
            Self::Target { started } => match std::mem::replace(started, true) {
                false => SubstitutionContext::TargetStart,
                true => SubstitutionContext::Target,
            },
            Self::Json { in_string: true, .. } => SubstitutionContext::JsonString,
            Self::Json { .. } => SubstitutionContext::Json,
            Self::Same(place) | Self::Encoded(place) => *place,
        }
    }
}

/// True if a body without a media type starts like a JSON object or array. A placeholder at the start is not a brace
/// of JSON.
pub(super) fn looks_like_json(body: &str) -> bool {
    let start = body.trim_start();
    (start.starts_with('{') && !start.starts_with("{{")) || start.starts_with('[')
}
