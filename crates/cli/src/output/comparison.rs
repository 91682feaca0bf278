//! The differences between two responses.

use super::log::{rfc3339, when};
use super::table::{Cell, columns, count, cut};
use super::{cell, data as shapes};
use crate::clock;
use crate::styles::Styles;
use serde_json::{Value, json};
use std::time::Duration;
use yieldtray_report::log::{BodyDifference, Comparison, PartChange};
use yieldtray_source::diff::DiffLine;
use yieldtray_source::escape::escape_line;
use yieldtray_store::log::NumberedExchange;

/// One side of a comparison.
#[derive(Clone, Debug)]
pub(crate) struct ComparedExchange {
    /// Its number in the log, if it is there.
    pub(crate) number: Option<i64>,
    /// The environment; empty for none.
    pub(crate) environment: String,
    /// When it was sent, in milliseconds since 1970.
    pub(crate) at: i64,
    /// The cell's name.
    pub(crate) name: String,
    /// The method.
    pub(crate) method: String,
    /// The URL.
    pub(crate) url: String,
    /// The status; `None` without a response.
    pub(crate) status: Option<u16>,
    /// How long it took.
    pub(crate) elapsed: Duration,
}

impl ComparedExchange {
    /// One of the log.
    pub(crate) fn of(listed: &NumberedExchange) -> Self {
        let own = &listed.summary;
        Self {
            number: Some(listed.number),
            environment: own.environment.clone(),
            at: own.at,
            name: own.name.clone(),
            method: own.method.clone(),
            url: own.url.clone(),
            status: own.status,
            elapsed: Duration::from_micros(u64::try_from(own.micros).unwrap_or_default()),
        }
    }
}

/// Where no terminal gives a width, a value is cut to so many characters.
const DEFAULT_COLUMNS: usize = 160;

/// The two sides, then a line a difference, and how many there are.
pub(crate) fn lines(
    sides: [&ComparedExchange; 2],
    found: &Comparison,
    styles: Styles,
    width: Option<usize>,
    terminal: bool,
) -> Vec<String> {
    let now = clock::now_millis();
    let side = |sign: &str, side: &ComparedExchange| {
        let status = side.status.map_or_else(|| "—".to_owned(), |status| status.to_string());
        vec![
            Cell::new(sign),
            Cell::new(side.number.map_or_else(|| "—".to_owned(), |number| number.to_string())),
            Cell::new(escape_line(&side.environment)),
            Cell::new(when(side.at, now, terminal)),
            Cell::new(escape_line(&format!("{} {}", side.method, side.url))).shrinkable(),
            Cell::new(status),
            Cell::new(cell::time(side.elapsed)),
        ]
    };
    let mut lines = columns(&[side("<", sides[0]), side(">", sides[1])], width);
    lines.extend(differences(found, styles, width));
    lines.push(match found.found.len() + found.more {
        0 => styles.good("no differences"),
        all => styles.strong(&count(all, "difference", "differences")),
    });
    lines
}

/// The differences from a logged response, after the current one was shown.
pub(crate) fn diff_from_logged(
    then: &ComparedExchange,
    found: &Comparison,
    styles: Styles,
    width: Option<usize>,
) -> Vec<String> {
    let number = then.number.map(|number| number.to_string()).unwrap_or_default();
    let ago = shapes::age((clock::now_millis() - then.at) / 1_000);
    let head = match found.found.len() + found.more {
        0 => styles.good(&format!("same as {number}, {ago}")),
        all => styles.warn(&format!("{} from {number}, {ago}", count(all, "difference", "differences"))),
    };
    let mut lines = vec![head];
    lines.extend(differences(found, styles, width));
    lines
}

