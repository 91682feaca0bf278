//! The math extension library.

use super::{Call, Fault, Outcome, functions};
use crate::eval_error::EvalErrorKind;
use crate::value::Value;
use std::cmp::Ordering;

functions! { "math":
    "math.greatest" ["math.greatest(int...) -> int", "math.greatest(uint...) -> uint", "math.greatest(double...) -> double",
                     "math.greatest(list(A)) -> A", "math.greatest(dyn...) -> dyn"]
        "the greatest of several numbers, or of a list", "math.greatest(body.bins, 1)" => |call| extreme(call, Ordering::Greater);
    "math.least" ["math.least(int...) -> int", "math.least(uint...) -> uint", "math.least(double...) -> double",
                  "math.least(list(A)) -> A", "math.least(dyn...) -> dyn"]
        "the least of several numbers, or of a list", "math.least(body.lots.map(lot, lot.bins))" => |call| extreme(call, Ordering::Less);
    "math.ceil" ["math.ceil(double) -> double"] "rounds up", "math.ceil(body.kg)" => |call| of_double(call, f64::ceil);
    "math.floor" ["math.floor(double) -> double"] "rounds down", "math.floor(body.kg)" => |call| of_double(call, f64::floor);
    "math.round" ["math.round(double) -> double"] "rounds to the nearest integer, halves away from zero", "math.round(body.kg)" => |call| of_double(call, f64::round);
    "math.trunc" ["math.trunc(double) -> double"] "truncates the fraction", "math.trunc(body.kg)" => |call| of_double(call, f64::trunc);
    "math.sqrt" ["math.sqrt(double) -> double", "math.sqrt(int) -> double", "math.sqrt(uint) -> double"]
        "the square root", "math.sqrt(16)" => sqrt;
    "math.abs" ["math.abs(int) -> int", "math.abs(uint) -> uint", "math.abs(double) -> double"]
        "the absolute value", "math.abs(body.kg - 11.5) < 0.1" => abs;
    "math.sign" ["math.sign(int) -> int", "math.sign(uint) -> uint", "math.sign(double) -> double"]
        "-1, 0 or 1", "math.sign(body.change)" => sign;
    "math.isNaN" ["math.isNaN(double) -> bool"] "whether a double is not a number", "math.isNaN(body.kg)" => |call| double_test(call, f64::is_nan);
    "math.isInf" ["math.isInf(double) -> bool"] "whether a double is infinite", "math.isInf(body.kg)" => |call| double_test(call, f64::is_infinite);
    "math.isFinite" ["math.isFinite(double) -> bool"] "whether a double is a finite number", "math.isFinite(body.kg)" => |call| double_test(call, f64::is_finite);
    "math.bitAnd" ["math.bitAnd(int, int) -> int", "math.bitAnd(uint, uint) -> uint"]
        "bitwise AND", "math.bitAnd(body.flags, 4) != 0" => |call| bits(call, |a, b| a & b);
    "math.bitOr" ["math.bitOr(int, int) -> int", "math.bitOr(uint, uint) -> uint"]
        "bitwise OR", "math.bitOr(1, 4)" => |call| bits(call, |a, b| a | b);
    "math.bitXor" ["math.bitXor(int, int) -> int", "math.bitXor(uint, uint) -> uint"]
        "bitwise XOR", "math.bitXor(5, 4)" => |call| bits(call, |a, b| a ^ b);
    "math.bitNot" ["math.bitNot(int) -> int", "math.bitNot(uint) -> uint"]
        "bitwise NOT", "math.bitNot(0)" => bit_not;
    "math.bitShiftLeft" ["math.bitShiftLeft(int, int) -> int", "math.bitShiftLeft(uint, int) -> uint"]
        "shifts bits to the left", "math.bitShiftLeft(1, 4)" => |call| shift(call, |bits, by| bits.checked_shl(by).unwrap_or(0));
    "math.bitShiftRight" ["math.bitShiftRight(int, int) -> int", "math.bitShiftRight(uint, int) -> uint"]
        "shifts bits to the right, filling with zeros", "math.bitShiftRight(16, 4)" => |call| shift(call, |bits, by| bits.checked_shr(by).unwrap_or(0));
}

