//! Numbers that keep their digits.

use super::Value;
use super::number::integer;
use std::cmp::Ordering;
use std::sync::Arc;

/// A number in the form of JSON (RFC 8259 6) that no machine number is exactly.
#[derive(Clone, Debug)]
pub struct Decimal(Arc<str>);

/// A number as its significant digits, without zeros at either end, and the power of ten before the first of them:
/// `0.digits × 10^power`.
#[derive(Debug, PartialEq, Eq)]
struct Normalized {
    negative: bool,
    digits: String,
    power: i64,
}

impl Value {
    /// The value of a number in the form of JSON: an integer if 64 bits hold it, a double if that is the same number,
    /// else a decimal that keeps the digits.
    pub fn from_digits(digits: &str) -> Self {
        if let Ok(number) = digits.parse::<i64>() {
            return Value::Int(number);
        }
        if let Ok(number) = digits.parse::<u64>() {
            return Value::Uint(number);
        }
        let is_whole = !digits.contains(['.', 'e', 'E']);
        match digits.parse::<f64>() {
            // Up to 15 digits there is exactly one double whose shortest text they are.
            Ok(double) if !is_whole && double.is_finite() => {
                let is_short = digits.len() <= 15 && double != 0.0;
                let is_exact = is_short || normalized(digits) == normalized(&format!("{double:e}"));
                if is_exact { Value::Double(double) } else { Value::Decimal(Decimal(digits.into())) }
            }
            _ => Value::Decimal(Decimal(digits.into())),
        }
    }
}

impl Decimal {
    /// Its digits, as they were written.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The nearest double; infinite if it is too large for one.
    pub fn to_double(&self) -> f64 {
        self.0.parse().unwrap_or(f64::NAN)
    }

    /// The exact order of this number and another.
    pub(super) fn partial_cmp_to(&self, other: &Value) -> Option<Ordering> {
        let other = match other {
            Value::Decimal(other) => normalized(&other.0),
            Value::Double(double) => {
                // Rounding keeps the order, so that only the nearest double needs all digits.
                let rounded = self.to_double().partial_cmp(double)?;
                if rounded != Ordering::Equal || double.is_infinite() {
                    return Some(if double.is_infinite() { 0.0.partial_cmp(double)? } else { rounded });
                }
                // No double has more than 1,074 digits after the point.
                normalized(&format!("{double:.1074}"))
            }
            other => normalized(&integer(other)?.to_string()),
        };
        Some(normalized(&self.0).compare(&other))
    }
}

impl Normalized {
    fn compare(&self, other: &Self) -> Ordering {
        let sign = |number: &Self| match (number.digits.is_empty(), number.negative) {
            (true, _) => 0,
            (false, true) => -1,
            (false, false) => 1,
        };
        let by_size = || self.power.cmp(&other.power).then_with(|| self.digits.cmp(&other.digits));
        sign(self).cmp(&sign(other)).then_with(|| match sign(self) {
            0 => Ordering::Equal,
            1 => by_size(),
            _ => by_size().reverse(),
        })
    }
}

/// The parts of a number in the form of JSON.
fn normalized(text: &str) -> Normalized {
    let (negative, text) = match text.strip_prefix('-') {
        Some(text) => (true, text),
        None => (false, text),
    };
    let (mantissa, exponent) = text.split_once(['e', 'E']).unwrap_or((text, "0"));
    // An exponent beyond 64 bits is as good as the largest one.
    let largest = if exponent.starts_with('-') { i64::MIN / 2 } else { i64::MAX / 2 };
    let exponent = exponent.parse::<i64>().unwrap_or(largest).clamp(i64::MIN / 2, i64::MAX / 2);
    let (whole, fraction) = mantissa.split_once('.').unwrap_or((mantissa, ""));
    let all = format!("{whole}{fraction}");
    let from_first = all.trim_start_matches('0');
    let leading = (all.len() - from_first.len()) as i64;
    let digits = from_first.trim_end_matches('0').to_owned();
    let power = if digits.is_empty() { 0 } else { whole.len() as i64 - leading + exponent };
    Normalized { negative: negative && !digits.is_empty(), digits, power }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_keep_their_digits_and_compare_exactly() {
        let read = Value::from_digits;
        assert!(matches!(read("24"), Value::Int(24)));
        assert!(matches!(read("18446744073709551615"), Value::Uint(u64::MAX)));
        assert!(matches!(read("-0.0"), Value::Double(zero) if zero == 0.0));
        assert!(matches!(read("12.50"), Value::Double(12.5)));
        for digits in ["18446744073709551616", "0.10000000000000000001", "1e400", "9007199254740993.5", "1e-400"] {
            assert!(matches!(read(digits), Value::Decimal(_)), "{digits}");
            assert_eq!(format!("{:?}", read(digits)), digits);
        }
        for (smaller, larger) in [
            ("18446744073709551615", "18446744073709551616"),
            ("18446744073709551616", "18446744073709551617"),
            ("-18446744073709551617", "-18446744073709551616"),
            ("0.10000000000000000001", "0.1"),
            ("0.10000000000000000001", "0.10000000000000000002"),
            ("-1e400", "-1e399"),
            ("1e399", "1e400"),
            ("-1e400", "1"),
            ("0", "1e-400"),
            ("9007199254740993", "9007199254740993.5"),
            ("9007199254740993.5", "9007199254740994"),
            ("1.7976931348623157e308", "1e99999999999999999999"),
        ] {
            assert_eq!(read(smaller).partial_cmp(&read(larger)), Some(Ordering::Less), "{smaller} {larger}");
            assert_eq!(read(larger).partial_cmp(&read(smaller)), Some(Ordering::Greater), "{larger} {smaller}");
        }
        assert_eq!(read("1e400"), read("10.0e399"));
        assert_eq!(read("36893488147419103232"), Value::Double(36_893_488_147_419_103_232.0));
        assert_eq!(read("1e400").partial_cmp(&Value::Double(f64::INFINITY)), Some(Ordering::Less));
        assert_eq!(read("1e400").partial_cmp(&Value::Double(f64::NAN)), None);
        assert_ne!(read("0.1000000000000000055511151231257827"), Value::Double(0.1));
        assert_eq!(read("0.1000000000000000055511151231257827021181583404541015625"), Value::Double(0.1));
    }
}
