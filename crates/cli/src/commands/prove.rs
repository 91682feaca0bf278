//! `prove`.

use crate::args::{Common, Prove};
use crate::confirm::guard;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::mutation::{MutationHeader, MutationSummary};
use crate::output::progress::ProgressLine;
use crate::project::select::choose;
use crate::prompt::Terminal;
use crate::run::RunObserver;
use crate::run::service::{ReplayParams, RunService};
use std::io::{self, Write};
use std::time::Instant;
use yieldtray_engine::{CellReport, Event, ExitCode, Run, RunOptions};
use yieldtray_workspace::plan::Plan;

/// Sends each request once and says what its checks would not notice.
pub(crate) fn prove(common: &Common, args: &Prove, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let (mut project, chosen) = choose(common, &args.choice, host, out)?;
    let plan = Plan::new(&mut project.workspace, &chosen, true);
    let prompter = Terminal::opening_pages(host, project.trust.allows());
    guard(&project, &plan.unsafe_requests(&project.workspace), args.yes, &prompter)?;
    let heading = project.heading_of(plan.steps.iter().map(|step| step.cell));
    let workspace = &project.workspace;
    let run_options = RunOptions {
        first_row_only: true,
        mutate_responses: true,
        reveal_secrets: project.reveal,
        ..RunOptions::default()
    };
    let progress = ProgressLine::new(Instant::now(), &out.settings);
    let observer = MutationObserver { out, progress, failed: 0, reports: Vec::new() };
    let params = ReplayParams { plan, options: run_options, jobs: 1, time_connecting: false };
    let replayed = RunService::new(&project, &prompter).replay(params, observer)?;
    replayed.outcome?;
    let (run, MutationObserver { out, reports, .. }) = (replayed.run, replayed.observer);
    let summary = MutationSummary::new(workspace, &reports, args.min);
    let environment = project.settings.environment.as_deref();
    let header = MutationHeader { heading, environment, interrupted: run.summary().interrupted };
    if out.settings.json {
        writeln!(out.result(), "{}", summary.data(&header))?;
    } else {
        out.lines(&summary.lines(&header, &out.settings))?;
    }
    out.seed(project.seed_to_tell(run.summary()))?;
    let enough = ExitCode::failed_if(!summary.is_enough());
    Ok(run.summary().exit_code().max(enough).max(project.unreadable_code()))
}

/// Collects the report of each cell.
struct MutationObserver<'o> {
    out: &'o mut Out,
    progress: ProgressLine,
    failed: usize,
    reports: Vec<CellReport>,
}

impl RunObserver for MutationObserver<'_> {
    fn on_event(&mut self, run: &Run<'_>, event: Event) -> io::Result<()> {
        match event {
            Event::CellFinished(report) => {
                self.failed += usize::from(report.mutation.is_none());
                self.reports.push(*report);
                self.on_tick(run)
            }
            Event::RunFinished(_) => self.release_terminal(),
            Event::RunStarted { .. } | Event::TokenObtained(_) => Ok(()),
        }
    }

    fn wants_ticks(&self) -> bool {
        self.progress.is_shown()
    }

    fn on_tick(&mut self, run: &Run<'_>) -> io::Result<()> {
        self.out.draw_progress(&mut self.progress, run, self.failed)
    }

    fn release_terminal(&mut self) -> io::Result<()> {
        self.out.clear_progress(&mut self.progress)
    }
}
