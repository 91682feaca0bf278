//! The inputs of a run, and the options that change how its plan runs.

use crate::run_values::RunValues;
use yieldtray_expression::{Engine, RandomSource};
use yieldtray_workspace::plan::{Plan, Step};
use yieldtray_workspace::request::Tokens;
use yieldtray_workspace::scope::{EvalContext, EvalSettings, Tray};
use yieldtray_workspace::{CellId, Workspace};

/// The seed with which the response of a cell and row was logged.
pub type LoggedSeeds<'w> = dyn Fn(CellId, Option<usize>) -> Option<u64> + 'w;

/// How a run differs from sending every cell of its plan for every row.
#[derive(Default)]
pub struct RunOptions<'w> {
    /// Send nothing more after a failure.
    pub fail_fast: bool,
    /// Send a cell with rows for its first row alone.
    pub first_row_only: bool,
    /// Send this cell for this row alone, from 1.
    pub row_of_cell: Option<(CellId, usize)>,
    /// More header fields for one cell; an empty value drops the fields of its name.
    pub headers: Option<(CellId, Vec<(String, String)>)>,
    /// Prepare requests without sending them: no token is requested either.
    pub dry_run: bool,
    /// Evaluate logged responses again: nothing is sent and nothing waited for, and random values are drawn from the
    /// seeds of the log. Implies `dry_run`.
    pub logged_seeds: Option<Box<LoggedSeeds<'w>>>,
    /// Put what was sent and received into the reports, without bodies of more bytes than this.
    pub capture_limit: Option<u64>,
    /// Evaluate the checks of each response that passes on altered copies, too.
    pub mutate_responses: bool,
    /// Mask no secrets: the user asked to see them.
    pub reveal_secrets: bool,
    /// Values that were captured before the run.
    pub tray: Tray,
    /// Tokens that were obtained before the run.
    pub tokens: Tokens,
}

/// The inputs of a run, which never change.
pub(crate) struct RunInputs<'w> {
    workspace: &'w Workspace,
    engine: &'w Engine,
    random: &'w RandomSource,
    settings: EvalSettings,
    plan: Plan,
    options: RunOptions<'w>,
}

impl<'w> RunInputs<'w> {
    pub(crate) fn new(
        workspace: &'w Workspace,
        engine: &'w Engine,
        random: &'w RandomSource,
        settings: EvalSettings,
        plan: Plan,
        options: RunOptions<'w>,
    ) -> Self {
        Self { workspace, engine, random, settings, plan, options }
    }

    pub(crate) fn workspace(&self) -> &'w Workspace {
        self.workspace
    }

    pub(crate) fn engine(&self) -> &'w Engine {
        self.engine
    }

    pub(crate) fn random(&self) -> &'w RandomSource {
        self.random
    }

    pub(crate) fn settings(&self) -> &EvalSettings {
        &self.settings
    }

    pub(crate) fn plan(&self) -> &Plan {
        &self.plan
    }

    pub(crate) fn step(&self, step: usize) -> &Step {
        &self.plan.steps[step]
    }

    pub(crate) fn options(&self) -> &RunOptions<'w> {
        &self.options
    }

    /// Whether requests are only prepared, or answered from the log.
    pub(crate) fn is_dry(&self) -> bool {
        self.options.dry_run || self.is_from_log()
    }

    /// Whether responses come from the log.
    pub(crate) fn is_from_log(&self) -> bool {
        self.options.logged_seeds.is_some()
    }

    /// The context in which expressions are evaluated, with random values from `random`.
    pub(crate) fn context<'a>(&'a self, values: &'a RunValues, random: &'a RandomSource) -> EvalContext<'a> {
        EvalContext {
            workspace: self.workspace,
            engine: self.engine,
            random,
            settings: &self.settings,
            tray: values.tray(),
            answers: values.answers(),
        }
    }
}
