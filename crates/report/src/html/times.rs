//! How long each request took: the shortest, the median and the 95th percentile over all times it was sent.

use super::axis::Axis;
use super::text::{Content, Time, count};
use crate::entry::Entry;
use maud::{Markup, html};
use rustc_hash::FxHashMap;
use std::collections::BTreeMap;

/// Requests that are shown, the slowest first.
const MAX_ROWS: usize = 100;

/// Times as they are gathered: they grow with the requests that are written, not with those that are sent.
#[derive(Default)]
pub(super) struct Times {
    all: Vec<Sample>,
    at: FxHashMap<(String, String, Option<String>), usize>,
}

struct Sample {
    name: String,
    anchor: String,
    /// How often it took so many microseconds, at the three digits that are shown.
    times: BTreeMap<u64, usize>,
}

impl Times {
    /// Adds a response; `anchor` is its place on the page.
    pub(super) fn add(&mut self, entry: &Entry<'_>, anchor: &str) {
        let (Some(millis), Some(_)) = (entry.elapsed_ms, entry.status) else { return };
        let key = (entry.file.clone(), entry.name.clone(), entry.played_by.clone());
        let place = *self.at.entry(key).or_insert_with(|| {
            self.all.push(Sample { name: entry.cell_name(), anchor: anchor.to_owned(), times: BTreeMap::new() });
            self.all.len() - 1
        });
        *self.all[place].times.entry(three_digits((millis * 1e3) as u64)).or_default() += 1;
    }

    /// The plot; empty without responses.
    pub(super) fn render(&self) -> Markup {
        let mut order: Vec<&Sample> = self.all.iter().collect();
        order.sort_by_cached_key(|sample| std::cmp::Reverse(sample.quantile(0.5)));
        let shown = &order[..order.len().min(MAX_ROWS)];
        let Some(longest) = shown.iter().map(|sample| sample.quantile(0.95)).max() else { return html! {} };
        let axis = Axis::new(longest as f64 / 1e3);
        html! {
            section #times aria-labelledby="times-title" {
                h2 #times-title { "Durations" }
                p.about {
                    "From the shortest time to the 95th percentile, the point at the median; the slowest first."
                    @if order.len() > shown.len() { " These are the slowest " (shown.len()) " of " (order.len()) "." }
                }
                div.scroll tabindex="0" role="region" aria-labelledby="times-title" {
                    table.bars {
                        thead { tr {
                            th scope="col" { "Request" } th scope="col" { (axis.render()) }
                            th.time scope="col" { "Shortest" } th.time scope="col" { "Median" } th.time scope="col" { "95 %" }
                        } }
                        tbody { @for sample in shown { (sample.render(&axis)) } }
                    }
                }
            }
        }
    }
}

impl Sample {
    /// The time that this share of all stays within (nearest rank).
    fn quantile(&self, share: f64) -> u64 {
        let all: usize = self.times.values().sum();
        let rank = ((all as f64 * share).ceil() as usize).max(1);
        let mut seen = 0;
        let found = self.times.iter().find(|(_, number)| {
            seen += **number;
            seen >= rank
        });
        found.map_or(0, |(time, _)| *time)
    }

    fn render(&self, axis: &Axis) -> Markup {
        let millis = |share: f64| self.quantile(share) as f64 / 1e3;
        let (least, median, most) = (millis(0.0), millis(0.5), millis(0.95));
        let all: usize = self.times.values().sum();
        html! {
            tr {
                th scope="row" {
                    a href=(format!("#{}", self.anchor)) { (Content(&self.name)) }
                    @if all > 1 { " " small title=(count(all, "time", "times")) { "×" (all) } }
                }
                td {
                    svg.span aria-hidden="true" {
                        line x1=(axis.at(least)) x2=(axis.at(most)) y1="50%" y2="50%" {}
                        circle cx=(axis.at(median)) cy="50%" r="4" {}
                    }
                }
                td.time { (Time(least)) } td.time { (Time(median)) } td.time { (Time(most)) }
            }
        }
    }
}

/// A number of at least three digits, the others as zeros.
fn three_digits(number: u64) -> u64 {
    let mut unit = 1;
    while number / unit >= 1000 {
        unit *= 10;
    }
    (number + unit / 2) / unit * unit
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn quantiles_are_those_of_the_nearest_rank() {
        let sample = |times: &[u64]| {
            let mut counted = BTreeMap::new();
            times.iter().for_each(|time| *counted.entry(three_digits(*time)).or_default() += 1);
            let sample = Sample { name: String::new(), anchor: String::new(), times: counted };
            [0.0, 0.5, 0.95].map(|share| sample.quantile(share))
        };
        assert_eq!(sample(&[7]), [7, 7, 7]);
        assert_eq!(sample(&[900, 100, 300, 200]), [100, 200, 900]);
        let hundred: Vec<u64> = (1..=100).collect();
        assert_eq!(sample(&hundred), [1, 50, 95]);
        assert_eq!(sample(&[123_456, 123_499]), [123_000, 123_000, 123_000], "three digits are told");
        assert_eq!(three_digits(999_950), 1_000_000);
    }
}