fn differences(found: &Comparison, styles: Styles, width: Option<usize>) -> Vec<String> {
    let width = width.unwrap_or(DEFAULT_COLUMNS).max(40);
    let widest = found.found.iter().map(|one| one.place.chars().count()).max().unwrap_or_default().min(width / 2);
    let mut lines = Vec::new();
    for BodyDifference { place, change } in &found.found {
        let place = escape_line(place);
        let room = width.saturating_sub(widest.max(place.chars().count().min(width)) + 4).max(16);
        let place = super::table::left(&place, widest);
        let value = |text: &str, room: usize| cut(&escape_line(text), room);
        let both = |old: &str, new: &str, arrow: &str| {
            let half = room.saturating_sub(arrow.chars().count() + 2);
            // A short side leaves its space to the other.
            let new_room = half.saturating_sub(old.chars().count()).max(half / 2);
            let old_room = half.saturating_sub(new.chars().count()).max(half / 2);
            format!("{} {arrow} {}", styles.bad(&value(old, old_room)), styles.good(&value(new, new_room)))
        };
        let message = match change {
            PartChange::Added(new) => styles.good(&format!("+ {}", value(new, room.saturating_sub(2)))),
            PartChange::Removed(old) => styles.bad(&format!("- {}", value(old, room.saturating_sub(2)))),
            PartChange::Changed(old, new) => both(old, new, "→"),
            PartChange::OtherType(old, new) => both(old, new, "⇒"),
            PartChange::Moved(old, new) => styles.warn(&format!("moved from {old} to {new}")),
            PartChange::Lines(_) => styles.dim("other lines"),
        };
        lines.push(format!("  {}  {message}", styles.name(&place)));
        if let PartChange::Lines(different) = change {
            lines.extend(different.iter().map(|line| text_line(line, styles, width)));
        }
    }
    if found.more > 0 {
        lines.push(format!("  {}", styles.dim(&format!("… and {} more", found.more))));
    }
    lines
}

fn text_line(line: &DiffLine, styles: Styles, width: usize) -> String {
    let shown = |sign: &str, text: &str| format!("    {sign} {}", cut(&escape_line(text), width.saturating_sub(6)));
    match line {
        DiffLine::Context(text) => styles.dim(&shown(" ", text)),
        DiffLine::Left(text) => styles.bad(&shown("<", text)),
        DiffLine::Right(text) => styles.good(&shown(">", text)),
        DiffLine::Skipped(number) => styles.dim(&shown("…", &format!("{} unchanged", count(*number, "line", "lines")))),
        DiffLine::Truncated(number) => {
            styles.dim(&shown("…", &format!("and {}", count(*number, "more line", "more lines"))))
        }
    }
}

/// The same as data.
pub(crate) fn data(sides: [&ComparedExchange; 2], found: &Comparison) -> Value {
    let mut data = differences_data(found);
    (data["left"], data["right"]) = (side_data(sides[0]), side_data(sides[1]));
    data
}

/// The differences from a logged response, as data.
pub(crate) fn diff_from_logged_data(then: &ComparedExchange, found: &Comparison) -> Value {
    let mut data = side_data(then);
    if let (Value::Object(data), Value::Object(found)) = (&mut data, differences_data(found)) {
        data.extend(found);
    }
    data
}

fn side_data(side: &ComparedExchange) -> Value {
    json!({
        "number": side.number,
        "environment": if side.environment.is_empty() { None } else { Some(&side.environment) },
        "at": rfc3339(side.at),
        "name": side.name,
        "method": side.method,
        "url": side.url,
        "status": side.status,
        "elapsed_ms": side.elapsed.as_secs_f64() * 1e3,
    })
}

fn differences_data(found: &Comparison) -> Value {
    let json = |text: &str| serde_json::from_str(text).unwrap_or_else(|_| Value::from(text));
    let difference = |BodyDifference { place, change }: &BodyDifference| match change {
        PartChange::Added(new) => json!({ "place": place, "change": "added", "right": json(new) }),
        PartChange::Removed(old) => json!({ "place": place, "change": "removed", "left": json(old) }),
        PartChange::Changed(old, new) => {
            json!({ "place": place, "change": "changed", "left": json(old), "right": json(new) })
        }
        PartChange::OtherType(old, new) => {
            json!({ "place": place, "change": "type-changed", "left": json(old), "right": json(new) })
        }
        PartChange::Moved(from, to) => json!({ "place": place, "change": "moved", "from": from, "to": to }),
        PartChange::Lines(lines) => {
            let lines: Vec<Value> = lines.iter().map(line_data).collect();
            json!({ "place": place, "change": "lines", "lines": lines })
        }
    };
    json!({
        "same": found.is_same(),
        "differences": found.found.iter().map(difference).collect::<Vec<_>>(),
        "truncated": found.more,
    })
}

