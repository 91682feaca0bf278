//! Media types.

/// The media type of responses to GraphQL requests (GraphQL over HTTP).
pub const GRAPHQL_MEDIA_TYPE: &str = "application/graphql-response+json";

/// The `Accept` field of GraphQL requests, the better type first.
pub const GRAPHQL_ACCEPT: &str = "application/graphql-response+json, application/json;q=0.9";

/// Whether a media type, without parameters, is that of one JSON document (RFC 8259 11, RFC 6839 3.1).
pub fn is_json(media: &str) -> bool {
    let ends_so = media.as_bytes().last_chunk::<5>().is_some_and(|end| end.eq_ignore_ascii_case(b"+json"));
    ends_so || media.eq_ignore_ascii_case("application/json")
}

/// Common media types of requests and responses.
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
