use super::{Evaluated, bytes};
use base64::Engine as _;
use cel::common::types::CelString;
use cel::common::value::CowVal;
use sha2::{Digest, Sha256};
use std::fmt::Write;

pub(super) fn base64<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let encoded = base64::engine::general_purpose::STANDARD.encode(bytes("base64", &arguments, 0)?);
    Ok(CowVal::owned(CelString::from(encoded)))
}

pub(super) fn sha256<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let digest = Sha256::digest(bytes("sha256", &arguments, 0)?);
    let hex = digest.iter().fold(String::with_capacity(64), |mut hex, byte| {
        let _ = write!(hex, "{byte:02x}");
        hex
    });
    Ok(CowVal::owned(CelString::from(hex)))
}
