//! The digest by which a body that is not kept is compared.

/// The digest of a body that is not kept.
pub fn digest(bytes: &[u8]) -> String {
    blake3::hash(bytes).to_hex().to_string()
}
