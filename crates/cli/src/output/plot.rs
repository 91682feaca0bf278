//! How the time of a request went on, drawn in letters.

use super::cell::time;
use super::table::{count, left, right};
use super::{body, log};
use crate::styles::Styles;
use std::time::Duration;
use yieldtray_report::log::{Point, Trend};

/// The plot is so many lines high.
const HEIGHT_LINES: usize = 12;

/// Where no terminal gives a width, it is this wide.
const DEFAULT_COLUMNS: usize = 100;

/// The room of the times at its left.
const LABEL_COLUMNS: usize = 9;

/// The figures, the plot, and what is marked in it.
pub(crate) fn trend(title: &str, trend: &Trend, styles: Styles, width: Option<usize>) -> Vec<String> {
    let points = &trend.points;
    let slowest = &points[trend.slowest];
    let mut lines = vec![format!(
        "{}  {}  median {}, {}  slowest {}, exchange {}",
        styles.strong(title),
        count(points.len(), "response", "responses"),
        micros(trend.median),
        body::size(trend.median_size),
        micros(slowest.micros),
        slowest.number,
    )];
    lines.extend(plot(trend, styles, width.unwrap_or(DEFAULT_COLUMNS).clamp(30, 160)));
    for jump in &trend.jumps {
        let point = &points[jump.at];
        let commit = point.revision.as_ref().map(|revision| format!(", at {revision}")).unwrap_or_default();
        lines.push(format!(
            "{} from {} to {} with number {}{commit}",
            styles.warn("│"),
            micros(jump.before),
            micros(jump.after),
            point.number
        ));
    }
    lines
}

/// A length of time; a short one with a digit more than elsewhere, since it is compared with others.
fn micros(micros: u64) -> String {
    match micros {
        ..9_950 => format!("{:.1} ms", micros as f64 / 1e3),
        _ => time(Duration::from_micros(micros)),
    }
}

/// Columns are so many letters apart at most.
const MAX_POINT_GAP: usize = 6;

/// The responses in a column: several if there are more than columns.
struct Column {
    /// The longest of their times.
    highest: u64,
    /// The middle one.
    middle: u64,
    slowest: bool,
    jump: bool,
}

fn plot(trend: &Trend, styles: Styles, width: usize) -> Vec<String> {
    let room = width - LABEL_COLUMNS - 2;
    let columns = columns(trend, room);
    // Few responses are spread apart.
    let apart = (room / columns.len()).clamp(1, MAX_POINT_GAP);
    let highest = columns.iter().map(|column| column.highest).max().unwrap_or_default().max(1);
    // The line of a time, from the top.
    let line =
        |micros: u64| HEIGHT_LINES - 1 - (micros as f64 / highest as f64 * (HEIGHT_LINES - 1) as f64).round() as usize;
    let median = line(trend.median);
    let mut lines = Vec::with_capacity(HEIGHT_LINES + 2);
    for row in 0..HEIGHT_LINES {
        let label = match row {
            0 => micros(highest),
            _ if row == median => micros(trend.median),
            _ if row == HEIGHT_LINES - 1 => "0".to_owned(),
            _ => String::new(),
        };
        let mut drawn = String::new();
        for column in &columns {
            let (top, middle) = (line(column.highest), line(column.middle));
            drawn += &if column.slowest && row == top {
                styles.bad("▲")
            } else if row == middle {
                styles.name("●")
            } else if row > top && row < middle {
                styles.dim("╷")
            } else if row == top {
                styles.name("•")
            } else if column.jump {
                styles.warn("│")
            } else if row == median {
                styles.dim("┄")
            } else {
                " ".to_owned()
            };
            let between = if row == median { "┄" } else { " " };
            drawn += &styles.dim(&between.repeat(apart - 1));
        }
        lines.push(format!("{} {drawn}", styles.dim(&right(&label, LABEL_COLUMNS))));
    }
    let (first, last) = (&trend.points[0], &trend.points[trend.points.len() - 1]);
    let (from, to) = (log::local(first.at), log::local(last.at));
    lines.push(format!("{} {}", " ".repeat(LABEL_COLUMNS), styles.dim(&"─".repeat(columns.len() * apart))));
    let gap = (columns.len() * apart).saturating_sub(to.len());
    let axis = if from.len() + 2 <= gap { format!("{}{to}", left(&from, gap)) } else { format!("{from} – {to}") };
    lines.push(format!("{} {}", " ".repeat(LABEL_COLUMNS), styles.dim(&axis)));
    lines
}

