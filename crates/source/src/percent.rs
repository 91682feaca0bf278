//! Percent-encoding (RFC 3986 2.1).

use percent_encoding::{AsciiSet, NON_ALPHANUMERIC};

/// Characters that stay as they are in a path or query value (RFC 3986 2.3).
pub const PERCENT_ENCODE_SET: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');
