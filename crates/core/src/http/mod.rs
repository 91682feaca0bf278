//! What HTTP itself has words for: methods, header fields, media types. For help and slips, never to refuse
//! anything: whoever writes another word gets it sent.

pub mod body_shape;
mod digest;
mod fields;
mod origin;
mod sensitive;

pub use digest::digest;
pub use fields::{FIELDS, KnownField, field};
pub use origin::{origin_of, parse_origin};
pub use sensitive::{MASK, credential, is_secret_header};

/// The methods of RFC 9110 9.3 and RFC 5789, with what each is for.
pub const METHODS: &[(&str, &str)] = &[
    ("GET", "gets a representation (RFC 9110 9.3.1)"),
    ("POST", "hands the body to the resource, often to make a new one (RFC 9110 9.3.3)"),
    ("PUT", "puts the body in place of what is there (RFC 9110 9.3.4)"),
    ("PATCH", "changes a part of what is there (RFC 5789)"),
    ("DELETE", "removes what is there (RFC 9110 9.3.5)"),
    ("HEAD", "as GET, but only the header fields (RFC 9110 9.3.2)"),
    ("OPTIONS", "asks how one may communicate (RFC 9110 9.3.7)"),
    ("TRACE", "comes back as it arrived (RFC 9110 9.3.8)"),
    ("CONNECT", "asks for a tunnel (RFC 9110 9.3.6)"),
];

/// Whether a media type, without parameters, is that of one JSON document (RFC 8259 11, RFC 6839 3.1).
pub(crate) fn is_json(media: &str) -> bool {
    let ends_so = media.as_bytes().last_chunk::<5>().is_some_and(|end| end.eq_ignore_ascii_case(b"+json"));
    ends_so || media.eq_ignore_ascii_case("application/json")
}

/// Media types that requests and answers often have.
pub const MEDIA_TYPES: &[&str] = &[
    "application/json",
    "application/problem+json",
    "application/merge-patch+json",
    "application/json-patch+json",
    "application/xml",
    "application/x-www-form-urlencoded",
    "application/octet-stream",
    "application/pdf",
    "multipart/form-data",
    "text/plain",
    "text/html",
    "text/csv",
    "text/event-stream",
    "image/png",
    "image/jpeg",
    "image/svg+xml",
];
