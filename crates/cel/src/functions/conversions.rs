//! Conversions between types (langdef, "Type Conversions").

use super::{Call, Fault, Outcome, functions};
use crate::eval_error::EvalErrorKind;
use crate::value::{Value, parse_duration, parse_timestamp, timestamp};

functions! { "":
    "int" ["int(int) -> int", "int(uint) -> int", "int(double) -> int", "int(string) -> int", "int(timestamp) -> int"]
        "converts a number or a string of digits to an integer; a timestamp to seconds since 1970", "int(headers['x-total'])" => int;
    "uint" ["uint(uint) -> uint", "uint(int) -> uint", "uint(double) -> uint", "uint(string) -> uint"]
        "converts a number or a string of digits to an unsigned integer", "uint(24)" => uint;
    "double" ["double(double) -> double", "double(int) -> double", "double(uint) -> double", "double(string) -> double"]
        "converts a number or a string of digits to a double", "double(body.kg)" => double;
    "string" ["string(string) -> string", "string(int) -> string", "string(uint) -> string", "string(double) -> string",
              "string(bool) -> string", "string(bytes) -> string", "string(timestamp) -> string", "string(duration) -> string",
              "string(net.IP) -> string", "string(net.CIDR) -> string"]
        "converts a value to a string", "string(body.bins)" => string;
    "bytes" ["bytes(bytes) -> bytes", "bytes(string) -> bytes"]
        "the UTF-8 bytes of a string", "bytes(body.ref)" => bytes;
    "bool" ["bool(bool) -> bool", "bool(string) -> bool"]
        "converts a string to a boolean", "bool(headers['x-open'])" => boolean;
    "timestamp" ["timestamp(timestamp) -> timestamp", "timestamp(string) -> timestamp", "timestamp(int) -> timestamp"]
        "the timestamp in an RFC 3339 string, or of seconds since 1970", "timestamp(body.packed_at) < now()" => time;
    "duration" ["duration(duration) -> duration", "duration(string) -> duration"]
        "the duration in a string: `1h30m`, `250ms`", "elapsed < duration('250ms')" => length;
}

/// A text that is not one of a type.
fn not_a(text: &str, expected: &'static str) -> Fault {
    Fault::Kind(EvalErrorKind::Text { text: text.to_owned(), expected })
}

fn int(call: &mut Call<'_>) -> Outcome {
    let range = Fault::Kind(EvalErrorKind::Range("int"));
    Ok(Value::Int(match call.arguments {
        [Value::Int(number)] => *number,
        [Value::Uint(number)] => i64::try_from(*number).map_err(|_| range)?,
        // The limits themselves are doubles that 64 bits hold or just do not: both are refused.
        [Value::Double(number)] if *number > i64::MIN as f64 && *number < i64::MAX as f64 => *number as i64,
        [Value::Double(_)] => return Err(range),
        [Value::Decimal(number)] => {
            let double = number.to_double();
            if !(double > i64::MIN as f64 && double < i64::MAX as f64) {
                return Err(range);
            }
            double as i64
        }
        [Value::String(text)] => text.parse().map_err(|_| not_a(text, "an integer"))?,
        [Value::Timestamp(time)] => time.timestamp(),
        _ => return Err(Fault::NoOverload),
    }))
}

fn uint(call: &mut Call<'_>) -> Outcome {
    let range = Fault::Kind(EvalErrorKind::Range("uint"));
    Ok(Value::Uint(match call.arguments {
        [Value::Uint(number)] => *number,
        [Value::Int(number)] => u64::try_from(*number).map_err(|_| range)?,
        [Value::Double(number)] if *number > -1.0 && *number < u64::MAX as f64 => *number as u64,
        [Value::Double(_) | Value::Decimal(_)] => return Err(range),
        [Value::String(text)] => text.parse().map_err(|_| not_a(text, "an unsigned integer"))?,
        _ => return Err(Fault::NoOverload),
    }))
}

fn double(call: &mut Call<'_>) -> Outcome {
    Ok(Value::Double(match call.arguments {
        [Value::Double(number)] => *number,
        [Value::Decimal(number)] => number.to_double(),
        [Value::Int(number)] => *number as f64,
        [Value::Uint(number)] => *number as f64,
        [Value::String(text)] => text.parse().map_err(|_| not_a(text, "a number"))?,
        _ => return Err(Fault::NoOverload),
    }))
}

fn string(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [text @ Value::String(_)] => Ok(text.clone()),
        [Value::Type(_)] => Err(Fault::NoOverload),
        [bytes @ Value::Bytes(_)] => {
            let text = bytes.to_text().ok_or(EvalErrorKind::NotUtf8)?;
            call.budget.take_bytes(text.len() as u64)?;
            Ok(Value::string(&*text))
        }
        [value] => Ok(Value::string(value.to_text().ok_or(Fault::NoOverload)?.into_owned())),
        _ => Err(Fault::NoOverload),
    }
}

fn bytes(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [bytes @ Value::Bytes(_)] => Ok(bytes.clone()),
        [Value::String(text)] => {
            call.budget.take_bytes(text.len() as u64)?;
            Ok(Value::bytes(text.as_bytes()))
        }
        _ => Err(Fault::NoOverload),
    }
}

fn boolean(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Bool(truth)] => Ok(Value::Bool(*truth)),
        [Value::String(text)] => match &**text {
            "1" | "t" | "true" | "TRUE" | "True" => Ok(Value::Bool(true)),
            "0" | "f" | "false" | "FALSE" | "False" => Ok(Value::Bool(false)),
            other => Err(not_a(other, "true or false")),
        },
        _ => Err(Fault::NoOverload),
    }
}

fn time(call: &mut Call<'_>) -> Outcome {
    Ok(Value::Timestamp(match call.arguments {
        [Value::Timestamp(time)] => *time,
        [Value::Int(seconds)] => timestamp(*seconds).ok_or(EvalErrorKind::Range("timestamp"))?,
        [Value::String(text)] => parse_timestamp(text).ok_or_else(|| not_a(text, "an RFC 3339 timestamp"))?,
        _ => return Err(Fault::NoOverload),
    }))
}

fn length(call: &mut Call<'_>) -> Outcome {
    Ok(Value::Duration(match call.arguments {
        [Value::Duration(length)] => *length,
        [Value::String(text)] => {
            parse_duration(text).ok_or_else(|| not_a(text, "a duration such as `1h30m` or `250ms`"))?
        }
        _ => return Err(Fault::NoOverload),
    }))
}
