//! Equality and order of values. Numbers of different types are compared exactly.

use super::number::integer;
use super::{KeyRef, List, Map, Value};
use std::cmp::Ordering;

impl PartialEq for Value {
    /// `==` of the language: values of different types differ, except that numbers are equal if their values are.
    fn eq(&self, other: &Self) -> bool {
        match (self, other) {
            (Value::Null, Value::Null) => true,
            (Value::Bool(a), Value::Bool(b)) => a == b,
            (Value::Int(a), Value::Int(b)) => a == b,
            (Value::Uint(a), Value::Uint(b)) => a == b,
            (Value::Double(a), Value::Double(b)) => a == b,
            (Value::String(a), Value::String(b)) => a == b,
            (Value::Bytes(a), Value::Bytes(b)) => a == b,
            (Value::List(a), Value::List(b)) => lists_equal(a, b),
            (Value::Map(a), Value::Map(b)) => maps_equal(a, b),
            (Value::Timestamp(a), Value::Timestamp(b)) => a == b,
            (Value::Duration(a), Value::Duration(b)) => a == b,
            (Value::Type(a), Value::Type(b)) => a == b,
            (Value::Optional(a), Value::Optional(b)) => a == b,
            (Value::Object(a), Value::Object(b)) => a.type_name() == b.type_name() && a.equals(&**b),
            (a, b) => compare_numbers(a, b) == Some(Ordering::Equal),
        }
    }
}

fn lists_equal(a: &List, b: &List) -> bool {
    a.len() == b.len() && a.iter().zip(b.iter()).all(|(a, b)| a == b)
}

fn maps_equal(a: &Map, b: &Map) -> bool {
    a.len() == b.len() && a.iter().all(|(key, value)| b.get(key.as_ref()).is_some_and(|other| other == value))
}

impl PartialOrd for Value {
    /// The order of `<`; none for values of types that have no order, or not the same one, and for NaN.
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        match (self, other) {
            (Value::Int(a), Value::Int(b)) => Some(a.cmp(b)),
            (Value::Bool(a), Value::Bool(b)) => Some(a.cmp(b)),
            (Value::String(a), Value::String(b)) => Some(a.cmp(b)),
            (Value::Bytes(a), Value::Bytes(b)) => Some(a.cmp(b)),
            (Value::Timestamp(a), Value::Timestamp(b)) => Some(a.cmp(b)),
            (Value::Duration(a), Value::Duration(b)) => Some(a.cmp(b)),
            (a, b) => compare_numbers(a, b),
        }
    }
}

impl Value {
    /// True if it is a number.
    pub fn is_number(&self) -> bool {
        matches!(self, Value::Int(_) | Value::Uint(_) | Value::Double(_) | Value::Decimal(_))
    }

    /// Whether values of both types have an order with each other.
    pub(crate) fn has_order_with(&self, other: &Value) -> bool {
        let same = matches!(
            (self, other),
            (Value::Bool(_), Value::Bool(_))
                | (Value::String(_), Value::String(_))
                | (Value::Bytes(_), Value::Bytes(_))
                | (Value::Timestamp(_), Value::Timestamp(_))
                | (Value::Duration(_), Value::Duration(_))
        );
        same || self.is_number() && other.is_number()
    }
}

impl List {
    /// Whether a member equals a value.
    pub(crate) fn contains(&self, value: &Value) -> bool {
        self.iter().any(|member| member == *value)
    }
}

impl Map {
    /// True if it has a key.
    pub(crate) fn has_key(&self, key: &Value) -> bool {
        KeyRef::from_value(key).is_some_and(|key| self.get(key).is_some())
    }
}

/// The exact order of two numbers; none if one is not a number.
fn compare_numbers(a: &Value, b: &Value) -> Option<Ordering> {
    match (a, b) {
        (Value::Double(a), Value::Double(b)) => a.partial_cmp(b),
        (Value::Decimal(a), b) => a.partial_cmp_to(b),
        (a, Value::Decimal(b)) => b.partial_cmp_to(a).map(Ordering::reverse),
        (Value::Double(double), other) => compare_with_double(integer(other)?, *double).map(Ordering::reverse),
        (other, Value::Double(double)) => compare_with_double(integer(other)?, *double),
        (a, b) => Some(integer(a)?.cmp(&integer(b)?)),
    }
}

/// The order of an integer of 64 bits and a double. A double holds fewer digits than an integer, so that neither may
/// simply become the other.
fn compare_with_double(integer: i128, double: f64) -> Option<Ordering> {
    /// Beyond every integer of either type.
    const LIMIT: f64 = 18_446_744_073_709_551_616.0;
    if double.is_nan() {
        return None;
    }
    if double >= LIMIT {
        return Some(Ordering::Less);
    }
    if double < -LIMIT {
        return Some(Ordering::Greater);
    }
    let whole = double.trunc();
    Some(integer.cmp(&(whole as i128)).then_with(|| 0.0.partial_cmp(&(double - whole)).unwrap_or(Ordering::Equal)))
}