fn columns(trend: &Trend, room: usize) -> Vec<Column> {
    let points: Vec<(usize, &Point)> = trend.points.iter().enumerate().collect();
    let each = points.len().div_ceil(room.max(1));
    let column = |points: &[(usize, &Point)]| {
        let mut times: Vec<u64> = points.iter().map(|(_, point)| point.micros).collect();
        times.sort_unstable();
        Column {
            highest: times[times.len() - 1],
            middle: times[(times.len() - 1) / 2],
            slowest: points.iter().any(|(at, _)| *at == trend.slowest),
            jump: points.iter().any(|(at, _)| trend.jumps.iter().any(|jump| jump.at == *at)),
        }
    };
    points.chunks(each.max(1)).map(column).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(times: &[u64]) -> Trend {
        let point = |(at, millis): (usize, &u64)| Point {
            number: at as i64 + 1,
            at: 1_789_000_000_000 + at as i64 * 60_000,
            micros: millis * 1_000,
            size: 100,
            status: 200,
            revision: (at > 5).then(|| "0a1b2c3d4e5f".to_owned()),
        };
        Trend::of(times.iter().enumerate().map(point).collect()).expect("there are points")
    }

    /// The places of a letter in the plot: line and column.
    fn places(lines: &[String], letter: char) -> Vec<(usize, usize)> {
        let in_line = |(row, line): (usize, &String)| {
            let found = line.chars().enumerate().filter(|(_, own)| *own == letter);
            found.map(|(column, _)| (row, column)).collect::<Vec<_>>()
        };
        lines.iter().enumerate().flat_map(in_line).collect()
    }

    #[test]
    fn each_answer_stands_at_its_height_and_the_slowest_at_the_top() {
        let drawn = plot(&of(&[10, 20, 40, 0]), Styles::new(false), 60);
        assert_eq!(drawn.len(), HEIGHT_LINES + 2);
        assert_eq!(places(&drawn, '▲'), [(0, LABEL_COLUMNS + 1 + 2 * MAX_POINT_GAP)]);
        let rows: Vec<usize> = {
            let mut found = places(&drawn, '●');
            found.sort_unstable_by_key(|(_, column)| *column);
            found.into_iter().map(|(row, _)| row).collect()
        };
        assert_eq!(rows, [8, 5, 11], "11 lines are 40 ms");
        assert!(drawn[0].starts_with("    40 ms "), "{}", drawn[0]);
        assert!(drawn[HEIGHT_LINES - 1].starts_with("        0 "), "{}", drawn[HEIGHT_LINES - 1]);
    }

    #[test]
    fn no_line_is_wider_than_the_terminal() {
        for answers in [1, 2, 7, 40, 41, 1_000] {
            let times: Vec<u64> = (0..answers).map(|n| 5 + n * 37 % 90).collect();
            for width in [30, 80, 160] {
                let lines = plot(&of(&times), Styles::new(false), width);
                // The times of the axis are printed completely, whatever the width.
                let widest = lines[..=HEIGHT_LINES].iter().map(|line| line.trim_end().chars().count()).max();
                assert!(widest <= Some(width), "{answers} answers on {width} columns: {widest:?}");
                assert_eq!(places(&lines, '▲').len(), 1, "{answers} answers on {width} columns");
            }
        }
    }

    #[test]
    fn a_jump_is_marked_and_told_with_its_commit() {
        let lines =
            trend("read-lot", &of(&[10, 11, 10, 9, 10, 10, 30, 31, 29, 30, 33, 30]), Styles::new(false), Some(100));
        assert_eq!(lines[0], "read-lot  12 responses  median 11 ms, 100 B  slowest 33 ms, exchange 11");
        assert_eq!(lines.last().map(String::as_str), Some("│ from 10 ms to 30 ms with number 7, at 0a1b2c3d4e5f"));
        let column = LABEL_COLUMNS + 1 + 6 * MAX_POINT_GAP;
        let marks = places(&lines[1..=HEIGHT_LINES], '│');
        assert!(!marks.is_empty() && marks.iter().all(|(_, own)| *own == column), "{marks:?}");
    }
}