/// The number that comes first in an order; of equal ones the first.
fn extreme(call: &mut Call<'_>, order: Ordering) -> Outcome {
    let of_list;
    let numbers: &[Value] = match call.arguments {
        [Value::List(list)] => {
            if list.is_empty() {
                return Err(Fault::message("the list is empty"));
            }
            call.budget.take_reading(&call.arguments[0])?;
            of_list = list.iter().collect::<Vec<_>>();
            &of_list
        }
        numbers => numbers,
    };
    let mut found: Option<&Value> = None;
    for number in numbers {
        if !number.is_number() {
            return Err(Fault::NoOverload);
        }
        if found.is_none_or(|found| number.partial_cmp(found) == Some(order)) {
            found = Some(number);
        }
    }
    found.cloned().ok_or(Fault::NoOverload)
}

/// The only argument, if it is a double.
fn double(call: &Call<'_>) -> Result<f64, Fault> {
    match call.arguments {
        [Value::Double(number)] => Ok(*number),
        [Value::Decimal(number)] => Ok(number.to_double()),
        _ => Err(Fault::NoOverload),
    }
}

fn of_double(call: &mut Call<'_>, map: fn(f64) -> f64) -> Outcome {
    Ok(Value::Double(map(double(call)?)))
}

fn double_test(call: &mut Call<'_>, test: fn(f64) -> bool) -> Outcome {
    Ok(Value::Bool(test(double(call)?)))
}

fn sqrt(call: &mut Call<'_>) -> Outcome {
    let number = match call.arguments {
        [Value::Int(number)] => *number as f64,
        [Value::Uint(number)] => *number as f64,
        _ => double(call)?,
    };
    Ok(Value::Double(number.sqrt()))
}

fn abs(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Int(number)] => Ok(Value::Int(number.checked_abs().ok_or(EvalErrorKind::Range("int"))?)),
        [number @ Value::Uint(_)] => Ok(number.clone()),
        _ => Ok(Value::Double(double(call)?.abs())),
    }
}

fn sign(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Int(number)] => Ok(Value::Int(number.signum())),
        [Value::Uint(number)] => Ok(Value::Uint((*number).min(1))),
        _ => {
            let number = double(call)?;
            Ok(Value::Double(if number == 0.0 || number.is_nan() { number } else { number.signum() }))
        }
    }
}

fn bits(call: &mut Call<'_>, operator: fn(u64, u64) -> u64) -> Outcome {
    match call.arguments {
        [Value::Int(a), Value::Int(b)] => Ok(Value::Int(operator(a.cast_unsigned(), b.cast_unsigned()).cast_signed())),
        [Value::Uint(a), Value::Uint(b)] => Ok(Value::Uint(operator(*a, *b))),
        _ => Err(Fault::NoOverload),
    }
}

fn bit_not(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Int(number)] => Ok(Value::Int(!number)),
        [Value::Uint(number)] => Ok(Value::Uint(!number)),
        _ => Err(Fault::NoOverload),
    }
}

fn shift(call: &mut Call<'_>, shift: fn(u64, u32) -> u64) -> Outcome {
    let [number, Value::Int(by)] = call.arguments else { return Err(Fault::NoOverload) };
    let negative = || Fault::message(format!("cannot shift by a negative number: {by}"));
    let by = u64::try_from(*by).map_err(|_| negative())?;
    let by = u32::try_from(by).unwrap_or(u32::MAX);
    match number {
        Value::Int(number) => Ok(Value::Int(shift(number.cast_unsigned(), by).cast_signed())),
        Value::Uint(number) => Ok(Value::Uint(shift(*number, by))),
        _ => Err(Fault::NoOverload),
    }
}
