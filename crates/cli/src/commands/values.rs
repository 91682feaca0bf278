//! `values`.

use crate::args::{Common, Values};
use crate::clock;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::table::Cell;
use crate::output::{Out, data};
use crate::project::{Project, places, random_for_showing, state};
use serde_json::json;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_http::MASK;
use yieldtray_source::escape::escape_line;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::scope::{EvalContext, Origin, OriginKind, ValueRow, ValueState, across, list_values};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// Shows what each name is now, where it comes from and what it hides.
pub(crate) fn values(
    common: &Common,
    args: &Values,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let places = places(common, &args.places)?;
    let mut project = Project::open_to_evaluate(common, host, out, &places)?;
    if args.functions {
        return functions(&project, out);
    }
    let cells = if places.is_empty() { project.find_all()? } else { project.find(&places)? };
    project.report_unreadable(out)?;
    let plan = Plan::new(&mut project.workspace, &cells, true);
    let tray = state::read(&project, out)?.tray;
    let chosen: std::collections::HashSet<CellId> = cells.iter().copied().collect();
    let scopes: Vec<(CellId, Vec<CellId>)> =
        plan.steps.into_iter().filter(|step| chosen.contains(&step.cell)).map(|step| (step.cell, step.needs)).collect();
    let Project { workspace, settings, .. } = &project;
    let random = random_for_showing(common.seed);
    let context = EvalContext::static_of(workspace, &project.engine, settings);
    let context = EvalContext { random: &random, tray: &tray, ..context };
    let mut masker = if project.reveal { Masker::revealing() } else { Masker::default() };
    let outside = context.outside();
    masker.learn(workspace.config.secrets(settings.environment.as_deref(), &outside));
    if args.across {
        return side_by_side(&project, context, &mut masker, out);
    }
    // Of one request, what it uses; of more, also what is given and not used.
    let rows = list_values(context, &scopes, scopes.len() != 1, &mut masker);
    if out.settings.json {
        let rows: Vec<serde_json::Value> = rows.iter().map(|row| data_row(workspace, row, &masker)).collect();
        writeln!(out.result(), "{}", json!({ "environment": settings.environment, "values": rows }))?;
        return Ok(project.unreadable_code());
    }
    out.print_header(&project.heading())?;
    let styles = out.settings.styles;
    let lines: Vec<Vec<Cell>> = rows
        .iter()
        .map(|row| {
            let name = escape_line(&row.name).into_owned();
            let (value, odd) = shown(&row.value, &masker);
            let value = escape_line(&value).into_owned();
            let painted = match odd {
                true => styles.warn(&value),
                false if matches!(row.value, ValueState::Known(_)) => value.clone(),
                false => styles.dim(&value),
            };
            let origin = row.origin.as_ref().map(|origin| describe(workspace, origin, &masker)).unwrap_or_default();
            let shadows: Vec<String> = row.shadows.iter().map(|origin| describe(workspace, origin, &masker)).collect();
            let shadows = if shadows.is_empty() { String::new() } else { format!("hides {}", shadows.join(", ")) };
            vec![
                Cell::new(name.clone()).painted(styles.name(&name)),
                Cell::new(value).painted(painted).shrinkable(),
                Cell::new(origin),
                Cell::new(shadows.clone()).painted(styles.dim(&shadows)).shrinkable(),
            ]
        })
        .collect();
    out.table(&lines)?;
    if rows.is_empty() && !out.settings.quiet {
        out.say("no values are used here")?;
    }
    Ok(project.unreadable_code())
}

/// A value as it is shown, and whether it is worth a second look.
fn shown(value: &ValueState, masker: &Masker) -> (String, bool) {
    match value {
        ValueState::Known(value) => (masker.mask(&value.show()).into_owned(), false),
        // An empty secret is shown as empty.
        ValueState::Secret(value) if masker.reveals() || value.as_text() == Some("") => (value.show(), false),
        ValueState::Secret(_) => (MASK.to_owned(), false),
        ValueState::MadeUp(expression) => (format!("made up by {}", masker.mask(expression)), false),
        ValueState::Asked(question) => (format!("asked: {}", masker.mask(question)), false),
        ValueState::NotRun(_) => ("not asked for".to_owned(), false),
        ValueState::None(problem) => {
            // The name of the value is in the first column.
            let reason = problem.missing.as_ref().and_then(|missing| missing.reason.as_deref());
            (format!("missing: {}", masker.mask(reason.unwrap_or(&problem.message))), true)
        }
    }
}

/// Where a value comes from, as a person would look it up.
fn describe(workspace: &Workspace, origin: &Origin, masker: &Masker) -> String {
    let place = origin.place.map(|(source, span)| workspace.shown_line(source, span.start()));
    let place = place.unwrap_or_default();
    // A command may have a secret among its words.
    let through =
        |from: &Option<String>| from.as_ref().map(|from| format!(" from {}", masker.mask(from))).unwrap_or_default();
    match &origin.kind {
        OriginKind::Set => "--set".to_owned(),
        OriginKind::Let | OriginKind::Ask => place,
        OriginKind::Tray(cell, at) => {
            let cell = cell.map(|cell| format!(" {}", workspace.cell(cell).name)).unwrap_or_default();
            let age = at.map(|at| format!(", {}", data::age(clock::now() - at))).unwrap_or_default();
            format!("tray{cell}{age}")
        }
        OriginKind::Environment(name, from) => format!("{place} {name}{}", through(from)),
        OriginKind::Everywhere(from) => format!("{place}{}", through(from)),
    }
}

