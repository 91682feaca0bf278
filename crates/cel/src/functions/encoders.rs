//! The encoders extension library.

use super::{Call, Fault, Outcome, functions};
use crate::value::Value;
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, STANDARD_NO_PAD};

functions! { "encoders":
    "base64.encode" ["base64.encode(bytes) -> string"]
        "bytes in base64 (RFC 4648 4)", "base64.encode(bytes(body.ref))" => encode;
    "base64.decode" ["base64.decode(string) -> bytes"]
        "decodes base64 (RFC 4648 4), padded or not, to bytes", "string(base64.decode(body.payload))" => decode;
}

fn encode(call: &mut Call<'_>) -> Outcome {
    let [Value::Bytes(bytes)] = call.arguments else { return Err(Fault::NoOverload) };
    call.budget.take_bytes(bytes.len() as u64 / 3 * 4 + 4)?;
    Ok(Value::string(STANDARD.encode(bytes)))
}

fn decode(call: &mut Call<'_>) -> Outcome {
    let [Value::String(text)] = call.arguments else { return Err(Fault::NoOverload) };
    call.budget.take_bytes(text.len() as u64)?;
    let decoded = STANDARD_NO_PAD.decode(text.trim_end_matches('='));
    decoded.map(Value::bytes).map_err(|_| Fault::message("the string is not base64 (RFC 4648 4)"))
}
