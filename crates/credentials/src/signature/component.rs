//! The parts of a request that a signature covers (RFC 9421 2).

use super::quoted;
use thiserror::Error;
use url::form_urlencoded;
use yieldtray_http::PreparedRequest;
use yieldtray_source::closest;

/// The derived components of a request (RFC 9421 2.2), but for `@query-param`, which takes a name.
const DERIVED: &[&str] = &["@method", "@target-uri", "@authority", "@scheme", "@request-target", "@path", "@query"];

/// A component that a signature covers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Component {
    /// A derived component, by its name with `@`.
    Derived(&'static str),
    /// A query parameter.
    Parameter(String),
    /// A header field, in lower case.
    Field(String),
}

/// Why there is no such component.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ComponentError {
    /// Its name is not known.
    #[error("unknown component `{name}`{}", .meant.map(|meant| format!(": did you mean `{meant}`?")).unwrap_or_default())]
    Unknown {
        /// The name.
        name: String,
        /// The probable name.
        meant: Option<&'static str>,
    },
    /// It cannot be the name of a header field.
    #[error("`{0}` is not a component: use the name of a header, or one that begins with `@`")]
    NotAName(String),
    /// The request does not have it.
    #[error("it has no `{0}`, which its signature must cover")]
    Missing(String),
    /// The request has it more than once.
    #[error("it has `{0}` more than once, so that a signature cannot cover it (RFC 9421 2.2.8)")]
    Ambiguous(String),
}

impl Component {
    /// The component of a name: `@method`, `@query-param:NAME`, or a header.
    ///
    /// # Errors
    /// If there is none.
    pub fn parse(name: &str) -> Result<Self, ComponentError> {
        if let Some(parameter) = name.strip_prefix("@query-param:").filter(|parameter| !parameter.is_empty()) {
            return Ok(Component::Parameter(parameter.to_owned()));
        }
        if name.starts_with('@') {
            let known = DERIVED.iter().find(|derived| **derived == name);
            let meant = || closest(name, DERIVED.iter().copied().chain(["@query-param:NAME"]));
            return match known {
                Some(derived) => Ok(Component::Derived(derived)),
                None => Err(ComponentError::Unknown { name: name.to_owned(), meant: meant() }),
            };
        }
        let is_token = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~".contains(c);
        match !name.is_empty() && name.chars().all(is_token) {
            true => Ok(Component::Field(name.to_ascii_lowercase())),
            false => Err(ComponentError::NotAName(name.to_owned())),
        }
    }

    /// Whether it is this header field.
    pub(crate) fn is_field(&self, name: &str) -> bool {
        matches!(self, Component::Field(own) if own == name)
    }

    /// Its identifier in the signature base and in the parameters.
    pub(crate) fn identifier(&self) -> String {
        match self {
            Component::Derived(name) => format!("\"{name}\""),
            Component::Field(name) => format!("\"{name}\""),
            Component::Parameter(name) => {
                let name = encoded(name);
                format!("\"@query-param\";name={}", quoted(&name).unwrap_or_default())
            }
        }
    }

    /// Its value in a request.
    pub(crate) fn value(&self, request: &PreparedRequest) -> Result<String, ComponentError> {
        match self {
            Component::Derived(name) => Ok(derived(name, request)),
            Component::Parameter(name) => {
                let query =
                    request.wire_target().split_once('?').map(|(_, query)| query.to_owned()).unwrap_or_default();
                let mut found = form_urlencoded::parse(query.as_bytes()).filter(|(own, _)| own == name);
                let (_, value) = found.next().ok_or_else(|| ComponentError::Missing(format!("@query-param:{name}")))?;
                match found.next() {
                    None => Ok(encoded(&value)),
                    Some(_) => Err(ComponentError::Ambiguous(format!("@query-param:{name}"))),
                }
            }
            Component::Field(name) => {
                let headers = request.wire_headers();
                let values: Vec<&str> =
                    headers.iter().filter(|(own, _)| own == name).map(|(_, value)| value.trim()).collect();
                if values.is_empty() { Err(ComponentError::Missing(name.clone())) } else { Ok(values.join(", ")) }
            }
        }
    }
}

/// The value of a derived component (RFC 9421 2.2).
fn derived(name: &str, request: &PreparedRequest) -> String {
    let target = request.wire_target();
    let (path, query) = target.split_once('?').map_or((&*target, None), |(path, query)| (path, Some(query)));
    match name {
        "@method" => request.method.clone(),
        "@target-uri" => request.address().into_owned(),
        "@authority" => {
            let headers = request.wire_headers();
            let host = headers.iter().find(|(name, _)| name == "host").map(|(_, value)| value.to_ascii_lowercase());
            host.unwrap_or_default()
        }
        "@scheme" => request.url.scheme().to_owned(),
        "@request-target" => target.into_owned(),
        "@path" => {
            if path.is_empty() {
                "/".to_owned()
            } else {
                path.to_owned()
            }
        }
        _ => format!("?{}", query.unwrap_or_default()),
    }
}

/// Percent-encoded as RFC 9421 2.2.8 says: like a form, but a space is `%20`.
fn encoded(text: &str) -> String {
    form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>().replace('+', "%20")
}
