//! Mutations that no check detects: first the cells without checks, then by file.

use super::cell::{CellLines, Columns, Heading, shown_name};
use super::{Line, data, problems, table};
use crate::settings::OutputSettings;
use crate::styles::Styles;
use serde_json::{Value, json};
use yieldtray_engine::prove::{Mutation, MutationReport, describe};
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
    min: Option<u8>,
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
    pub(crate) fn new(workspace: &'w Workspace, reports: &'w [CellReport], min: Option<u8>) -> Self {
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
        let proven = Self { workspace, files, min, everywhere: Vec::new(), name_width: 0 };
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
        self.min.zip(score.percent()).is_some_and(|(min, percent)| percent < usize::from(min))
    }

    fn cells(&self) -> impl Iterator<Item = &'w CellReport> {
        self.files.iter().flat_map(|file| file.cells.iter().copied())
    }

    /// The report as text.
    pub(crate) fn lines(&self, header: &MutationHeader<'_>, settings: &OutputSettings) -> Vec<Line> {
        let styles = settings.styles;
        let mut lines = Vec::new();
        if !settings.quiet {
            lines.push(Line::Result(header.heading.text(styles)));
        }
        self.add_unchecked(styles, &mut lines);
        let columns = self.cells().map(|report| {
            (shown_name(self.workspace, report.cell, report.played_by), report.method.as_str(), report.url.as_str())
        });
        let columns = Columns::new(columns, settings.width);
        let cells = CellLines { workspace: self.workspace, columns, styles, base: header.heading.base.clone() };
        for file in &self.files {
            self.add_file(file, &cells, settings, &mut lines);
        }
        if !self.everywhere.is_empty() && !settings.quiet {
            self.add_undetected_everywhere(settings, &mut lines);
        }
        lines.push(Line::Result(self.summary(header.interrupted, styles)));
        lines
    }

    /// Adds the cells that have no check.
    fn add_unchecked(&self, styles: Styles, lines: &mut Vec<Line>) {
        let unchecked: Vec<_> = self.cells().filter(|report| report.mutation.is_some() && report.checks == 0).collect();
        if unchecked.is_empty() {
            return;
        }
        lines.push(Line::Result(styles.bad("no checks")));
        for report in unchecked {
            let place = styles.dim(&self.workspace.shown_cell(report.cell));
            let name = shown_name(self.workspace, report.cell, report.played_by);
            lines.push(Line::Result(format!("  {place}  {}", escape_line(&name))));
        }
    }

    fn add_file(&self, file: &File<'_>, cells: &CellLines<'_>, settings: &OutputSettings, lines: &mut Vec<Line>) {
        let styles = settings.styles;
        let score = file.score();
        let path = styles.strong(&self.workspace.shown_path(file.source));
        let percent = match score.percent() {
            Some(percent) if self.is_short(score) => styles.bad(&format!("{percent} %")),
            Some(percent) => format!("{percent} %"),
            None => styles.dim("nothing was tested"),
        };
        lines.push(Line::Result(format!("{path}  {percent}")));
        for report in &file.cells {
            match &report.mutation {
                Some(_) if settings.quiet => {}
                Some(proof) => self.add_cell(report, proof, settings, lines),
                // The reason why it did not pass is printed above.
                None => {
                    lines.extend(cells.cell(report).into_iter().map(Line::Result));
                    let problems = problems::snippets(self.workspace, &report.problems, settings);
                    lines.extend(problems.into_iter().map(Line::Message));
                }
            }
        }
    }

    fn add_cell(&self, report: &CellReport, proof: &MutationReport, settings: &OutputSettings, lines: &mut Vec<Line>) {
        let styles = settings.styles;
        let name = escape_line(&shown_name(self.workspace, report.cell, report.played_by)).into_owned();
        let name = table::left(&table::cut(&name, self.name_width), self.name_width);
        let noticed = format!("{} of {} detected", proof.detected(), proof.mutants);
        let noticed = if proof.survivors.is_empty() { styles.good(&noticed) } else { styles.warn(&noticed) };
        lines.push(Line::Result(format!("  {name}  {noticed}")));
        let label = if report.checks == 0 { "no checks; undetected:" } else { "undetected:" };
        let own: Vec<Mutation> = proof.survivors.iter().filter(|gap| !self.everywhere.contains(gap)).cloned().collect();
        lines.extend(undetected(label, &describe(&own), 6, settings.width));
        if let Some(check) = &proof.suggestion {
            let (add, check) = (styles.dim("add"), styles.name(&escape_line(check)));
            lines.push(Line::Result(format!("      {add} {check}")));
        }
    }

    /// Adds the mutations that no check of any request detects: each is reported once.
    fn add_undetected_everywhere(&self, settings: &OutputSettings, lines: &mut Vec<Line>) {
        let styles = settings.styles;
        lines.push(Line::Result(styles.strong("in every request")));
        lines.extend(undetected("undetected:", &describe(&self.everywhere), 2, settings.width));
        let advice = "a check in the preamble of `_common.http` applies to all of them";
        lines.push(Line::Result(format!("  {}", styles.dim(advice))));
    }

    fn summary(&self, interrupted: bool, styles: Styles) -> String {
        let score = Score::of(self.cells());
        let judged = self.cells().filter(|report| report.mutation.is_some()).count();
        let mut parts = vec![
            table::count(judged, "request", "requests"),
            format!("{} of {} detected", score.noticed, table::count(score.altered, "mutation", "mutations")),
        ];
        parts.extend(score.percent().map(|percent| styles.strong(&format!("{percent} %"))));
        let not_passed = self.cells().filter(|report| is_unproved(report)).count();
        if not_passed > 0 {
            parts.push(styles.bad(&format!("{not_passed} did not pass")));
        }
        if let (Some(min), Some(_)) = (self.min, score.percent()) {
            let short = self.files.iter().filter(|file| self.is_short(file.score())).count();
            parts.push(match short {
                0 => styles.good(&format!("all at least {min} %")),
                short => styles.bad(&format!("{} below {min} %", table::count(short, "file", "files"))),
            });
        }
        if interrupted {
            parts.push(styles.bad("interrupted"));
        }
        parts.join(" · ")
    }

    /// The report as data.
    pub(crate) fn data(&self, proved: &MutationHeader<'_>) -> Value {
        let file = |file: &File<'_>| {
            let score = file.score();
            json!({
                "file": self.workspace.shown_path(file.source),
                "mutations": score.altered,
                "detected": score.noticed,
                "percent": score.percent(),
            })
        };
        let cell = |report: &CellReport| {
            let mut data = data::cell_report(self.workspace, report);
            if let Some(proof) = &report.mutation {
                data["mutation"] = json!({
                    "mutations": proof.mutants,
                    "detected": proof.detected(),
                    "undetected": proof.survivors.iter().map(|gap| match gap.subject() {
                        Some(subject) => json!({ "change": gap.as_str(), "subject": subject }),
                        None => json!({ "change": gap.as_str() }),
                    }).collect::<Vec<_>>(),
                    "messages": describe(&proof.survivors),
                    "suggestion": proof.suggestion,
                });
            }
            data
        };
        let score = Score::of(self.cells());
        json!({
            "environment": proved.environment,
            "interrupted": proved.interrupted,
            "mutations": score.altered,
            "detected": score.noticed,
            "percent": score.percent(),
            "min": self.min,
            "min_reached": self.is_enough(),
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
fn undetected(label: &str, gaps: &[String], indent: usize, width: Option<usize>) -> Vec<Line> {
    let width = width.unwrap_or(160).max(40);
    let line = |text: &str, indent: usize| {
        // The lines after the first are indented by two more.
        let lines = table::wrapped(&escape_line(text), width - indent - 2).into_iter().enumerate();
        lines.map(move |(index, line)| Line::Result(" ".repeat(indent + 2 * index.min(1)) + &line))
    };
    match gaps {
        [] => Vec::new(),
        [only] => line(&format!("{label} {only}"), indent).collect(),
        several => line(label, indent).chain(several.iter().flat_map(|gap| line(gap, indent + 2))).collect(),
    }
}
