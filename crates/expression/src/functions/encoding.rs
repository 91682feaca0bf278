//! Functions that encode, decode, hash and sign.

use super::{Evaluated, bytes, error, text};
use crate::Value;
use base64::Engine as _;
use cel::common::types::CelString;
use cel::common::value::CowVal;
use hmac::{Hmac, KeyInit, Mac};
use percent_encoding::percent_encode;
use sha2::{Digest, Sha256};
use yieldtray_source::hex;
use yieldtray_source::percent::PERCENT_ENCODE_SET;

pub(super) fn base64<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let encoded = base64::engine::general_purpose::STANDARD.encode(bytes("base64", &arguments, 0)?);
    given(encoded)
}

pub(super) fn sha256<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let digest = Sha256::digest(bytes("sha256", &arguments, 0)?);
    given(hex::encode(&digest))
}

/// Bytes, or text where they are UTF-8: most of what is encoded was text before.
pub(super) fn unbase64<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let encoded: String = text("unbase64", &arguments, 0)?.chars().filter(|c| !c.is_ascii_whitespace()).collect();
    // Both alphabets are taken, with padding or without: what a token holds is written either way.
    let plain = encoded.trim_end_matches('=').replace('-', "+").replace('_', "/");
    let decoded = base64::engine::general_purpose::STANDARD_NO_PAD
        .decode(plain)
        .map_err(|_| error("unbase64", "wants base64 (RFC 4648 4 or 5), but this is none"))?;
    let value = String::from_utf8(decoded).map_or_else(|error| Value::bytes(error.into_bytes()), Value::text);
    Ok(CowVal::Owned(value.0.clone_as_boxed()))
}

pub(super) fn hex<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    given(hex::encode(&bytes("hex", &arguments, 0)?))
}

pub(super) fn hmac_sha256<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let (key, message) = (bytes("hmac_sha256", &arguments, 0)?, bytes("hmac_sha256", &arguments, 1)?);
    let mut mac = Hmac::<Sha256>::new_from_slice(&key).map_err(|_| error("hmac_sha256", "cannot take this key"))?;
    mac.update(&message);
    given(hex::encode(&mac.finalize().into_bytes()))
}

pub(super) fn urlencode<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    given(percent_encode(&bytes("urlencode", &arguments, 0)?, PERCENT_ENCODE_SET).to_string())
}

fn given<'b, 'v>(text: String) -> Evaluated<'b, 'v> {
    Ok(CowVal::owned(CelString::from(text)))
}
