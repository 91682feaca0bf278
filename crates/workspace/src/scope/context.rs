//! The context of evaluation: workspace, settings of the run, captured values and answers.

use super::Tray;
use crate::Workspace;
use crate::config::{ExternalSources, Variables};
use rustc_hash::FxHashMap;
use std::sync::LazyLock;
use yieldtray_expression::{Engine, RandomSource, Value};

/// The caller's choices, for a whole run.
#[derive(Clone, Default)]
pub struct EvalSettings {
    /// The chosen environment.
    pub environment: Option<String>,
    /// `--set NAME=VALUE` and `--set-from NAME=FILE`, in order; the last of a name wins.
    pub set: Vec<(String, Value)>,
    /// The names among them whose values are secret, since they came from a file.
    pub set_secrets: Vec<String>,
    /// The environment variables, which `env.NAME` reads.
    pub variables: Variables,
    /// Whether somebody can be asked for the values of `% ask`.
    pub can_ask: bool,
    /// Origins that every secret may be sent to in this process (`--secrets-to`).
    pub secrets_to: Vec<String>,
}

impl std::fmt::Debug for EvalSettings {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The values may be secrets.
        let set: Vec<&str> = self.set.iter().map(|(name, _)| name.as_str()).collect();
        let environment = &self.environment;
        f.debug_struct("Settings").field("environment", environment).field("set", &set).finish_non_exhaustive()
    }
}

impl EvalSettings {
    /// Whether the value of a name is a secret that was given with it.
    pub fn is_set_secret(&self, name: &str) -> bool {
        self.set_secrets.iter().any(|own| own == name)
    }

    /// The value that `--set` gives to a name.
    pub fn set_value(&self, name: &str) -> Option<&Value> {
        self.set.iter().rev().find(|(set, _)| set == name).map(|(_, value)| value)
    }
}

/// Answers to the questions of `% ask`: one for each name and question, for the whole run.
#[derive(Clone, Default)]
pub struct PromptAnswers(FxHashMap<(Box<str>, Box<str>), (Value, bool)>);

impl PromptAnswers {
    /// Stores an answer, and whether it is secret.
    pub fn give(&mut self, name: &str, question: &str, value: Value, secret: bool) {
        self.0.insert((name.into(), question.into()), (value, secret));
    }

    /// The answer to a question.
    pub fn get(&self, name: &str, question: &str) -> Option<&Value> {
        self.find(name, question).map(|(value, _)| value)
    }

    pub(super) fn find(&self, name: &str, question: &str) -> Option<&(Value, bool)> {
        if self.0.is_empty() { None } else { self.0.get(&(name.into(), question.into())) }
    }
}

/// Where values are looked for: the same for all cells of a run at one moment.
#[derive(Clone, Copy)]
pub struct EvalContext<'a> {
    /// The files and the configuration.
    pub workspace: &'a Workspace,
    /// Compiles and evaluates expressions.
    pub engine: &'a Engine,
    /// Where random values and the time come from.
    pub random: &'a RandomSource,
    /// The caller's choices.
    pub settings: &'a EvalSettings,
    /// The captured values.
    pub tray: &'a Tray,
    /// The answers to prompts.
    pub answers: &'a PromptAnswers,
}

impl<'a> EvalContext<'a> {
    /// The context of a workspace in which nothing was sent, asked or drawn yet.
    pub fn static_of(workspace: &'a Workspace, engine: &'a Engine, settings: &'a EvalSettings) -> Self {
        static NOTHING: LazyLock<(Tray, PromptAnswers, RandomSource)> =
            LazyLock::new(|| (Tray::default(), PromptAnswers::default(), RandomSource::fixed()));
        let (tray, answers, random) = &*NOTHING;
        Self { workspace, engine, random, settings, tray, answers }
    }

    /// Where values come from beside the texts.
    pub fn outside(&self) -> ExternalSources<'a> {
        self.workspace.outside(&self.settings.variables)
    }
}
