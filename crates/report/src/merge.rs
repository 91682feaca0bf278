//! Merging of reports.

use super::entry::Entry;
use super::saved::{LoadedReport, RunInfo, summary_of};
use rustc_hash::FxHashMap;
use std::collections::hash_map;
use yieldtray_engine::Summary;

/// The identity of an entry in a run.
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

/// Merges reports: shards of one run in the order of that run, attempts in the order of the first one, followed by entries
/// that only later ones have. A single report stays unchanged.
///
/// For an entry in several reports, the report that began last wins; if those before it did not pass, the entry gets the
/// number of its attempt. Shards of one run are not attempts: for an entry that several of them needed, one that did not
/// pass wins. The merged report is incomplete or interrupted if one of its reports is, unless later ones have all of that
/// one's entries: then they are attempts at the same.
pub fn merge(mut reports: Vec<LoadedReport>) -> LoadedReport {
    if reports.len() == 1
        && let Some(only) = reports.pop()
    {
        return only;
    }
    // Shards become the run they are shards of, which may be an attempt beside others.
    let (shards, others): (Vec<_>, Vec<_>) = reports.into_iter().partition(|report| report.about.shard.is_some());
    let are_shards = are_shards(&shards);
    reports = match others.is_empty() || !are_shards {
        true => shards.into_iter().chain(others).collect(),
        false => std::iter::once(merge(shards)).chain(others).collect(),
    };
    let are_shards = are_shards && reports.len() > 1 && reports.iter().all(|report| report.about.shard.is_some());
    reports.sort_by_key(|report| report.about.started);
    let Some(first) = reports.first().map(|report| report.about.clone()) else {
        return LoadedReport { about: RunInfo::new(chrono::DateTime::UNIX_EPOCH, None, None), entries: Vec::new() };
    };
    let ends = reports.iter().map(|report| shift(&first, &report.about) + report.about.elapsed_ms);
    let elapsed_ms = ends.fold(0.0, f64::max);
    let same = |of: fn(&RunInfo) -> &Option<String>| {
        let mut all = reports.iter().map(|report| of(&report.about));
        let first = all.next().cloned().flatten();
        if all.all(|other| *other == first) { first } else { None }
    };
    let mut about = RunInfo {
        elapsed_ms,
        environment: same(|about| &about.environment),
        base: same(|about| &about.base),
        // Each has its own.
        seed: None,
        shard: None,
        merged: Some(reports.iter().map(|report| report.about.merged.unwrap_or(1)).sum()),
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
            entry.started_ms = entry.started_ms.map(|began| ((began + later) * 1e3).round() / 1e3);
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
                    let before = &entries[place];
                    if are_shards {
                        if before.outcome.is_fine() {
                            (owner[place], entries[place]) = (number, entry);
                        }
                        continue;
                    }
                    owner[place] = number;
                    // An entry that passed twice is not a second attempt.
                    let own = entry.attempts.unwrap_or(1);
                    let all = before.attempts.unwrap_or(1) + own - usize::from(before.outcome.is_fine());
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
    if are_shards {
        entries.sort_by_key(|entry| (entry.round, entry.place, entry.row));
        entries.iter_mut().for_each(|entry| entry.place = None);
        about.totals = totals_of(&entries, &owner, &totals);
        return LoadedReport { about, entries };
    }
    about.totals = totals_of(&entries, &owner, &totals);
    LoadedReport { about, entries }
}

/// Whether the reports are different shards of one run.
fn are_shards(reports: &[LoadedReport]) -> bool {
    let shards = reports.iter().map(|report| report.about.shard.as_deref()?.split_once('/'));
    let Some(mut shards) = shards.collect::<Option<Vec<_>>>() else { return false };
    shards.sort_unstable();
    let placed = |report: &LoadedReport| report.entries.iter().all(|entry| entry.place.is_some());
    shards.len() > 1
        && shards.windows(2).all(|two| two[0].0 != two[1].0 && two[0].1 == two[1].1)
        && reports.iter().all(placed)
}

/// The figures of joined entries, of which `owner` gives the number of the report.
fn totals_of(entries: &[Entry<'_>], owner: &[usize], totals: &[Summary]) -> Summary {
    let own = summary_of(entries);
    let counts = |number: &usize| owner.contains(number) || number + 1 == totals.len();
    let open = || (0..totals.len()).filter(counts).map(|number| &totals[number]);
    let left_out = open().map(|totals| totals.not_reached).sum();
    let interrupted = open().any(|totals| totals.interrupted);
    Summary { not_reached: left_out, interrupted, cells: own.cells + left_out, ..own }
}

/// How much later than `first` a run began, in milliseconds.
fn shift(first: &RunInfo, other: &RunInfo) -> f64 {
    (other.started - first.started).num_milliseconds() as f64
}
