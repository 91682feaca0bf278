//! `format` of the strings extension library.

use super::{Call, Fault, Outcome, functions};
use crate::budget::Budget;
use crate::value::Value;
use std::fmt::Write as _;

functions! { "strings":
    "format" ["string.format(list(dyn)) -> string"]
        "formats a string: values replace `%s`, `%d`, `%f`, `%e`, `%b`, `%o`, `%x` and `%X`", "'%s: %.1f kg'.format([body.id, body.kg])" => format;
}

/// Digits after the point where none are asked for, and the most that may be.
const DEFAULT_PRECISION: usize = 6;
const MAX_PRECISION: usize = 1_000;

fn format(call: &mut Call<'_>) -> Outcome {
    let [Value::String(text), Value::List(arguments)] = call.arguments else { return Err(Fault::NoOverload) };
    let mut out = String::new();
    let mut rest: &str = text;
    let mut next = 0;
    while let Some(at) = rest.find('%') {
        out.push_str(&rest[..at]);
        rest = &rest[at + 1..];
        if let Some(after) = rest.strip_prefix('%') {
            out.push('%');
            rest = after;
            continue;
        }
        let (precision, after) = precision(rest)?;
        let Some(verb) = after.chars().next() else {
            return Err(Fault::message("incomplete `%` at the end of the format"));
        };
        rest = &after[verb.len_utf8()..];
        let value = arguments.get(next).ok_or_else(|| {
            Fault::message(format!("`%{verb}` needs argument {}, but only {next} were given", next + 1))
        })?;
        next += 1;
        let before = out.len();
        write_value(&mut out, verb, precision, &value, call.budget)?;
        call.budget.take_bytes((out.len() - before) as u64)?;
    }
    out.push_str(rest);
    call.budget.take_bytes(text.len() as u64)?;
    Ok(Value::string(out))
}

/// The digits after the point in `.3f`, and what follows.
fn precision(text: &str) -> Result<(Option<usize>, &str), Fault> {
    let Some(rest) = text.strip_prefix('.') else { return Ok((None, text)) };
    let length = rest.find(|c: char| !c.is_ascii_digit()).unwrap_or(rest.len());
    let precision = rest[..length].parse().ok().filter(|precision| *precision <= MAX_PRECISION);
    let precision =
        precision.ok_or_else(|| Fault::message(format!("after `%.` must be a number up to {MAX_PRECISION}")))?;
    Ok((Some(precision), &rest[length..]))
}

fn write_value(
    out: &mut String,
    verb: char,
    precision: Option<usize>,
    value: &Value,
    budget: &mut Budget,
) -> Result<(), Fault> {
    let cannot = || Fault::message(format!("`%{verb}` cannot format a value of type {}", value.type_name()));
    let digits = precision.unwrap_or(DEFAULT_PRECISION);
    let _ = match (verb, value) {
        ('s', value) => {
            budget.take_value(value)?;
            write_text(out, value).ok_or_else(cannot)?;
            Ok(())
        }
        ('d' | 'f' | 'e', Value::Double(number)) if !number.is_finite() => {
            write!(out, "{}", Value::Double(*number).to_text().unwrap_or_default())
        }
        ('d', Value::Int(number)) => write!(out, "{number}"),
        ('d', Value::Uint(number)) => write!(out, "{number}"),
        ('d', Value::Double(number)) => write!(out, "{number}"),
        ('f' | 'e', number) if number.is_number() => {
            let number = as_double(number);
            match verb {
                'f' => write!(out, "{number:.digits$}"),
                _ => {
                    let text = format!("{number:.digits$e}");
                    // At least two digits of the exponent, with its sign.
                    let (mantissa, exponent) = text.split_once('e').unwrap_or((&text, "0"));
                    let (sign, exponent) =
                        exponent.strip_prefix('-').map_or(('+', exponent), |exponent| ('-', exponent));
                    write!(out, "{mantissa}e{sign}{exponent:0>2}")
                }
            }
        }
        ('b', Value::Bool(truth)) => write!(out, "{}", u8::from(*truth)),
        ('b' | 'o' | 'x' | 'X', Value::Int(number)) => {
            let sign = if *number < 0 { "-" } else { "" };
            write!(out, "{sign}{}", in_base(verb, number.unsigned_abs()))
        }
        ('b' | 'o' | 'x' | 'X', Value::Uint(number)) => write!(out, "{}", in_base(verb, *number)),
        ('x' | 'X', Value::String(text)) => write_hex(out, text.as_bytes(), verb, budget),
        ('x' | 'X', Value::Bytes(bytes)) => write_hex(out, bytes, verb, budget),
        ('d' | 'f' | 'e' | 'b' | 'o' | 'x' | 'X', _) => return Err(cannot()),
        _ => {
            return Err(Fault::message(format!(
                "unknown format verb `%{verb}`; available: %s, %d, %f, %e, %b, %o, %x and %X"
            )));
        }
    };
    Ok(())
}

fn as_double(number: &Value) -> f64 {
    match number {
        Value::Int(number) => *number as f64,
        Value::Uint(number) => *number as f64,
        Value::Double(number) => *number,
        Value::Decimal(number) => number.to_double(),
        _ => f64::NAN,
    }
}

fn in_base(verb: char, number: u64) -> String {
    match verb {
        'b' => format!("{number:b}"),
        'o' => format!("{number:o}"),
        'x' => format!("{number:x}"),
        _ => format!("{number:X}"),
    }
}

fn write_hex(out: &mut String, bytes: &[u8], verb: char, budget: &mut Budget) -> std::fmt::Result {
    // The budget is taken by the caller for what was written; this much is the most that may be written before.
    if budget.take_bytes(bytes.len() as u64).is_err() {
        return Err(std::fmt::Error);
    }
    bytes.iter().try_for_each(|byte| match verb {
        'x' => write!(out, "{byte:02x}"),
        _ => write!(out, "{byte:02X}"),
    })
}

/// A value as `%s` writes it: lists and maps with what is in them, the keys of maps in order.
fn write_text(out: &mut String, value: &Value) -> Option<()> {
    match value {
        Value::Null => out.push_str("null"),
        Value::Bytes(bytes) => out.push_str(&String::from_utf8_lossy(bytes)),
        Value::List(list) => {
            out.push('[');
            for (index, member) in list.iter().enumerate() {
                out.push_str(if index > 0 { ", " } else { "" });
                write_text(out, &member)?;
            }
            out.push(']');
        }
        Value::Map(map) => {
            let mut entries: Vec<(String, Value)> = map.iter().map(|(key, value)| (key.text(), value)).collect();
            entries.sort_by(|(a, _), (b, _)| a.cmp(b));
            out.push('{');
            for (index, (key, value)) in entries.iter().enumerate() {
                out.push_str(if index > 0 { ", " } else { "" });
                out.push_str(key);
                out.push_str(": ");
                write_text(out, value)?;
            }
            out.push('}');
        }
        Value::Optional(_) => return None,
        other => out.push_str(&other.to_text()?),
    }
    Some(())
}
