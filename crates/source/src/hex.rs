//! Bytes in hex (RFC 4648 8), lower case.

use std::fmt::Write;

/// Two letters a byte.
pub fn encode(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut hex, byte| {
        let _ = write!(hex, "{byte:02x}");
        hex
    })
}
