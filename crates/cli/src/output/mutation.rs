//! Mutations that no check detects: first the cells without checks, then by file.

use super::cell::{CellLines, Columns, Heading, shown_name};
use super::{Out, data, table};
use serde_json::{Value, json};
use std::io::{self, Write};
use yieldtray_engine::prove::{Mutation, MutationReport, words};
use yieldtray_engine::{CellReport, Outcome};
use yieldtray_source::SourceId;
use yieldtray_source::escape::escape_line;
use yieldtray_workspace::Workspace;

/// Under what circumstances something was proved.
pub(crate) struct MutationHeader<'p> {
    /// Environment and URL.
    pub(crate) heading: Heading,
    /// The chosen environment.
    pub(crate) environment: Option<&'p str>,
    /// Whether somebody ended the run before its end.
    pub(crate) interrupted: bool,
}

/// The totals of all cells.
pub(crate) struct MutationSummary<'w> {
    workspace: &'w Workspace,
    files: Vec<File<'w>>,
    least: Option<u8>,
    /// Changes that no request notices, of several.
    everywhere: Vec<Mutation>,
    name_width: usize,
}

/// The totals of the cells of a file.
struct File<'w> {
    source: SourceId,
    cells: Vec<&'w CellReport>,
}

/// Changes, and how many of them were noticed.
#[derive(Clone, Copy, Default)]
struct Score {
    altered: usize,
    noticed: usize,
}

impl Score {
    fn of<'r>(cells: impl IntoIterator<Item = &'r CellReport>) -> Self {
        let proofs = cells.into_iter().filter_map(|report| report.mutation.as_deref());
        proofs.fold(Self::default(), |sum, proof| Self {
            altered: sum.altered + proof.mutants,
            noticed: sum.noticed + proof.detected(),
        })
    }

    /// In percent, rounded down: only all is a hundred.
    fn percent(self) -> Option<usize> {
        (self.noticed * 100).checked_div(self.altered)
    }
}

impl<'w> MutationSummary<'w> {
    /// Puts the reports of a run in order by file; of a cell that was sent more than once the first counts.
    pub(crate) fn new(workspace: &'w Workspace, reports: &'w [CellReport], least: Option<u8>) -> Self {
        let mut files: Vec<File<'w>> = Vec::new();
        for report in reports {
            let source = report.cell.source;
            let at = files.iter().position(|file| file.source == source).unwrap_or_else(|| {
                files.push(File { source, cells: Vec::new() });
                files.len() - 1
            });
            let same = |other: &&CellReport| other.cell == report.cell && other.played_by == report.played_by;
            if !files[at].cells.iter().any(same) {
                files[at].cells.push(report);
            }
        }
        let proven = Self { workspace, files, least, everywhere: Vec::new(), name_width: 0 };
        let names = proven.cells().map(|report| shown_name(workspace, report.cell, report.played_by).chars().count());
        let name_width = names.max().unwrap_or_default().min(48);
        let everywhere =
            gaps_of_all(&proven.cells().filter_map(|report| report.mutation.as_deref()).collect::<Vec<_>>());
        Self { everywhere, name_width, ..proven }
    }

    /// Whether the checks of every file notice as much as they must.
    pub(crate) fn is_enough(&self) -> bool {
        self.files.iter().all(|file| !self.is_short(file.score()))
    }

    fn is_short(&self, score: Score) -> bool {
        self.least.zip(score.percent()).is_some_and(|(least, percent)| percent < usize::from(least))
    }

