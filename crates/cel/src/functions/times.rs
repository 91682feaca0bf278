//! Parts of timestamps and durations (langdef, "Timestamps and Durations").

use super::{Call, Fault, Outcome, functions};
use crate::value::Value;
use chrono::{DateTime, Datelike, FixedOffset, TimeDelta, Timelike, Utc};

functions! { "":
    "getFullYear" ["timestamp.getFullYear() -> int", "timestamp.getFullYear(string) -> int"]
        "the year, in UTC or a time zone", "timestamp(body.packed_at).getFullYear()" => |call| of_time(call, |time| time.year().into());
    "getMonth" ["timestamp.getMonth() -> int", "timestamp.getMonth(string) -> int"]
        "the month, from 0", "now().getMonth('Europe/Berlin')" => |call| of_time(call, |time| time.month0().into());
    "getDate" ["timestamp.getDate() -> int", "timestamp.getDate(string) -> int"]
        "the day of the month, from 1", "now().getDate()" => |call| of_time(call, |time| time.day().into());
    "getDayOfMonth" ["timestamp.getDayOfMonth() -> int", "timestamp.getDayOfMonth(string) -> int"]
        "the day of the month, from 0", "now().getDayOfMonth()" => |call| of_time(call, |time| time.day0().into());
    "getDayOfWeek" ["timestamp.getDayOfWeek() -> int", "timestamp.getDayOfWeek(string) -> int"]
        "the day of the week, 0 for Sunday", "now().getDayOfWeek()" => |call| of_time(call, |time| time.weekday().num_days_from_sunday().into());
    "getDayOfYear" ["timestamp.getDayOfYear() -> int", "timestamp.getDayOfYear(string) -> int"]
        "the day of the year, from 0", "now().getDayOfYear()" => |call| of_time(call, |time| time.ordinal0().into());
    "getHours" ["timestamp.getHours() -> int", "timestamp.getHours(string) -> int", "duration.getHours() -> int"]
        "the hour; of a duration, its whole hours", "now().getHours('+02:00')"
        => |call| of_either(call, |time| time.hour().into(), TimeDelta::num_hours);
    "getMinutes" ["timestamp.getMinutes() -> int", "timestamp.getMinutes(string) -> int", "duration.getMinutes() -> int"]
        "the minute; of a duration, its whole minutes", "now().getMinutes()"
        => |call| of_either(call, |time| time.minute().into(), TimeDelta::num_minutes);
    "getSeconds" ["timestamp.getSeconds() -> int", "timestamp.getSeconds(string) -> int", "duration.getSeconds() -> int"]
        "the second; of a duration, its whole seconds", "elapsed.getSeconds()"
        => |call| of_either(call, |time| time.second().into(), TimeDelta::num_seconds);
    "getMilliseconds" ["timestamp.getMilliseconds() -> int", "timestamp.getMilliseconds(string) -> int", "duration.getMilliseconds() -> int"]
        "the milliseconds within the second", "elapsed.getMilliseconds()"
        => |call| of_either(call, |time| i64::from(time.nanosecond() / 1_000_000) % 1_000, |length| i64::from(length.subsec_millis()));
}

fn of_time(call: &mut Call<'_>, part: fn(&DateTime<FixedOffset>) -> i64) -> Outcome {
    let time = match call.arguments {
        [Value::Timestamp(time)] => time.fixed_offset(),
        [Value::Timestamp(time), Value::String(zone)] => in_zone(time, zone)?,
        _ => return Err(Fault::NoOverload),
    };
    Ok(Value::Int(part(&time)))
}

fn of_either(
    call: &mut Call<'_>,
    of_a_time: fn(&DateTime<FixedOffset>) -> i64,
    of_a_length: fn(&TimeDelta) -> i64,
) -> Outcome {
    match call.arguments {
        [Value::Duration(length)] => Ok(Value::Int(of_a_length(length))),
        _ => of_time(call, of_a_time),
    }
}

/// A time in a zone: of the IANA database by its name, or by its distance from UTC: `-08:00`.
///
/// # Errors
/// If there is no such zone.
pub fn in_zone(time: &DateTime<Utc>, zone: &str) -> Result<DateTime<FixedOffset>, Fault> {
    let unknown = || Fault::message(format!("unknown time zone `{zone}`"));
    let seconds = if zone.starts_with(|c: char| c == '+' || c == '-' || c.is_ascii_digit()) {
        distance(zone).ok_or_else(unknown)?
    } else {
        let found = jiff::tz::TimeZone::get(zone).map_err(|_| unknown())?;
        // Names mind case.
        if found.iana_name() != Some(zone) {
            return Err(unknown());
        }
        let seconds = time.timestamp().clamp(jiff::Timestamp::MIN.as_second(), jiff::Timestamp::MAX.as_second());
        jiff::Timestamp::from_second(seconds).map_or(0, |time| found.to_offset(time).seconds())
    };
    let offset = FixedOffset::east_opt(seconds).ok_or_else(unknown)?;
    Ok(time.with_timezone(&offset))
}

/// Seconds east of UTC: `+02:00`, `-08:00`, `02:00`.
fn distance(text: &str) -> Option<i32> {
    let (sign, digits) = match text.strip_prefix('-') {
        Some(digits) => (-1, digits),
        None => (1, text.strip_prefix('+').unwrap_or(text)),
    };
    let (hours, minutes) = digits.split_once(':')?;
    let number = |text: &str| text.parse::<u8>().ok().filter(|_| text.len() == 2).map(i32::from);
    let (hours, minutes) = (number(hours)?, number(minutes)?);
    (hours < 24 && minutes < 60).then_some(sign * (hours * 3600 + minutes * 60))
}