/// In the style of failed checks.
fn line_data(line: &DiffLine) -> Value {
    match line {
        DiffLine::Context(text) => json!(["both", text]),
        DiffLine::Left(text) => json!(["left", text]),
        DiffLine::Right(text) => json!(["right", text]),
        DiffLine::Skipped(number) => json!(["unchanged", number]),
        DiffLine::Truncated(number) => json!(["truncated", number]),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn found(changes: Vec<(&str, PartChange)>, more: usize) -> Comparison {
        let found =
            changes.into_iter().map(|(place, change)| BodyDifference { place: place.to_owned(), change }).collect();
        Comparison { found, more }
    }

    fn all_kinds() -> Comparison {
        let lines = vec![
            DiffLine::Context("lots:".to_owned()),
            DiffLine::Left("L-2039".to_owned()),
            DiffLine::Right("L-2040".to_owned()),
            DiffLine::Skipped(12),
            DiffLine::Truncated(1),
        ];
        found(
            vec![
                ("body.bins", PartChange::Changed("18".to_owned(), "24".to_owned())),
                ("body.grower", PartChange::OtherType("\"G-11\"".to_owned(), "11".to_owned())),
                ("body.note", PartChange::Added("\"late\"".to_owned())),
                ("body.room", PartChange::Removed("null".to_owned())),
                ("body.lots[id=L-1]", PartChange::Moved(0, 3)),
                ("body", PartChange::Lines(lines)),
            ],
            2,
        )
    }

    #[test]
    fn every_kind_of_difference_has_its_sign() {
        let lines = differences(&all_kinds(), Styles::new(false), Some(80));
        let lines: Vec<&str> = lines.iter().map(|line| line.trim_end()).collect();
        assert_eq!(
            lines,
            [
                "  body.bins          18 → 24",
                "  body.grower        \"G-11\" ⇒ 11",
                "  body.note          + \"late\"",
                "  body.room          - null",
                "  body.lots[id=L-1]  moved from 0 to 3",
                "  body               other lines",
                "      lots:",
                "    < L-2039",
                "    > L-2040",
                "    … 12 lines unchanged",
                "    … and 1 more line",
                "  … and 2 more",
            ]
        );
    }

    #[test]
    fn long_and_hostile_values_stay_on_their_line() {
        let long = "\"\u{1b}[2J\n".to_owned() + &"bramley ".repeat(60);
        let place = format!("body.lots[{}]", "9".repeat(90));
        for width in [40, 80, 200] {
            let changes = vec![
                (place.as_str(), PartChange::Changed(long.clone(), "18".to_owned())),
                ("body.a", PartChange::OtherType("18".to_owned(), long.clone())),
                ("body.b", PartChange::Added(long.clone())),
            ];
            let lines = differences(&found(changes, 0), Styles::new(false), Some(width));
            assert_eq!(lines.len(), 3);
            for line in &lines {
                assert!(!line.contains(['\u{1b}', '\n']), "{line}");
            }
            let room = lines[1].chars().count();
            assert!(room <= width.max(60), "{room} of {width}: {}", lines[1]);
            assert!(lines[1].contains("18 ⇒ ") && lines[1].contains('…'), "{}", lines[1]);
        }
    }

    #[test]
    fn data_tells_values_as_values_and_texts_as_texts() {
        let data = differences_data(&all_kinds());
        assert_eq!((&data["same"], &data["truncated"]), (&json!(false), &json!(2)));
        let kinds: Vec<&str> = data["differences"]
            .as_array()
            .expect("a list")
            .iter()
            .filter_map(|difference| difference["change"].as_str())
            .collect();
        assert_eq!(kinds, ["changed", "type-changed", "added", "removed", "moved", "lines"]);
        let differences = &data["differences"];
        assert_eq!((&differences[0]["left"], &differences[0]["right"]), (&json!(18), &json!(24)));
        assert_eq!((&differences[1]["left"], &differences[1]["right"]), (&json!("G-11"), &json!(11)));
        assert_eq!(differences[3]["left"], Value::Null);
        assert_eq!(differences[5]["lines"][3], json!(["unchanged", 12]));
        // Values that are not JSON are printed as text.
        let text =
            differences_data(&found(vec![("reason", PartChange::Changed("OK".to_owned(), "Gone".to_owned()))], 0));
        assert_eq!(text["differences"][0]["left"], "OK");
        assert_eq!(differences_data(&found(Vec::new(), 0))["same"], true);
    }
}
