//! Bytes in hex (RFC 4648 8), lower case.

use std::fmt::Write;

/// Two letters a byte.
pub fn encode(bytes: &[u8]) -> String {
    bytes.iter().fold(String::with_capacity(bytes.len() * 2), |mut hex, byte| {
        let _ = write!(hex, "{byte:02x}");
        hex
    })
}

/// The bytes that hex digits of either case encode; none for any other text.
pub fn decode(text: &str) -> Option<Vec<u8>> {
    let digit = |byte: u8| char::from(byte).to_digit(16).map(|digit| digit as u8);
    let pairs = text.as_bytes().chunks(2);
    pairs.map(|pair| if let [high, low] = pair { Some(digit(*high)? << 4 | digit(*low)?) } else { None }).collect()
}
