//! The methods of HTTP, for completion and suggestions; any other method is sent, too.

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
