//! Times and statuses on the command line.

use chrono::{DateTime, Local, NaiveDate, NaiveDateTime, NaiveTime, TimeZone, Utc};
use std::str::FromStr;

/// A point in time, in milliseconds since 1970: `2h` ago, or a date and time where the user is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Since(pub(crate) i64);

impl FromStr for Since {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let now = Utc::now().timestamp_millis();
        let since = ago(text).map(|ago| now.saturating_sub(ago)).or_else(|| local(text)).or_else(|| anywhere(text));
        since.map(Since).ok_or_else(|| {
            "expected a time such as `30m`, `2h`, `3d`, `2w`, `2026-09-14` or `2026-09-14T06:30`".to_owned()
        })
    }
}

/// Milliseconds of a whole number of seconds, minutes, hours, days or weeks.
fn ago(text: &str) -> Option<i64> {
    let unit = text.chars().last()?;
    let seconds = match unit {
        's' => 1,
        'm' => 60,
        'h' => 3_600,
        'd' => 86_400,
        'w' => 604_800,
        _ => return None,
    };
    let number = text.strip_suffix(unit)?;
    let is_number = !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit());
    let number: i64 = is_number.then(|| number.parse().ok())??;
    number.checked_mul(seconds * 1_000)
}

/// A date, or a date and time, where the user is.
fn local(text: &str) -> Option<i64> {
    let time = ["%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S%.f", "%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M:%S%.f"]
        .into_iter()
        .find_map(|form| NaiveDateTime::parse_from_str(text, form).ok())
        .or_else(|| Some(NaiveDate::parse_from_str(text, "%Y-%m-%d").ok()?.and_time(NaiveTime::MIN)))?;
    // Where clocks are set back a time is there twice: the first one is meant.
    Some(Local.from_local_datetime(&time).earliest()?.timestamp_millis())
}

/// A point in time with its distance from UTC (RFC 3339), as the log has it.
fn anywhere(text: &str) -> Option<i64> {
    DateTime::parse_from_rfc3339(text).ok().map(|time| time.timestamp_millis())
}

/// Statuses from the first to the last.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct StatusRange(pub(crate) u16, pub(crate) u16);

impl FromStr for StatusRange {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let number = |text: &str| text.parse().ok().filter(|number| (100..=999).contains(number));
        let class =
            text.strip_suffix("xx").and_then(|class| class.parse::<u16>().ok()).filter(|class| (1..=9).contains(class));
        let range = class
            .map(|class| (class * 100, class * 100 + 99))
            .or_else(|| number(text).map(|status| (status, status)))
            .or_else(|| text.split_once('-').and_then(|(first, last)| Some((number(first)?, number(last)?))));
        let range = range.filter(|(first, last)| first <= last);
        range
            .map(|(first, last)| Self(first, last))
            .ok_or_else(|| "expected a status such as `404`, `4xx` or `400-409`".to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_ago_or_where_the_user_is() {
        assert_eq!(ago("90s"), Some(90_000));
        assert_eq!(ago("2w"), Some(1_209_600_000));
        for wrong in ["", "h", "-2h", "2", "2y", "1.5h", "é", "99999999999999999d"] {
            assert_eq!(ago(wrong), None, "{wrong}");
        }
        let minute = local("2026-09-14T06:30").expect("a time");
        assert_eq!(local("2026-09-14 06:30:00"), Some(minute));
        assert_eq!(local("2026-09-14").map(|day| minute - day), Some(23_400_000));
        assert_eq!(local("2026-13-14"), None);
        assert!("yesterday".parse::<Since>().is_err());
    }

    #[test]
    fn statuses_are_one_a_class_or_a_range() {
        let range = |text: &str| text.parse::<StatusRange>().ok().map(|range| (range.0, range.1));
        assert_eq!(range("404"), Some((404, 404)));
        assert_eq!(range("4xx"), Some((400, 499)));
        assert_eq!(range("400-409"), Some((400, 409)));
        for wrong in ["", "40", "xx", "0xx", "409-400", "4x", "abc", "1000"] {
            assert_eq!(range(wrong), None, "{wrong}");
        }
    }
}
