//! The Test Anything Protocol, version 14: a test point a cell, with what to see as a YAML block.

use super::entry::Entry;
use super::explain::{explanation, headline, one_line};
use super::{Format, Frame, RunInfo, Streams};
use serde_json::Value;
use std::fmt::Write;
use yieldtray_engine::Outcome;
use yieldtray_source::escape::{escape_line, escape_terminal};

/// Writes it.
#[derive(Default)]
pub(super) struct Tap {
    points: usize,
}

impl Format for Tap {
    fn entry(&mut self, entry: &Entry<'_>, to: &mut Streams) {
        self.points += 1;
        let ok = match entry.outcome {
            Outcome::Passed | Outcome::Skipped | Outcome::NotSent => "ok",
            Outcome::Failed | Outcome::Invalid | Outcome::NoResponse => "not ok",
        };
        let description = description(&format!("{}:{} {}", entry.file, entry.line, entry.title()));
        let _ = write!(to.all, "{ok} {} - {description}", self.points);
        if matches!(entry.outcome, Outcome::Skipped | Outcome::NotSent) {
            let _ = write!(to.all, " # SKIP {}", description_of_reason(entry));
        }
        to.all.push('\n');
        if ok == "ok" {
            return;
        }
        to.all.push_str("  ---\n");
        let mut block = |key: &str, value: Value| {
            // JSON is YAML: nothing in it can end the block.
            let _ = writeln!(to.all, "  {key}: {value}");
        };
        block("message", escape_line(&headline(entry)).into());
        block("outcome", entry.outcome.describe().into());
        block("file", escape_line(&entry.file).into());
        block("line", entry.failures.first().map_or(entry.line, |failed| failed.line).into());
        block("details", escape_terminal(&explanation(entry)).into());
        if let Some(millis) = entry.elapsed_ms {
            block("duration_ms", millis.into());
        }
        to.all.push_str("  ...\n");
    }

    fn frame(&mut self, about: &RunInfo) -> Frame {
        let mut head = "TAP version 14\n".to_owned();
        let environment = about.environment.as_deref().unwrap_or("no environment");
        let base = about.base.as_deref().unwrap_or_default();
        let _ = writeln!(head, "# {} · {}", about.tool, one_line(&escape_line(&format!("{environment} {base}"))));
        // Cells that were not reached have no test point; the plan, which fails, shows that.
        let mut tail = format!("1..{}\n", self.points);
        if about.totals.not_reached > 0 {
            let _ = writeln!(tail, "# {} not reached", about.totals.not_reached);
        }
        if about.totals.interrupted {
            tail.push_str("Bail out! interrupted\n");
        }
        Frame { head, tail, ..Frame::default() }
    }
}

fn description_of_reason(entry: &Entry<'_>) -> String {
    description(&headline(entry))
}

/// Text behind the number of a test point: a backslash and a number sign mean something there.
fn description(text: &str) -> String {
    escape_line(text).replace('\\', "\\\\").replace('#', "\\#")
}
