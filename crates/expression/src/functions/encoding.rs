//! Functions that encode, decode, hash and sign.

use super::{Context, bytes, made, text};
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD, URL_SAFE_NO_PAD};
use hmac::{Hmac, KeyInit, Mac};
use percent_encoding::percent_encode;
use sha1::Sha1;
use sha2::{Digest, Sha256, Sha384, Sha512};
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome};
use yieldtray_source::hex as digits;
use yieldtray_source::percent::PERCENT_ENCODE_SET;

pub(super) fn base64(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let encoded = STANDARD.encode(bytes(call, 0)?);
    made(call, encoded)
}

pub(super) fn base64url(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let encoded = URL_SAFE_NO_PAD.encode(bytes(call, 0)?);
    made(call, encoded)
}

/// Bytes, or text where they are UTF-8: most of what is encoded was text before.
pub(super) fn unbase64(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let encoded: String = text(call, 0)?.chars().filter(|c| !c.is_ascii_whitespace()).collect();
    // Both alphabets are taken, with padding or without: what a token holds is written either way.
    let plain = encoded.trim_end_matches('=').replace('-', "+").replace('_', "/");
    let decoded = STANDARD_NO_PAD.decode(plain).map_err(|_| Fault::message("expects base64 (RFC 4648 4 or 5)"))?;
    call.budget.take_bytes(decoded.len() as u64)?;
    Ok(String::from_utf8(decoded).map_or_else(|error| Value::bytes(error.into_bytes()), Value::string))
}

pub(super) fn hex(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let encoded = digits::encode(&bytes(call, 0)?);
    made(call, encoded)
}

pub(super) fn unhex(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let encoded = text(call, 0)?;
    let decoded =
        digits::decode(encoded).ok_or_else(|| Fault::message("expects an even number of hex digits (RFC 4648 8)"))?;
    call.budget.take_bytes(decoded.len() as u64)?;
    Ok(Value::bytes(decoded))
}

pub(super) fn sha256(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let digest = Sha256::digest(bytes(call, 0)?);
    made(call, digits::encode(&digest))
}

pub(super) fn hmac_sha256(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let (key, message) = (bytes(call, 0)?, bytes(call, 1)?);
    let mac = mac_of("sha256", &key, &message)?;
    made(call, digits::encode(&mac))
}

/// An algorithm that there is not.
fn unknown(algorithm: &str) -> Fault {
    Fault::message(format!("unknown algorithm `{algorithm}`; available: `sha1`, `sha256`, `sha384` and `sha512`"))
}

pub(super) fn digest(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let (algorithm, message) = (text(call, 0)?, bytes(call, 1)?);
    Ok(Value::bytes(match algorithm {
        "sha1" => Sha1::digest(&message).to_vec(),
        "sha256" => Sha256::digest(&message).to_vec(),
        "sha384" => Sha384::digest(&message).to_vec(),
        "sha512" => Sha512::digest(&message).to_vec(),
        other => return Err(unknown(other)),
    }))
}

pub(super) fn hmac(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let (algorithm, key, message) = (text(call, 0)?, bytes(call, 1)?, bytes(call, 2)?);
    Ok(Value::bytes(mac_of(algorithm, &key, &message)?))
}

fn mac_of(algorithm: &str, key: &[u8], message: &[u8]) -> Result<Vec<u8>, Fault> {
    fn mac<M: Mac + KeyInit>(key: &[u8], message: &[u8]) -> Result<Vec<u8>, Fault> {
        let mut mac = <M as KeyInit>::new_from_slice(key).map_err(|_| Fault::message("cannot use this key"))?;
        mac.update(message);
        Ok(mac.finalize().into_bytes().to_vec())
    }
    match algorithm {
        "sha1" => mac::<Hmac<Sha1>>(key, message),
        "sha256" => mac::<Hmac<Sha256>>(key, message),
        "sha384" => mac::<Hmac<Sha384>>(key, message),
        "sha512" => mac::<Hmac<Sha512>>(key, message),
        other => Err(unknown(other)),
    }
}

pub(super) fn urlencode(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let encoded = percent_encode(&bytes(call, 0)?, PERCENT_ENCODE_SET).to_string();
    made(call, encoded)
}
