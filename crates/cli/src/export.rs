//! Requests on their way to others, as code or in a format: for the command and for the editor.

use crate::error::CommandError;
use crate::output::Out;
use crate::project::{Project, state};
use chrono::{DateTime, FixedOffset, Utc};
use std::cell::RefCell;
use std::time::SystemTime;
use yieldtray_engine::{Event, Next, Run, RunOptions};
use yieldtray_expression::{RandomSource, Value};
use yieldtray_http::PreparedRequest;
use yieldtray_interchange::snippet::{
    ExportedRequest, NamedValue, NamedValueKind, ParameterizedRequest, ResponseValue, Source, TARGETS, Target, outline,
    target, write,
};
use yieldtray_source::{Problem, closest, join_words};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::plan::{Plan, Step};
use yieldtray_workspace::scope::{
    EvalContext, EvalSettings, Origin, OriginKind, Tray, ValueState, list_values, yields,
};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, uses_oauth2};

/// The value in place of an OAuth 2.0 profile's token.
const TOKEN: &str = "access_token";

/// The target of that name.
/// The names of the targets, each with a line about it.
pub(crate) fn target_names() -> impl Iterator<Item = (&'static str, &'static str)> {
    TARGETS.iter().map(|target| (target.name, target.about))
}

/// The target of that name.
pub(crate) fn named(name: &str) -> Result<&'static Target, CommandError> {
    target(name).ok_or_else(|| {
        let names = || TARGETS.iter().map(|target| target.name);
        let hint = match closest(name, names()) {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => format!("available: {}", join_words(names())),
        };
        CommandError::refused_with(format!("unknown export target `{name}`"), hint)
    })
}

/// An exported text.
pub(crate) struct Snippet {
    pub(crate) text: String,
    /// Parts that could not be exported exactly.
    pub(crate) notes: Vec<String>,
    /// The names it reads from the environment.
    pub(crate) reads: Vec<String>,
    /// True if it reads files, whose paths are relative to the workspace's root.
    pub(crate) files: bool,
}

/// How cells are handed over.
#[derive(Clone, Copy)]
pub(crate) struct ExportOptions {
    pub(crate) target: &'static Target,
    /// True if it contains values instead of variables.
    pub(crate) with_values: bool,
    /// Whether what they need goes before them.
    pub(crate) whole: bool,
}

/// Writes cells.
pub(crate) fn export_cells(
    project: &mut Project,
    cells: &[CellId],
    options: ExportOptions,
    out: &mut Out,
) -> Result<Snippet, CommandError> {
    let ExportOptions { target, with_values, whole: several } = options;
    let plan = Plan::new(&mut project.workspace, cells, several);
    // All needs are read, so that what they yielded is found.
    Plan::new(&mut project.workspace, cells, true);
    let tray = state::read(project, out)?.tray;
    let time = DateTime::<Utc>::from(SystemTime::now()).fixed_offset();
    let seed = project.random.seed();
    let mut work = Exporter { project, time, seed, tray, with_values, masker: Masker::default() };
    if project.reveal {
        work.masker = Masker::revealing();
    }
    let mut notes: Vec<String> = Vec::new();
    let (mut outlines, mut given): (Vec<(Step, ParameterizedRequest)>, Vec<String>) = (Vec::new(), Vec::new());
    for step in plan.steps {
        if project.workspace.cell(step.cell).plays() {
            continue;
        }
        let name = &project.workspace.cell(step.cell).name;
        let mut outline = match work.outline(&step, &given) {
            Ok(outline) => outline,
            // Nothing is wrong, and nothing would be sent: it is skipped.
            Err(problems) if !problems.iter().any(Problem::is_error) && several => {
                notes.push(format!("`{name}` is omitted: it would be skipped now"));
                continue;
            }
            Err(problems) if !problems.iter().any(Problem::is_error) => {
                return Err(CommandError::refused(format!("`{name}` would be skipped now")));
            }
            Err(problems) => return Err(out.stop_with(&project.workspace, &problems)),
        };
        notes.extend(unsupported(project, step.cell));
        if target.holds_files() {
            let failed = RefCell::new(None);
            outline.inline_files(|path| {
                let bytes = std::fs::read(project.root.join(path));
                bytes.unwrap_or_else(|error| {
                    failed.replace(Some(format!("cannot read `{path}`: {error}")));
                    Vec::new()
                })
            });
            if let Some(why) = failed.into_inner() {
                return Err(CommandError::refused(why));
            }
        }
        if several {
            given.extend(yields(&project.workspace, step.cell).map(str::to_owned));
        }
        outlines.push((step, outline));
    }
    notes.extend(outlines.iter().flat_map(|(_, outline)| outline.notes.clone()));
    notes.dedup();
    let exported: Vec<ExportedRequest<'_>> = outlines
        .iter()
        .map(|(step, outline)| ExportedRequest {
            name: &project.workspace.cell(step.cell).name,
            title: project.workspace.title(step.cell),
            outline,
            yields: if several { yields_of(project, step.cell, &outlines) } else { Vec::new() },
        })
        .collect();
    let text = write(target, &exported).map_err(CommandError::refused)?;
    let mut reads: Vec<String> = outlines.iter().flat_map(|(_, outline)| outline.reads()).collect();
    reads.sort_unstable();
    reads.dedup();
    let files = outlines.iter().any(|(_, outline)| outline.has_files());
    Ok(Snippet { text, notes, reads, files })
}

