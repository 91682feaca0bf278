//! Sums, products and the like.

use super::{Evaluator, Outcome};
use crate::eval_error::EvalErrorKind;
use crate::tree::{Binary, NodeId};
use crate::value::{Value, duration_in_range, timestamp_in_range};
use chrono::TimeDelta;

/// The result of an operator between two integers of one type; none if it is out of its range.
macro_rules! checked {
    ($operator:expr, $a:expr, $b:expr) => {
        match $operator {
            Binary::Add => $a.checked_add($b),
            Binary::Subtract => $a.checked_sub($b),
            Binary::Multiply => $a.checked_mul($b),
            Binary::Divide => $a.checked_div($b),
            _ => $a.checked_rem($b),
        }
    };
}

impl Evaluator<'_> {
    pub(super) fn negate(&mut self, id: NodeId, of: Value) -> Outcome {
        match of {
            Value::Int(number) => match number.checked_neg() {
                Some(number) => Ok(Value::Int(number)),
                None => self.fail(id, EvalErrorKind::Range("int")),
            },
            Value::Double(number) => Ok(Value::Double(-number)),
            Value::Decimal(number) => {
                let digits = number.as_str();
                Ok(Value::from_digits(&digits.strip_prefix('-').map_or_else(|| format!("-{digits}"), str::to_owned)))
            }
            Value::Duration(length) => Ok(Value::Duration(-length)),
            other => self.no_overload(id, "-", &[&other]),
        }
    }

    pub(super) fn arithmetic(&mut self, id: NodeId, operator: Binary, a: Value, b: Value) -> Outcome {
        let divides = matches!(operator, Binary::Divide | Binary::Modulo);
        match (&a, &b) {
            (Value::Int(_), Value::Int(0)) | (Value::Uint(_), Value::Uint(0)) if divides => {
                self.fail(id, EvalErrorKind::DivisionByZero)
            }
            (Value::Int(a), Value::Int(b)) => match checked!(operator, a, *b) {
                Some(number) => Ok(Value::Int(number)),
                None => self.fail(id, EvalErrorKind::Range("int")),
            },
            (Value::Uint(a), Value::Uint(b)) => match checked!(operator, a, *b) {
                Some(number) => Ok(Value::Uint(number)),
                None => self.fail(id, EvalErrorKind::Range("uint")),
            },
            (Value::Double(_) | Value::Decimal(_), Value::Double(_) | Value::Decimal(_)) => {
                self.doubles(id, operator, &a, &b)
            }
            (Value::String(one), Value::String(other)) if operator == Binary::Add => {
                self.bytes(id, one.len() + other.len())?;
                Ok(Value::string([&**one, &**other].concat()))
            }
            (Value::Bytes(one), Value::Bytes(other)) if operator == Binary::Add => {
                self.bytes(id, one.len() + other.len())?;
                Ok(Value::bytes([&**one, &**other].concat()))
            }
            (Value::List(one), Value::List(other)) if operator == Binary::Add => {
                self.bytes(id, 32 * (one.len() + other.len()))?;
                Ok(Value::List(one.iter().chain(other.iter()).collect()))
            }
            (Value::Timestamp(_) | Value::Duration(_), Value::Timestamp(_) | Value::Duration(_)) => {
                self.times(id, operator, &a, &b)
            }
            _ => self.no_overload(id, operator.as_str(), &[&a, &b]),
        }
    }

    fn doubles(&mut self, id: NodeId, operator: Binary, a: &Value, b: &Value) -> Outcome {
        let double = |value: &Value| match value {
            Value::Double(number) => *number,
            Value::Decimal(number) => number.to_double(),
            _ => f64::NAN,
        };
        // A number of JSON that is too large for a double must not become infinite unnoticed.
        let is_too_large = |value: &Value| matches!(value, Value::Decimal(number) if number.to_double().is_infinite());
        if is_too_large(a) || is_too_large(b) {
            return self.fail(id, EvalErrorKind::Range("double"));
        }
        let (one, other) = (double(a), double(b));
        Ok(Value::Double(match operator {
            Binary::Add => one + other,
            Binary::Subtract => one - other,
            Binary::Multiply => one * other,
            Binary::Divide => one / other,
            _ => return self.no_overload(id, operator.as_str(), &[a, b]),
        }))
    }

    fn times(&mut self, id: NodeId, operator: Binary, a: &Value, b: &Value) -> Outcome {
        let duration = |length: Option<TimeDelta>| length.and_then(duration_in_range).map(Value::Duration);
        let (result, name) = match (operator, a, b) {
            (Binary::Add, Value::Timestamp(time), Value::Duration(length))
            | (Binary::Add, Value::Duration(length), Value::Timestamp(time)) => {
                let sum = time.checked_add_signed(*length).and_then(timestamp_in_range);
                (sum.map(Value::Timestamp), "timestamp")
            }
            (Binary::Subtract, Value::Timestamp(time), Value::Duration(length)) => {
                let difference = time.checked_sub_signed(*length).and_then(timestamp_in_range);
                (difference.map(Value::Timestamp), "timestamp")
            }
            (Binary::Subtract, Value::Timestamp(a), Value::Timestamp(b)) => {
                (duration(Some(a.signed_duration_since(*b))), "duration")
            }
            (Binary::Add, Value::Duration(a), Value::Duration(b)) => (duration(a.checked_add(b)), "duration"),
            (Binary::Subtract, Value::Duration(a), Value::Duration(b)) => (duration(a.checked_sub(b)), "duration"),
            _ => return self.no_overload(id, operator.as_str(), &[a, b]),
        };
        match result {
            Some(value) => Ok(value),
            None => self.fail(id, EvalErrorKind::Range(name)),
        }
    }
}
