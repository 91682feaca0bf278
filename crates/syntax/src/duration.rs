//! Durations as people write them: `500ms`, `30s`, `1m30s`.

use std::time::Duration;

/// The longest duration that is taken.
const MAX_DURATION: Duration = Duration::from_secs(24 * 3_600);

/// Reads a duration of more than nothing and at most a day: numbers with `ms`, `s`, `m` or `h`.
pub fn duration(text: &str) -> Option<Duration> {
    let (mut seconds, mut rest) = (0.0, text);
    while !rest.is_empty() {
        let digits = rest.find(|c: char| !c.is_ascii_digit() && c != '.').filter(|digits| *digits > 0)?;
        let (number, after) = rest.split_at(digits);
        let unit = after.find(|c: char| !c.is_ascii_alphabetic()).unwrap_or(after.len());
        let scale = match &after[..unit] {
            "ms" => 1e-3,
            "s" => 1.0,
            "m" => 60.0,
            "h" => 3_600.0,
            _ => return None,
        };
        seconds += number.parse::<f64>().ok()? * scale;
        rest = &after[unit..];
    }
    Duration::try_from_secs_f64(seconds).ok().filter(|duration| !duration.is_zero() && *duration <= MAX_DURATION)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_have_units() {
        for (text, millis) in [
            ("500ms", Some(500)),
            ("30s", Some(30_000)),
            ("1m30s", Some(90_000)),
            ("1.5s", Some(1_500)),
            ("2h", Some(7_200_000)),
        ] {
            assert_eq!(duration(text).map(|it| it.as_millis()), millis, "{text}");
        }
        for text in ["", "5", "s", "0s", "25h", "1 s", "-1s", "1.2.3s", "5d", "9999999999999999999999h", "é", "1é"] {
            assert_eq!(duration(text), None, "{text}");
        }
    }
}
