//! Takes the place of the crate of this name, which the expressions' library builds on, with what that uses of it:
//! [`Tz`] by its name, and [`UTC`].
//!
//! The crate itself is a table with 50,000 addresses in it. In a position-independent program the loader has to write
//! each of them at every start, which takes longer than all else that a short command does. Here the data of a zone is
//! bytes, read when the zone is asked for.

use chrono::{FixedOffset, MappedLocalTime, NaiveDate, NaiveDateTime, Offset, TimeDelta, TimeZone};
use std::fmt;
use std::str::FromStr;

/// A time zone of the IANA database.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tz(jiff::tz::TimeZone);

/// Coordinated Universal Time.
pub const UTC: Tz = Tz(jiff::tz::TimeZone::UTC);

/// A name that no time zone has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ParseError;

impl fmt::Display for ParseError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("no time zone of this name")
    }
}

impl std::error::Error for ParseError {}

impl FromStr for Tz {
    type Err = ParseError;

    fn from_str(name: &str) -> Result<Self, ParseError> {
        let zone = jiff::tz::TimeZone::get(name).map_err(|_| ParseError)?;
        // Names mind case.
        if zone.iana_name() == Some(name) { Ok(Self(zone)) } else { Err(ParseError) }
    }
}

/// How far a zone is from UTC at one time.
#[derive(Clone, Debug)]
pub struct ZoneOffset {
    zone: Tz,
    fixed: FixedOffset,
}

impl Offset for ZoneOffset {
    fn fix(&self) -> FixedOffset {
        self.fixed
    }
}

impl Tz {
    /// At a time of UTC. What no zone's data reaches is taken for UTC.
    fn at(&self, utc: &NaiveDateTime) -> ZoneOffset {
        let seconds =
            jiff::Timestamp::from_second(utc.and_utc().timestamp()).map(|time| self.0.to_offset(time).seconds());
        let fixed = FixedOffset::east_opt(seconds.unwrap_or(0)).unwrap_or_else(|| chrono::Utc.fix());
        ZoneOffset { zone: self.clone(), fixed }
    }
}

impl TimeZone for Tz {
    type Offset = ZoneOffset;

    fn from_offset(offset: &ZoneOffset) -> Self {
        offset.zone.clone()
    }

    fn offset_from_utc_datetime(&self, utc: &NaiveDateTime) -> ZoneOffset {
        self.at(utc)
    }

    fn offset_from_utc_date(&self, utc: &NaiveDate) -> ZoneOffset {
        self.at(&utc.and_time(chrono::NaiveTime::MIN))
    }

    fn offset_from_local_datetime(&self, local: &NaiveDateTime) -> MappedLocalTime<ZoneOffset> {
        // A local time has the offset of the time in UTC that results from it with that offset; no zone is farther off.
        let near = |hours| local.checked_add_signed(TimeDelta::hours(hours)).map(|utc| self.at(&utc));
        let fits = |offset: &ZoneOffset| {
            let utc = local.checked_sub_offset(offset.fixed);
            utc.is_some_and(|utc| self.at(&utc).fixed == offset.fixed)
        };
        let (before, after) = (near(-26).filter(fits), near(26).filter(fits));
        match (before, after) {
            (Some(before), Some(after)) if before.fixed != after.fixed => MappedLocalTime::Ambiguous(before, after),
            (Some(only), _) | (None, Some(only)) => MappedLocalTime::Single(only),
            (None, None) => MappedLocalTime::None,
        }
    }

    fn offset_from_local_date(&self, local: &NaiveDate) -> MappedLocalTime<ZoneOffset> {
        self.offset_from_local_datetime(&local.and_time(chrono::NaiveTime::MIN))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn zones_have_names_and_change_with_the_season() {
        let zone: Tz = "Europe/Berlin".parse().expect("a zone");
        let at = |text: &str| {
            let time = chrono::DateTime::parse_from_rfc3339(text).expect("a time");
            time.with_timezone(&zone).fixed_offset().to_rfc3339()
        };
        assert_eq!(at("2026-01-15T12:00:00Z"), "2026-01-15T13:00:00+01:00");
        assert_eq!(at("2026-03-29T00:59:59Z"), "2026-03-29T01:59:59+01:00");
        assert_eq!(at("2026-03-29T01:00:00Z"), "2026-03-29T03:00:00+02:00");
        assert_eq!(at("2026-10-25T01:00:00Z"), "2026-10-25T02:00:00+01:00");
        assert_eq!("europe/berlin".parse::<Tz>(), Err(ParseError));
        assert_eq!("Orchard/North".parse::<Tz>(), Err(ParseError));
        assert_eq!("UTC".parse::<Tz>(), Ok(UTC));
    }

    #[test]
    fn a_local_time_may_come_twice_or_never() {
        let zone: Tz = "Europe/Berlin".parse().expect("a zone");
        let local = |text: &str| zone.from_local_datetime(&text.parse().expect("a time"));
        assert!(matches!(local("2026-10-25T02:30:00"), MappedLocalTime::Ambiguous(..)));
        assert!(matches!(local("2026-03-29T02:30:00"), MappedLocalTime::None));
        assert!(matches!(local("2026-07-01T02:30:00"), MappedLocalTime::Single(_)));
    }
}
