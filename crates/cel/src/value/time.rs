//! Points in time and lengths of time.

use chrono::{DateTime, TimeDelta, Utc};

/// The first second of year 1, and the last one of year 9999, from 1970.
const FIRST_SECOND: i64 = -62_135_596_800;
const LAST_SECOND: i64 = 253_402_300_799;

/// A point in time by its seconds since 1970, if it is from year 1 to year 9999.
pub(crate) fn timestamp(seconds: i64) -> Option<DateTime<Utc>> {
    DateTime::from_timestamp(seconds, 0).and_then(timestamp_in_range)
}

/// A point in time, if it is from year 1 to year 9999.
pub(crate) fn timestamp_in_range(time: DateTime<Utc>) -> Option<DateTime<Utc>> {
    (FIRST_SECOND..=LAST_SECOND).contains(&time.timestamp()).then_some(time)
}

/// The point in time that a text of RFC 3339 is.
pub(crate) fn parse_timestamp(text: &str) -> Option<DateTime<Utc>> {
    // The library takes a space for the `T`, and years of more digits.
    let is_rfc3339 = text.as_bytes().get(10).is_some_and(|byte| byte.eq_ignore_ascii_case(&b'T'));
    let time = DateTime::parse_from_rfc3339(text).ok().filter(|_| is_rfc3339)?;
    timestamp_in_range(time.to_utc())
}

/// The whole of a duration in nanoseconds.
pub(crate) fn duration_nanos(length: &TimeDelta) -> i128 {
    i128::from(length.num_seconds()) * 1_000_000_000 + i128::from(length.subsec_nanos())
}

/// A duration, if its nanoseconds have 64 bits: some 292 years.
pub(crate) fn duration_in_range(length: TimeDelta) -> Option<TimeDelta> {
    i64::try_from(duration_nanos(&length)).is_ok().then_some(length)
}

/// The duration that a text is: numbers with units, as in `1h30m`, `-1.5s`, `250ms`; `0` needs no unit.
pub(crate) fn parse_duration(text: &str) -> Option<TimeDelta> {
    let (negative, mut rest) = match text.strip_prefix(['-', '+']) {
        Some(rest) => (text.starts_with('-'), rest),
        None => (false, text),
    };
    if rest == "0" {
        return Some(TimeDelta::zero());
    }
    if rest.is_empty() {
        return None;
    }
    let mut nanos: i128 = 0;
    while !rest.is_empty() {
        let number = rest.find(|c: char| !c.is_ascii_digit() && c != '.').filter(|length| *length > 0)?;
        let (digits, after) = rest.split_at(number);
        let unit_length = after.find(|c: char| c.is_ascii_digit() || c == '.').unwrap_or(after.len());
        let (unit, after) = after.split_at(unit_length);
        let unit: i128 = match unit {
            "h" => 3_600_000_000_000,
            "m" => 60_000_000_000,
            "s" => 1_000_000_000,
            "ms" => 1_000_000,
            "us" | "µs" | "μs" => 1_000,
            "ns" => 1,
            _ => return None,
        };
        let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
        if fraction.contains('.') || whole.is_empty() && fraction.is_empty() {
            return None;
        }
        let whole: i128 = if whole.is_empty() { 0 } else { whole.parse::<i64>().ok()?.into() };
        nanos = nanos.checked_add(whole.checked_mul(unit)?)?;
        // Digits beyond a nanosecond are cut.
        let fraction = &fraction[..fraction.len().min(15)];
        if !fraction.is_empty() {
            nanos += fraction.parse::<i128>().ok()? * unit / 10_i128.pow(fraction.len() as u32);
        }
        rest = after;
    }
    i64::try_from(if negative { -nanos } else { nanos }).ok().map(TimeDelta::nanoseconds)
}
