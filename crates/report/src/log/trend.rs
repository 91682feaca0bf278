//! How the time and size of one request went on.

/// One response.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Point {
    /// Its number in the log.
    pub number: i64,
    /// When it was sent, in milliseconds since 1970.
    pub at: i64,
    /// How long it took, in microseconds.
    pub micros: u64,
    /// Bytes of its body.
    pub size: u64,
    /// Its status.
    pub status: u16,
    /// The commit of the checkout, with a `+` where the file was changed.
    pub revision: Option<String>,
}

/// Where the times became others for good.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ChangePoint {
    /// The place of the first point that is other.
    pub at: usize,
    /// The median of those before it, in microseconds.
    pub before: u64,
    /// The median of those from it on.
    pub after: u64,
}

/// The points of one request, the oldest first.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trend {
    /// The points.
    pub points: Vec<Point>,
    /// The median time, in microseconds.
    pub median: u64,
    /// The median size, in bytes.
    pub median_size: u64,
    /// The place of the slowest.
    pub slowest: usize,
    /// Where the times jump.
    pub jumps: Vec<ChangePoint>,
}

/// Points on either side that are compared to find a change.
const COMPARED_ON_EACH_SIDE: usize = 5;

/// A change is a factor of at least this.
const CHANGE_FACTOR: u64 = 2;

/// Less than this many microseconds is none: so much comes and goes by itself.
const MIN_CHANGE_MICROS: u64 = 500;

impl Trend {
    /// The trend of `points`, the oldest first; `None` without points.
    pub fn of(points: Vec<Point>) -> Option<Self> {
        let slowest = (0..points.len()).max_by_key(|at| points[*at].micros)?;
        let times: Vec<u64> = points.iter().map(|point| point.micros).collect();
        let sizes: Vec<u64> = points.iter().map(|point| point.size).collect();
        Some(Self { median: median(&times), median_size: median(&sizes), slowest, jumps: jumps(&times), points })
    }
}

/// The middle one by size; of an even number the lower of the two.
fn median(numbers: &[u64]) -> u64 {
    let mut sorted = numbers.to_vec();
    sorted.sort_unstable();
    sorted.get(sorted.len().saturating_sub(1) / 2).copied().unwrap_or_default()
}

fn jumps(times: &[u64]) -> Vec<ChangePoint> {
    let mut jumps: Vec<ChangePoint> = Vec::new();
    let mut from = 0;
    for at in COMPARED_ON_EACH_SIDE..times.len().saturating_sub(COMPARED_ON_EACH_SIDE - 1) {
        if at < from + COMPARED_ON_EACH_SIDE {
            continue;
        }
        let (before, after) =
            (median(&times[at - COMPARED_ON_EACH_SIDE..at]), median(&times[at..at + COMPARED_ON_EACH_SIDE]));
        let far = before.abs_diff(after) >= MIN_CHANGE_MICROS
            && before.max(after) >= before.min(after).max(1) * CHANGE_FACTOR;
        // The medians part before the first point that is other: that one is looked for.
        let is_other = |time: u64| time.abs_diff(after) < time.abs_diff(before);
        if far && is_other(times[at]) && !is_other(times[at - 1]) {
            jumps.push(ChangePoint { at, before, after });
            from = at;
        }
    }
    jumps
}

#[cfg(test)]
mod tests {
    use super::*;

    fn trend(times: &[u64]) -> Trend {
        let point = |(at, time): (usize, &u64)| Point {
            number: at as i64 + 1,
            at: at as i64,
            micros: time * 1_000,
            size: 100,
            status: 200,
            revision: None,
        };
        Trend::of(times.iter().enumerate().map(point).collect()).expect("there are points")
    }

    #[test]
    fn a_jump_is_where_times_stay_other() {
        let found = trend(&[10, 11, 10, 9, 10, 10, 30, 31, 29, 30, 33, 30, 30, 10, 9, 10, 11, 10]);
        let places: Vec<(usize, u64, u64)> =
            found.jumps.iter().map(|jump| (jump.at, jump.before / 1_000, jump.after / 1_000)).collect();
        assert_eq!(places, [(6, 10, 30), (13, 30, 10)]);
        assert_eq!((found.median / 1_000, found.slowest), (10, 10));
        // One slow response among fast ones is not a change, nor are five points enough for one.
        assert_eq!(trend(&[10, 10, 10, 10, 10, 90, 10, 10, 10, 10, 10, 10]).jumps, []);
        assert_eq!(trend(&[10, 30]).jumps, []);
        assert_eq!(Trend::of(Vec::new()), None);
    }
}