/// Lines of a cell that nothing here can say.
fn unsupported(project: &Project, cell: CellId) -> Vec<String> {
    let own = project.workspace.cell(cell);
    let reasons = own.instructions().filter_map(|line| match line.kind {
        InstructionKind::Each(_) => Some("only the first row of `% each` is exported"),
        InstructionKind::Wait { .. } => Some("`% wait until` is omitted: it is sent once"),
        InstructionKind::Skip { .. } => Some("`% skip when` is omitted: it is exported as it would be sent now"),
        InstructionKind::Save(_) => Some("`% save` is omitted"),
        _ => None,
    });
    reasons.map(|reasons| format!("`{}`: {reasons}", own.name)).collect()
}

/// Values that later requests take from a response.
fn yields_of(project: &Project, cell: CellId, outlines: &[(Step, ParameterizedRequest)]) -> Vec<ResponseValue> {
    let text = &project.workspace.source(cell.source).text;
    let used = |name: &str| outlines.iter().any(|(_, outline)| outline.takes(name));
    project
        .workspace
        .cell(cell)
        .instructions()
        .filter_map(|line| match line.kind {
            InstructionKind::Yield { name, expression, .. } => Some((name.of(text), expression.of(text))),
            _ => None,
        })
        .filter(|(name, _)| used(name))
        .map(|(name, expression)| ResponseValue {
            name: name.to_owned(),
            expression: expression.to_owned(),
            source: Source::of(expression),
        })
        .collect()
}

struct Exporter<'s> {
    project: &'s Project,
    /// Generated values are the same each time a request is prepared.
    time: DateTime<FixedOffset>,
    seed: u64,
    tray: Tray,
    with_values: bool,
    masker: Masker,
}

impl Exporter<'_> {
    /// One request with its variables. `given` are the values from earlier responses.
    fn outline(&mut self, step: &Step, given: &[String]) -> Result<ParameterizedRequest, Vec<Problem>> {
        let Project { workspace, settings, reveal, .. } = self.project;
        let random = self.random();
        let context = EvalContext::static_of(workspace, &self.project.engine, settings);
        let context = EvalContext { random: &random, tray: &self.tray, ..context };
        self.masker.learn(workspace.config.secrets(settings.environment.as_deref(), &context.outside()));
        let rows = list_values(context, &[(step.cell, step.needs.clone())], false, &mut self.masker);
        // Values from responses win over all others but the cell's own and `--set`.
        let own = workspace.cell(step.cell).span;
        let holds = |origin: &Origin| match (&origin.kind, origin.place) {
            (OriginKind::Set | OriginKind::Ask, _) => true,
            (OriginKind::Let, Some((source, span))) => source == step.cell.source && own.contains(span),
            _ => false,
        };
        let mut names: Vec<NamedValue> = rows
            .into_iter()
            .filter_map(|row| {
                let kind = match row.value {
                    _ if given.contains(&row.name) && !row.origin.as_ref().is_some_and(holds) => NamedValueKind::Answer,
                    ValueState::Secret(value) if !reveal => NamedValueKind::Secret(value.to_text().ok()?.into_owned()),
                    ValueState::Known(value) if !self.with_values => NamedValueKind::Value(value),
                    ValueState::Secret(_) | ValueState::Known(_) | ValueState::MadeUp(_) => return None,
                    ValueState::Asked(_) | ValueState::NotRun(_) | ValueState::None(_) => NamedValueKind::Open,
                };
                Some(NamedValue { name: row.name, kind })
            })
            .collect();
        // Arguments of a sequence may come from responses that the cell itself does not name.
        if step.played.is_some() {
            let others = given.iter().filter(|given| !names.iter().any(|own| own.name == **given));
            let others: Vec<NamedValue> =
                others.map(|name| NamedValue { name: name.clone(), kind: NamedValueKind::Answer }).collect();
            names.extend(others);
        }
        let token = uses_oauth2(workspace, step.cell);
        if token {
            names.push(NamedValue { name: TOKEN.to_owned(), kind: NamedValueKind::Open });
        }
        outline(&names, &self.masker, |set| self.prepare(step, set, token))
    }

    /// The same random values and time for each request that is made.
    fn random(&self) -> RandomSource {
        let time = self.time;
        RandomSource::new(self.seed, Box::new(move || time))
    }

    /// The request with some of its values set to others.
    fn prepare(&self, step: &Step, set: &[(String, Value)], token: bool) -> Result<PreparedRequest, Vec<Problem>> {
        let workspace = &self.project.workspace;
        let mut settings: EvalSettings = self.project.settings.clone();
        settings.set.extend(set.iter().filter(|(name, _)| name != TOKEN).cloned());
        let plan = Plan { steps: vec![step.clone()] };
        let random = self.random();
        let token = set.iter().find(|(name, _)| token && name == TOKEN).map(|(_, value)| value);
        let options = RunOptions {
            fail_fast: true,
            first_row_only: true,
            dry_run: true,
            headers: token.map(|value| {
                let line = format!("Bearer {}", value.as_text().unwrap_or_default());
                (step.cell, vec![("Authorization".to_owned(), line)])
            }),
            tray: self.tray.clone(),
            ..RunOptions::default()
        };
        let mut run = Run::new(workspace, &self.project.engine, &random, settings, plan, options);
        if let Some(Next::Send(ready)) = run.next() {
            return Ok(PreparedRequest::clone(&ready.prepared));
        }
        let problems = run.events().filter_map(|event| match event {
            Event::CellFinished(report) => Some(report.problems),
            _ => None,
        });
        Err(problems.flatten().collect())
    }
}
