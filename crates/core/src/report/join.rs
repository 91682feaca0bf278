use super::entry::Entry;
use super::saved::{About, Saved};
use crate::replay::Summary;
use rustc_hash::FxHashMap;
use std::collections::hash_map;

/// What tells one entry from all others of a run.
#[derive(Clone, PartialEq, Eq, Hash)]
struct Key {
    file: String,
    name: String,
    played_by: Option<String>,
    row: Option<usize>,
    round: Option<usize>,
    /// Which one of those that are alike in all of the above: a sequence may play a cell twice.
    turn: usize,
}

/// Joins reports into one, in the order of files and lines as they stand in them.
///
/// Of an entry that stands in several reports, the one of the report that began last holds; where those before
/// it did not pass, it tells which attempt it is. What a report left out, and that it was broken off, is told
/// unless later ones have all of its entries: then it was an attempt at what they did.
pub fn join(mut reports: Vec<Saved>) -> Saved {
    reports.sort_by_key(|report| report.about.began);
    let Some(first) = reports.first().map(|report| report.about.clone()) else {
        return Saved { about: About::new(chrono::DateTime::UNIX_EPOCH, None, None), entries: Vec::new() };
    };
    let ends = reports.iter().map(|report| shift(&first, &report.about) + report.about.elapsed_ms);
    let elapsed_ms = ends.fold(0.0, f64::max);
    let same = |of: fn(&About) -> &Option<String>| {
        let mut all = reports.iter().map(|report| of(&report.about));
        let first = all.next().cloned().flatten();
        if all.all(|other| *other == first) { first } else { None }
    };
    let mut about = About {
        elapsed_ms,
        environment: same(|about| &about.environment),
        base: same(|about| &about.base),
        // Each has its own.
        seed: None,
        joined: Some(reports.iter().map(|report| report.about.joined.unwrap_or(1)).sum()),
        ..first.clone()
    };
    let mut places: FxHashMap<Key, usize> = FxHashMap::default();
    let mut entries: Vec<Entry<'static>> = Vec::new();
    let mut totals: Vec<Summary> = Vec::new();
    // For each entry, the report it is of.
    let mut owner: Vec<usize> = Vec::new();
    for (number, report) in reports.into_iter().enumerate() {
        let later = shift(&first, &report.about);
        let mut turns: FxHashMap<Key, usize> = FxHashMap::default();
        for mut entry in report.entries {
            entry.began_ms = entry.began_ms.map(|began| ((began + later) * 1e3).round() / 1e3);
            let mut key = Key {
                file: entry.file.clone(),
                name: entry.name.clone(),
                played_by: entry.played_by.clone(),
                row: entry.row,
                round: entry.round,
                turn: 0,
            };
            let turn = turns.entry(key.clone()).or_default();
            key.turn = *turn;
            *turn += 1;
            match places.entry(key) {
                hash_map::Entry::Occupied(place) => {
                    let place = *place.get();
                    owner[place] = number;
                    let before = &entries[place];
                    // Shards of a run share what they need; what passed twice is no second attempt.
                    let own = entry.attempts.unwrap_or(1);
                    let all = before.attempts.unwrap_or(1) + own - usize::from(before.outcome.is_well());
                    entry.attempts = (all > 1).then_some(all);
                    entries[place] = entry;
                }
                hash_map::Entry::Vacant(place) => {
                    place.insert(entries.len());
                    owner.push(number);
                    entries.push(entry);
                }
            }
        }
        totals.push(report.about.totals);
    }
    // Shards come in any order; a file's entries stand together, as they do in a run.
    let mut order: FxHashMap<String, usize> = FxHashMap::default();
    let mut names: Vec<&str> = entries.iter().map(|entry| entry.file.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    for (at, name) in names.into_iter().enumerate() {
        order.insert(name.to_owned(), at);
    }
    entries.sort_by_key(|entry| (order.get(&entry.file).copied(), entry.round));
    let own = Summary::of(&entries);
    let counts = |number: &usize| owner.contains(number) || number + 1 == totals.len();
    let open = || (0..totals.len()).filter(counts).map(|number| &totals[number]);
    let left_out = open().map(|totals| totals.left_out).sum();
    let interrupted = open().any(|totals| totals.interrupted);
    about.totals = Summary { left_out, interrupted, cells: own.cells + left_out, ..own };
    Saved { about, entries }
}

/// How much later than `first` a run began, in milliseconds.
fn shift(first: &About, other: &About) -> f64 {
    (other.began - first.began).num_milliseconds() as f64
}
