//! The methods of HTTP, for completion and suggestions; any other method is sent, too.

/// The methods of RFC 9110 9.3 and RFC 5789, with what each is for.
pub const METHODS: &[(&str, &str)] = &[
    ("GET", "retrieves a representation (RFC 9110 9.3.1)"),
    ("POST", "submits the body to the resource, often to create one (RFC 9110 9.3.3)"),
    ("PUT", "replaces the resource with the body (RFC 9110 9.3.4)"),
    ("PATCH", "modifies part of the resource (RFC 5789)"),
    ("DELETE", "deletes the resource (RFC 9110 9.3.5)"),
    ("HEAD", "like GET, but without the body (RFC 9110 9.3.2)"),
    ("OPTIONS", "asks for the communication options (RFC 9110 9.3.7)"),
    ("TRACE", "echoes the request as received (RFC 9110 9.3.8)"),
    ("CONNECT", "asks for a tunnel (RFC 9110 9.3.6)"),
];
