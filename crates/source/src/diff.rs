//! The lines in which two texts differ.

use similar::{ChangeTag, TextDiff};

/// Lines that are alike are left out but for so many around those that are not.
const CONTEXT_LINES: usize = 2;

/// The lines of a difference that are shown.
const MAX_SHOWN_LINES: usize = 40;

/// The lines of each side that are compared. A reader finds a difference before that.
const MAX_COMPARED_LINES: usize = 2_000;

/// A line is cut to so many characters.
const MAX_LINE_CHARS: usize = 160;

/// Characters of each of two long lines that are shown around the place where they part.
const LONG_VALUE_CHARS: usize = 60;

/// One line of a difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DiffLine {
    /// Both sides have it.
    Context(String),
    /// Only the left side has it.
    Left(String),
    /// Only the right side has it.
    Right(String),
    /// The number of equal lines left out here.
    Skipped(usize),
    /// The number of lines left out at the end.
    Truncated(usize),
}

/// The lines in which two texts differ, with some around them; of two long lines the pieces where they part.
pub fn diff_lines(left: &str, right: &str) -> Vec<DiffLine> {
    if !left.contains('\n') && !right.contains('\n') {
        return by_characters(left, right);
    }
    // Equal lines at the start are skipped first, so that a difference far down is found too.
    let alike = left.lines().zip(right.lines()).take_while(|(ours, theirs)| ours == theirs).count();
    let skipped = alike.saturating_sub(CONTEXT_LINES);
    let rest = |text| str::lines(text).skip(skipped).take(MAX_COMPARED_LINES).collect::<Vec<_>>();
    let mut lines = by_lines(&rest(left), &rest(right));
    match lines.first_mut() {
        Some(DiffLine::Skipped(number)) => *number += skipped,
        _ if skipped > 0 => lines.insert(0, DiffLine::Skipped(skipped)),
        _ => {}
    }
    lines
}

fn by_lines(left: &[&str], right: &[&str]) -> Vec<DiffLine> {
    let diff = TextDiff::from_slices(left, right);
    let (mut lines, mut shown_until) = (Vec::new(), 0);
    for group in diff.grouped_ops(CONTEXT_LINES) {
        let from = group.first().map_or(0, |op| op.old_range().start);
        if from > shown_until {
            lines.push(DiffLine::Skipped(from - shown_until));
        }
        for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
            let text = cut(change.value());
            lines.push(match change.tag() {
                ChangeTag::Equal => DiffLine::Context(text),
                ChangeTag::Delete => DiffLine::Left(text),
                ChangeTag::Insert => DiffLine::Right(text),
            });
        }
        shown_until = group.last().map_or(shown_until, |op| op.old_range().end);
    }
    if left.len() > shown_until {
        lines.push(DiffLine::Skipped(left.len() - shown_until));
    }
    if lines.len() > MAX_SHOWN_LINES {
        let more = lines.len() - MAX_SHOWN_LINES;
        lines.truncate(MAX_SHOWN_LINES);
        lines.push(DiffLine::Truncated(more));
    }
    lines
}

/// Where two long lines part: a piece of each around it.
fn by_characters(left: &str, right: &str) -> Vec<DiffLine> {
    let alike = left.chars().zip(right.chars()).take_while(|(ours, theirs)| ours == theirs).count();
    let from = alike.saturating_sub(LONG_VALUE_CHARS / 2);
    let piece = |text: &str| {
        let piece: String = text.chars().skip(from).take(LONG_VALUE_CHARS).collect();
        let before = if from > 0 { "…" } else { "" };
        let after = if text.chars().count() > from + LONG_VALUE_CHARS { "…" } else { "" };
        format!("{before}{piece}{after}")
    };
    vec![DiffLine::Left(piece(left)), DiffLine::Right(piece(right))]
}

fn cut(line: &str) -> String {
    match line.char_indices().nth(MAX_LINE_CHARS) {
        None => line.to_owned(),
        Some((at, _)) => format!("{}…", &line[..at]),
    }
}