    fn cells(&self) -> impl Iterator<Item = &'w CellReport> {
        self.files.iter().flat_map(|file| file.cells.iter().copied())
    }

    /// Shows it as text or as data.
    pub(crate) fn show(&self, proved: &MutationHeader<'_>, out: &mut Out) -> io::Result<()> {
        if out.json {
            let document = self.data(proved);
            return writeln!(out.result(), "{document}");
        }
        let look = out.look;
        if !out.quiet {
            writeln!(out.result(), "{}", proved.heading.text(look))?;
        }
        self.unchecked(out)?;
        let columns = self.cells().map(|report| {
            (shown_name(self.workspace, report.cell, report.played_by), report.method.as_str(), report.url.as_str())
        });
        let columns = Columns::new(columns, out.width);
        let lines = CellLines { workspace: self.workspace, columns, look, base: proved.heading.base.clone() };
        for file in &self.files {
            self.file(file, &lines, out)?;
        }
        self.gaps_everywhere(out)?;
        self.summary(proved.interrupted, out)
    }

    /// The cells that nothing is judged of.
    fn unchecked(&self, out: &mut Out) -> io::Result<()> {
        let bare: Vec<_> = self.cells().filter(|report| report.mutation.is_some() && report.checks == 0).collect();
        if bare.is_empty() {
            return Ok(());
        }
        let look = out.look;
        writeln!(out.result(), "{}", look.bad("no checks at all"))?;
        for report in bare {
            let place = self.workspace.shown_cell(report.cell);
            let name = shown_name(self.workspace, report.cell, report.played_by);
            writeln!(out.result(), "  {}  {}", look.faint(&place), escape_line(&name))?;
        }
        Ok(())
    }

    fn file(&self, file: &File<'_>, lines: &CellLines<'_>, out: &mut Out) -> io::Result<()> {
        let look = out.look;
        let score = file.score();
        let path = look.strong(&self.workspace.shown_path(file.source));
        let percent = match score.percent() {
            Some(percent) if self.is_short(score) => look.bad(&format!("{percent} %")),
            Some(percent) => format!("{percent} %"),
            None => look.faint("nothing was proved"),
        };
        writeln!(out.result(), "{path}  {percent}")?;
        for report in &file.cells {
            match &report.mutation {
                Some(_) if out.quiet => {}
                Some(proof) => self.cell(report, proof, out)?,
                // The reason why it did not pass is printed above.
                None => {
                    for line in lines.cell(report) {
                        writeln!(out.result(), "{line}")?;
                    }
                    out.problems(self.workspace, &report.problems)?;
                }
            }
        }
        Ok(())
    }

    fn cell(&self, report: &CellReport, proof: &MutationReport, out: &mut Out) -> io::Result<()> {
        let look = out.look;
        let name = escape_line(&shown_name(self.workspace, report.cell, report.played_by)).into_owned();
        let name = table::left(&table::cut(&name, self.name_width), self.name_width);
        let noticed = format!("{} of {} noticed", proof.detected(), proof.mutants);
        let noticed = if proof.survivors.is_empty() { look.good(&noticed) } else { look.odd(&noticed) };
        writeln!(out.result(), "  {name}  {noticed}")?;
        let nobody = if report.checks == 0 { "nothing notices when" } else { "no check notices when" };
        let own: Vec<Mutation> = proof.survivors.iter().filter(|gap| !self.everywhere.contains(gap)).cloned().collect();
        tell(nobody, &words(&own), 6, out)?;
        if let Some(line) = &proof.suggestion {
            writeln!(out.result(), "      {} {}", look.faint("add"), look.name(&escape_line(line)))?;
        }
        Ok(())
    }

    /// A mutation that no check of any request detects is reported once.
    fn gaps_everywhere(&self, out: &mut Out) -> io::Result<()> {
        if self.everywhere.is_empty() || out.quiet {
            return Ok(());
        }
        let look = out.look;
        writeln!(out.result(), "{}", look.strong("in every request"))?;
        tell("no check notices when", &words(&self.everywhere), 2, out)?;
        let line = "a check in the preamble of `_common.http` holds for all of them";
        writeln!(out.result(), "  {}", look.faint(line))
    }

    fn summary(&self, interrupted: bool, out: &mut Out) -> io::Result<()> {
        let look = out.look;
        let score = Score::of(self.cells());
        let judged = self.cells().filter(|report| report.mutation.is_some()).count();
        let mut parts = vec![
            table::count(judged, "request", "requests"),
            format!("{} of {} noticed", score.noticed, table::count(score.altered, "change", "changes")),
        ];
        parts.extend(score.percent().map(|percent| look.strong(&format!("{percent} %"))));
        let not_passed = self.cells().filter(|report| is_unproved(report)).count();
        if not_passed > 0 {
            parts.push(look.bad(&format!("{not_passed} did not pass")));
        }
        if let (Some(least), Some(_)) = (self.least, score.percent()) {
            let short = self.files.iter().filter(|file| self.is_short(file.score())).count();
            parts.push(match short {
                0 => look.good(&format!("all at least {least} %")),
                short => look.bad(&format!("{} below {least} %", table::count(short, "file", "files"))),
            });
        }
        if interrupted {
            parts.push(look.bad("interrupted"));
        }
        writeln!(out.result(), "{}", parts.join(" · "))
    }

    fn data(&self, proved: &MutationHeader<'_>) -> Value {
        let file = |file: &File<'_>| {
            let score = file.score();
            json!({
                "file": self.workspace.shown_path(file.source),
                "altered": score.altered,
                "noticed": score.noticed,
                "percent": score.percent(),
            })
        };
        let cell = |report: &CellReport| {
            let mut data = data::cell_report(self.workspace, report);
            if let Some(proof) = &report.mutation {
                data["proof"] = json!({
                    "altered": proof.mutants,
                    "noticed": proof.detected(),
                    "gaps": proof.survivors.iter().map(|gap| match gap.subject() {
                        Some(subject) => json!({ "change": gap.as_str(), "subject": subject }),
                        None => json!({ "change": gap.as_str() }),
                    }).collect::<Vec<_>>(),
                    "words": words(&proof.survivors),
                    "suggestion": proof.suggestion,
                });
            }
            data
        };
        let score = Score::of(self.cells());
        json!({
            "environment": proved.environment,
            "interrupted": proved.interrupted,
            "altered": score.altered,
            "noticed": score.noticed,
            "percent": score.percent(),
            "least": self.least,
            "enough": self.is_enough(),
            "files": self.files.iter().map(file).collect::<Vec<_>>(),
            "cells": self.cells().map(cell).collect::<Vec<_>>(),
        })
    }
}

