//! The header fields that HTTP defines, with their meanings.

use super::MEDIA_TYPES;

/// A header field with a meaning of its own.
#[derive(Clone, Copy, Debug)]
pub struct KnownField {
    /// Its name as it is usually written; case means nothing (RFC 9110 5.1).
    pub name: &'static str,
    /// Its meaning.
    pub meaning: &'static str,
    /// Where it is defined.
    pub defined: &'static str,
    /// Values it often has.
    pub usual: &'static [&'static str],
}

macro_rules! fields {
    ($($name:literal $meaning:literal $defined:literal $usual:expr;)+) => {
        /// Header fields of requests, and those of responses that are often checked.
        pub static FIELDS: &[KnownField] =
            &[$(KnownField { name: $name, meaning: $meaning, defined: $defined, usual: $usual },)+];
    };
}

fields! {
    "Accept" "acceptable media types of the response" "RFC 9110 12.5.1" MEDIA_TYPES;
    "Accept-Charset" "acceptable charsets of the response; deprecated" "RFC 9110 12.5.2" &["utf-8"];
    "Accept-Encoding" "acceptable content codings of the response" "RFC 9110 12.5.3" &["gzip, br, zstd", "gzip", "identity"];
    "Accept-Language" "the languages that are preferred" "RFC 9110 12.5.4" &["en", "de, en;q=0.5"];
    "Accept-Patch" "the media types that PATCH takes here" "RFC 5789 3.1" &[];
    "Accept-Ranges" "whether parts of the resource can be asked for" "RFC 9110 14.3" &["bytes", "none"];
    "Access-Control-Allow-Origin" "origins that may read the response" "the Fetch standard" &["*"];
    "Access-Control-Request-Headers" "the fields a later request would have" "the Fetch standard" &[];
    "Access-Control-Request-Method" "the method a later request would have" "the Fetch standard" &["POST", "PUT", "DELETE"];
    "Age" "seconds the response has been in a cache" "RFC 9111 5.1" &[];
    "Allow" "methods the resource supports" "RFC 9110 10.2.1" &[];
    "Authorization" "credentials for the server" "RFC 9110 11.6.2" &["Bearer {{token}}", "Basic {{base64(user + ':' + password)}}"];
    "Cache-Control" "directives for caches" "RFC 9111 5.2" &["no-cache", "no-store", "max-age=0"];
    "Content-Disposition" "whether the body is displayed or saved, and its file name" "RFC 6266" &["attachment; filename=\"lots.csv\"", "inline"];
    "Content-Encoding" "content codings of the body" "RFC 9110 8.4" &["gzip", "br", "zstd"];
    "Content-Language" "the language of the body" "RFC 9110 8.5" &["en"];
    "Content-Length" "length of the body in bytes; set automatically" "RFC 9110 8.6" &[];
    "Content-Location" "URL of this representation" "RFC 9110 8.7" &[];
    "Content-Range" "range of the whole that the body contains" "RFC 9110 14.4" &[];
    "Content-Type" "the media type of the body" "RFC 9110 8.3" MEDIA_TYPES;
    "Cookie" "the cookies that are sent back" "RFC 6265 5.4" &[];
    "Date" "when the message was made" "RFC 9110 6.6.1" &[];
    "ETag" "identifier of this version of the resource" "RFC 9110 8.8.3" &[];
    "Expect" "expectations the server must meet before the body is sent" "RFC 9110 10.1.1" &["100-continue"];
    "Expires" "time until which the response is fresh" "RFC 9111 5.3" &[];
    "Forwarded" "what proxies disclose about the sender" "RFC 7239 4" &["for=192.0.2.60;proto=https"];
    "From" "the e-mail address of who is responsible" "RFC 9110 10.1.2" &[];
    "Host" "the host and port that are meant" "RFC 9110 7.2" &[];
    "Idempotency-Key" "distinguishes repeated requests from new ones; an IETF draft" "draft-ietf-httpapi-idempotency-key-header" &["{{uuid()}}"];
    "If-Match" "proceed only if the resource has this ETag" "RFC 9110 13.1.1" &["*", "{{etag}}"];
    "If-Modified-Since" "respond only if modified since" "RFC 9110 13.1.3" &[];
    "If-None-Match" "proceed only if the resource has none of these ETags" "RFC 9110 13.1.2" &["*", "{{etag}}"];
    "If-Range" "the range if unchanged, else the whole" "RFC 9110 13.1.5" &[];
    "If-Unmodified-Since" "proceed only if not modified since" "RFC 9110 13.1.4" &[];
    "Last-Modified" "time of the last modification" "RFC 9110 8.8.2" &[];
    "Link" "related resources, as pages of a list" "RFC 8288 3" &[];
    "Location" "location of the resource or redirect target" "RFC 9110 10.2.2" &[];
    "Max-Forwards" "how many proxies may pass it on" "RFC 9110 7.6.2" &["0"];
    "Origin" "the origin that caused the request" "RFC 6454 7" &["https://packhouse.example"];
    "Pragma" "an old word for caches" "RFC 9111 5.4" &["no-cache"];
    "Prefer" "preferences of the sender" "RFC 7240 2" &["return=representation", "return=minimal", "respond-async", "wait=10"];
    "Priority" "priority of the response" "RFC 9218 4" &["u=1", "u=5, i"];
    "Proxy-Authorization" "credentials for the proxy" "RFC 9110 11.7.2" &[];
    "Range" "which part is asked for" "RFC 9110 14.2" &["bytes=0-1023"];
    "Referer" "URL that led to this request" "RFC 9110 10.1.3" &[];
    "Retry-After" "how long to wait before retrying" "RFC 9110 10.2.3" &[];
    "Server" "software of the server" "RFC 9110 10.2.4" &[];
    "Set-Cookie" "a cookie to keep and send back" "RFC 6265 4.1" &[];
    "TE" "the transfer codings and trailers that are understood" "RFC 9110 10.1.4" &["trailers"];
    "Trailer" "which fields follow the body" "RFC 9110 6.6.2" &[];
    "Upgrade" "another protocol to go on with" "RFC 9110 7.8" &[];
    "User-Agent" "software of the sender" "RFC 9110 10.1.5" &[];
    "Vary" "request headers the response depends on" "RFC 9110 12.5.5" &[];
    "Via" "the proxies it came through" "RFC 9110 7.6.3" &[];
    "WWW-Authenticate" "how to authenticate" "RFC 9110 11.6.1" &[];
    "X-Api-Key" "an API key, by convention; not standardized" "no standard" &["{{api_key}}"];
    "X-Forwarded-For" "client addresses, by convention; the standard is `Forwarded`" "no standard" &[];
    "X-Request-Id" "identifier of this request in logs, by convention" "no standard" &["{{uuid()}}"];
    "traceparent" "the trace this request belongs to" "W3C Trace Context" &[];
}

/// The field of that name, in whatever case.
pub fn field(name: &str) -> Option<&'static KnownField> {
    FIELDS.iter().find(|field| field.name.eq_ignore_ascii_case(name))
}