fn data_row(workspace: &Workspace, row: &ValueRow, masker: &Masker) -> serde_json::Value {
    let mut data = json!({ "name": row.name });
    let (key, value) = match &row.value {
        ValueState::Known(value) => {
            let text = value.to_json().to_string();
            let masked = masker.mask(&text);
            ("value", serde_json::from_str(&masked).unwrap_or_else(|_| masked.into_owned().into()))
        }
        ValueState::Secret(value) if masker.reveals() || value.as_text() == Some("") => ("value", value.to_json()),
        ValueState::Secret(_) => ("secret", true.into()),
        ValueState::MadeUp(expression) => ("made_up", masker.mask(expression).into_owned().into()),
        ValueState::Asked(question) => ("asked", masker.mask(question).into_owned().into()),
        ValueState::NotRun(command) => ("not_run", masker.mask(command).into_owned().into()),
        ValueState::None(problem) => ("missing", masker.mask(&problem.message).into_owned().into()),
    };
    data[key] = value;
    if let Some(origin) = &row.origin {
        data["origin"] = origin_data(workspace, origin, masker);
    }
    if !row.shadows.is_empty() {
        data["hides"] = row.shadows.iter().map(|origin| origin_data(workspace, origin, masker)).collect();
    }
    data
}

fn origin_data(workspace: &Workspace, origin: &Origin, masker: &Masker) -> serde_json::Value {
    let kind = match &origin.kind {
        OriginKind::Set => "set",
        OriginKind::Let => "let",
        OriginKind::Ask => "ask",
        OriginKind::Tray(..) => "tray",
        OriginKind::Environment(..) => "environment",
        OriginKind::Everywhere(_) => "values",
    };
    let mut data = json!({ "kind": kind });
    if let OriginKind::Environment(name, _) = &origin.kind {
        data["environment"] = name.as_str().into();
    }
    if let OriginKind::Environment(_, Some(from)) | OriginKind::Everywhere(Some(from)) = &origin.kind {
        data["from"] = masker.mask(from).into();
    }
    if let OriginKind::Tray(cell, at) = origin.kind {
        data["cell"] = cell.map(|cell| workspace.cell(cell).name.to_string()).into();
        data["kept_at"] = at.into();
    }
    if let Some((source, span)) = origin.place {
        data["file"] = workspace.shown_path(source).into();
        data["line"] = workspace.source(source).place(span.start()).line.into();
    }
    data
}

/// The names of the configuration, one column an environment.
fn side_by_side(
    project: &Project,
    context: EvalContext<'_>,
    masker: &mut Masker,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let rows = across(context, masker);
    let environments: Vec<&str> =
        project.workspace.config.environments.iter().map(|environment| environment.name.as_str()).collect();
    let text = |value: &Option<ValueState>| value.as_ref().map(|value| shown(value, masker).0);
    if out.settings.json {
        let rows: Vec<serde_json::Value> = rows
            .iter()
            .map(|row| {
                let values =
                    environments.iter().zip(&row.values).map(|(name, value)| ((*name).to_owned(), text(value).into()));
                json!({ "name": row.name, "equal": row.equal, "values": values.collect::<serde_json::Map<_, _>>() })
            })
            .collect();
        writeln!(out.result(), "{}", json!({ "environments": environments, "values": rows }))?;
        return Ok(ExitCode::Success);
    }
    out.print_header(&project.heading())?;
    let styles = out.settings.styles;
    let config = &project.workspace.config;
    let head = config
        .environments
        .iter()
        .map(|own| Cell::new(own.name.as_str()).painted(styles.environment(&own.name, own.tint)).shrinkable());
    let mut lines = vec![[Cell::new("")].into_iter().chain(head).collect::<Vec<_>>()];
    for row in &rows {
        let name = escape_line(&row.name).into_owned();
        let mut line = vec![Cell::new(name.clone()).painted(styles.name(&name))];
        for value in &row.values {
            let cell = match text(value) {
                None => Cell::new("missing").painted(styles.warn("missing")),
                Some(text) if row.equal => {
                    let text = format!("= {}", escape_line(&text));
                    Cell::new(text.clone()).painted(styles.dim(&text))
                }
                Some(text) => Cell::new(escape_line(&text)),
            };
            line.push(cell.shrinkable());
        }
        lines.push(line);
    }
    out.table(&lines)?;
    Ok(ExitCode::Success)
}

/// The workspace's own functions, then those of the language.
fn functions(project: &Project, out: &mut Out) -> Result<ExitCode, CommandError> {
    let workspace = &project.workspace;
    let own: Vec<(String, String, String)> = workspace
        .config
        .functions
        .iter()
        .map(|function| {
            let place = workspace.shown_line(function.source, function.span.start());
            (function.call(), function.help.clone().unwrap_or_else(|| function.is.clone()), place)
        })
        .collect();
    let built_in = yieldtray_expression::functions()
        .map(|function| (function.call, function.help.to_owned(), function.example.to_owned()));
    if out.settings.json {
        let row = |(call, help, place): &(String, String, String), key: &str| json!({ "call": call, "help": help, key: place });
        let document = json!({
            "own": own.iter().map(|it| row(it, "place")).collect::<Vec<_>>(),
            "language": built_in.map(|it| row(&it, "example")).collect::<Vec<_>>(),
        });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    out.print_header(&project.heading())?;
    let styles = out.settings.styles;
    let lines: Vec<Vec<Cell>> = own
        .into_iter()
        .chain(built_in)
        .map(|(call, help, place)| {
            vec![
                Cell::new(call.clone()).painted(styles.name(&call)),
                Cell::new(escape_line(&help)).shrinkable(),
                Cell::new(place.clone()).painted(styles.dim(&place)).shrinkable(),
            ]
        })
        .collect();
    out.table(&lines)?;
    Ok(ExitCode::Success)
}
