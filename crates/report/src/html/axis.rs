//! A scale of time from nothing to the longest, and its marks.

use super::text::Time;
use maud::{Markup, html};

/// A scale.
pub(super) struct Axis {
    /// The time of its whole length, in milliseconds.
    longest: f64,
}

impl Axis {
    pub(super) fn new(longest: f64) -> Self {
        Self { longest: longest.max(0.001) }
    }

    /// The position of a time on it.
    pub(super) fn at(&self, millis: f64) -> String {
        format!("{:.2}%", (millis / self.longest * 100.0).clamp(0.0, 100.0))
    }

    /// The times that are marked: three to six, at round numbers.
    fn marks(&self) -> Vec<f64> {
        let rough = self.longest / 4.0;
        let power = 10f64.powf(rough.log10().floor());
        let step = [1.0, 2.0, 5.0, 10.0].into_iter().map(|digit| digit * power).find(|step| *step >= rough);
        let step = step.unwrap_or(power);
        (0..).map(|number| f64::from(number) * step).take_while(|time| *time <= self.longest).collect()
    }

    /// The marks with their times, for the head of a column.
    pub(super) fn render(&self) -> Markup {
        html! {
            svg.axis aria-hidden="true" {
                @for time in self.marks() {
                    // The last one would be cut off.
                    @let last = time / self.longest > 0.93;
                    line x1=(self.at(time)) x2=(self.at(time)) y1="60%" y2="100%" {}
                    text x=(self.at(time)) y="50%" text-anchor=(if last { "end" } else if time == 0.0 { "start" } else { "middle" }) {
                        (if time == 0.0 { "0".to_owned() } else { Time(time).to_string() })
                    }
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_stand_at_round_times() {
        for (longest, marks) in [
            (100.0, vec![0.0, 50.0, 100.0]),
            (430.0, vec![0.0, 200.0, 400.0]),
            (0.9, vec![0.0, 0.5]),
            (61_000.0, vec![0.0, 20_000.0, 40_000.0, 60_000.0]),
        ] {
            assert_eq!(Axis::new(longest).marks(), marks, "{longest}");
        }
        assert_eq!(Axis::new(200.0).at(50.0), "25.00%");
        assert_eq!(Axis::new(0.0).at(50.0), "100.00%", "a duration of zero divides by nothing");
    }
}