impl File<'_> {
    fn score(&self) -> Score {
        Score::of(self.cells.iter().copied())
    }
}

/// Whether a cell should have been judged and was not.
fn is_unproved(report: &CellReport) -> bool {
    report.mutation.is_none() && report.outcome != Outcome::Skipped
}

/// The changes that nothing notices in any of these, if they are several; what is about a field or a header field
/// is about one request.
fn gaps_of_all(proofs: &[&MutationReport]) -> Vec<Mutation> {
    let Some((first, others)) = proofs.split_first().filter(|(_, others)| others.len() >= 2) else { return Vec::new() };
    let of_any = |gap: &&Mutation| !matches!(gap, Mutation::Field { .. } | Mutation::Header(_) | Mutation::EmptyList);
    let by_all = |gap: &&Mutation| others.iter().all(|proof| proof.survivors.contains(gap));
    first.survivors.iter().filter(of_any).filter(by_all).cloned().collect()
}

/// Undetected mutations: one after its name, several below it.
fn tell(nobody: &str, gaps: &[String], indent: usize, out: &mut Out) -> io::Result<()> {
    let width = out.width.unwrap_or(160).max(40);
    let indent = " ".repeat(indent);
    let mut line = |text: &str, indent: &str| {
        let room = width - indent.len();
        wrapped(&escape_line(text), room).iter().try_for_each(|line| writeln!(out.result(), "{indent}{line}"))
    };
    match gaps {
        [] => Ok(()),
        [only] => line(&format!("{nobody} {only}"), &indent),
        several => {
            line(nobody, &indent)?;
            several.iter().try_for_each(|gap| line(gap, &format!("{indent}  ")))
        }
    }
}

/// Text in lines of at most `width` columns, broken between words.
fn wrapped(text: &str, width: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    for word in text.split(' ') {
        match lines.last_mut() {
            Some(line) if line.chars().count() + 1 + word.chars().count() <= width => {
                line.push(' ');
                line.push_str(word);
            }
            Some(_) => lines.push(format!("  {word}")),
            None => lines.push(word.to_owned()),
        }
    }
    lines
}
