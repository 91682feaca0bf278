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
    "Accept" "the media types that the answer may have" "RFC 9110 12.5.1" MEDIA_TYPES;
    "Accept-Charset" "the charsets that the answer may have; deprecated" "RFC 9110 12.5.2" &["utf-8"];
    "Accept-Encoding" "the codings the answer may come in" "RFC 9110 12.5.3" &["gzip, br, zstd", "gzip", "identity"];
    "Accept-Language" "the languages that are preferred" "RFC 9110 12.5.4" &["en", "de, en;q=0.5"];
    "Accept-Patch" "the media types that PATCH takes here" "RFC 5789 3.1" &[];
    "Accept-Ranges" "whether parts of the resource can be asked for" "RFC 9110 14.3" &["bytes", "none"];
    "Access-Control-Allow-Origin" "which origins may read the answer" "the Fetch standard" &["*"];
    "Access-Control-Request-Headers" "the fields a later request would have" "the Fetch standard" &[];
    "Access-Control-Request-Method" "the method a later request would have" "the Fetch standard" &["POST", "PUT", "DELETE"];
    "Age" "for how many seconds a cache has held the answer" "RFC 9111 5.1" &[];
    "Allow" "the methods that the resource knows" "RFC 9110 10.2.1" &[];
    "Authorization" "credentials for the server" "RFC 9110 11.6.2" &["Bearer {{token}}", "Basic {{base64(user + ':' + password)}}"];
    "Cache-Control" "what caches on the way may do" "RFC 9111 5.2" &["no-cache", "no-store", "max-age=0"];
    "Content-Disposition" "whether a body is shown or saved, and by which file name" "RFC 6266" &["attachment; filename=\"lots.csv\"", "inline"];
    "Content-Encoding" "the codings the body is in" "RFC 9110 8.4" &["gzip", "br", "zstd"];
    "Content-Language" "the language of the body" "RFC 9110 8.5" &["en"];
    "Content-Length" "the bytes of the body; written for you" "RFC 9110 8.6" &[];
    "Content-Location" "the address of just this representation" "RFC 9110 8.7" &[];
    "Content-Range" "which part of the whole the body is" "RFC 9110 14.4" &[];
    "Content-Type" "the media type of the body" "RFC 9110 8.3" MEDIA_TYPES;
    "Cookie" "the cookies that are sent back" "RFC 6265 5.4" &[];
    "Date" "when the message was made" "RFC 9110 6.6.1" &[];
    "ETag" "a mark of this version of the resource" "RFC 9110 8.8.3" &[];
    "Expect" "what the server must agree to before the body comes" "RFC 9110 10.1.1" &["100-continue"];
    "Expires" "until when the answer is fresh" "RFC 9111 5.3" &[];
    "Forwarded" "what proxies on the way know of the sender" "RFC 7239 4" &["for=192.0.2.60;proto=https"];
    "From" "the e-mail address of who is responsible" "RFC 9110 10.1.2" &[];
    "Host" "the host and port that are meant" "RFC 9110 7.2" &[];
    "Idempotency-Key" "tells repeated requests from new ones; a draft of the IETF" "draft-ietf-httpapi-idempotency-key-header" &["{{uuid()}}"];
    "If-Match" "go on only if the resource has this mark" "RFC 9110 13.1.1" &["*", "{{etag}}"];
    "If-Modified-Since" "answer only if it changed since" "RFC 9110 13.1.3" &[];
    "If-None-Match" "go on only if the resource has none of these marks" "RFC 9110 13.1.2" &["*", "{{etag}}"];
    "If-Range" "the part if nothing changed, else the whole" "RFC 9110 13.1.5" &[];
    "If-Unmodified-Since" "go on only if it did not change since" "RFC 9110 13.1.4" &[];
    "Last-Modified" "when the resource changed last" "RFC 9110 8.8.2" &[];
    "Link" "related resources, as pages of a list" "RFC 8288 3" &[];
    "Location" "where the resource is, or where to ask next" "RFC 9110 10.2.2" &[];
    "Max-Forwards" "how many proxies may pass it on" "RFC 9110 7.6.2" &["0"];
    "Origin" "the origin that caused the request" "RFC 6454 7" &["https://packhouse.example"];
    "Pragma" "an old word for caches" "RFC 9111 5.4" &["no-cache"];
    "Prefer" "what the sender would like, if it can be" "RFC 7240 2" &["return=representation", "return=minimal", "respond-async", "wait=10"];
    "Priority" "how urgent the answer is" "RFC 9218 4" &["u=1", "u=5, i"];
    "Proxy-Authorization" "credentials for the proxy" "RFC 9110 11.7.2" &[];
    "Range" "which part is asked for" "RFC 9110 14.2" &["bytes=0-1023"];
    "Referer" "the address from which this one was followed" "RFC 9110 10.1.3" &[];
    "Retry-After" "how long to wait before asking again" "RFC 9110 10.2.3" &[];
    "Server" "what software the server says it is" "RFC 9110 10.2.4" &[];
    "Set-Cookie" "a cookie to keep and send back" "RFC 6265 4.1" &[];
    "TE" "the transfer codings and trailers that are understood" "RFC 9110 10.1.4" &["trailers"];
    "Trailer" "which fields follow the body" "RFC 9110 6.6.2" &[];
    "Upgrade" "another protocol to go on with" "RFC 9110 7.8" &[];
    "User-Agent" "what software the sender says it is" "RFC 9110 10.1.5" &[];
    "Vary" "which fields of the request the answer depends on" "RFC 9110 12.5.5" &[];
    "Via" "the proxies it came through" "RFC 9110 7.6.3" &[];
    "WWW-Authenticate" "how to prove who one is" "RFC 9110 11.6.1" &[];
    "X-Api-Key" "a key of the API, by custom; no standard defines it" "no standard" &["{{api_key}}"];
    "X-Forwarded-For" "the addresses it came from, by custom; `Forwarded` is the standard" "no standard" &[];
    "X-Request-Id" "a name for this request in logs, by custom" "no standard" &["{{uuid()}}"];
    "traceparent" "the trace this request belongs to" "W3C Trace Context" &[];
}

/// The field of that name, in whatever case.
pub fn field(name: &str) -> Option<&'static KnownField> {
    FIELDS.iter().find(|field| field.name.eq_ignore_ascii_case(name))
}
