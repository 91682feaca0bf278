//! Integers of either type, and doubles that are whole.

use super::Value;

/// An integer of either type.
pub(super) fn integer(value: &Value) -> Option<i128> {
    match value {
        Value::Int(number) => Some((*number).into()),
        Value::Uint(number) => Some((*number).into()),
        _ => None,
    }
}

/// The integer that a double is exactly, if it has at most 64 bits.
pub(super) fn whole(double: f64) -> Option<i128> {
    let whole = double as i128;
    let fits = i64::try_from(whole).is_ok() || u64::try_from(whole).is_ok();
    (fits && whole as f64 == double).then_some(whole)
}
