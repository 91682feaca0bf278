//! `env`.

use crate::args::{Common, Env};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::table::Cell;
use crate::output::{Out, table};
use crate::project::{Project, state};
use crate::settings::ChosenBy;
use anyhow::Context;
use serde_json::json;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_source::Span;
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_store::StateFolder;
use yieldtray_workspace::config::{
    Config, EditError, Environment, ExternalSources, ValueEntry, add_environment_like, unknown_environment,
};

/// Shows the environments; with a name, chooses one for this checkout, or writes a new one first.
pub(crate) fn env(common: &Common, args: &Env, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let project = Project::open_any(common, host, out, &[])?;
    match (&args.name, &args.copy_from) {
        (None, _) => show(&project, out),
        (Some(name), like) => {
            let mut lines = Vec::new();
            if let Some(like) = like {
                lines.extend(add(&project, name, like)?);
            } else if project.workspace.config.environment(name).is_none() {
                return Err(unknown_environment(name, Span::default(), &project.workspace.config).into());
            }
            StateFolder::open_or_make(&project.root, state::key_file().as_deref())?.choose_environment(name)?;
            lines.push(format!("environment `{name}` is now the default for this working copy"));
            if let Some(by @ (ChosenBy::Option | ChosenBy::Variable)) = project.chosen_by {
                lines.push(format!("{} overrides this at the moment", by.describe()));
            }
            if out.settings.json {
                writeln!(out.result(), "{}", json!({ "environment": name }))?;
            } else if !out.settings.quiet {
                for line in lines {
                    writeln!(out.result(), "{line}")?;
                }
            }
            Ok(ExitCode::Success)
        }
    }
}

/// Writes a new environment into the configurations that describe the one it is to be like.
fn add(project: &Project, name: &str, like: &str) -> Result<Vec<String>, CommandError> {
    let config = &project.workspace.config;
    let valid = |c: char| c.is_alphanumeric() || matches!(c, '-' | '_');
    if name.is_empty() || !name.chars().all(valid) {
        return Err(CommandError::refused_with(
            format!("`{name}` is not a valid environment name"),
            "use letters, digits, `-` and `_`",
        ));
    }
    if config.environment(name).is_some() {
        let hint = format!("omit `--copy-from` to select it: `yieldtray env {name}`");
        return Err(CommandError::refused_with(format!("environment `{name}` already exists"), hint));
    }
    if config.environment(like).is_none() {
        return Err(unknown_environment(like, Span::default(), config).into());
    }
    let mut lines = Vec::new();
    let _lock = files::lock(&project.root).context("cannot change the configuration")?;
    for file in [CONFIG_FILE, LOCAL_FILE] {
        let path = project.root.join(file);
        let Ok(text) = std::fs::read_to_string(&path) else { continue };
        match add_environment_like(&text, name, like) {
            Ok(changed) => {
                let replace = if file == LOCAL_FILE { files::replace_private } else { files::replace };
                replace(&path, changed.as_bytes()).with_context(|| format!("cannot write `{file}`"))?;
                lines.push(format!(
                    "added environment `{name}` to `{file}` with the variables of `{like}`: fill in their values"
                ));
            }
            // It is described in one of the two.
            Err(EditError::NoSuch) => {}
            Err(EditError::Exists) => lines.push(format!("`{file}` already contains `{name}`")),
            Err(EditError::NotToml(why)) => {
                return Err(CommandError::refused(format!("`{file}` is not valid TOML: {why}")));
            }
        }
    }
    Ok(lines)
}

/// How far an environment's values are filled in.
struct EnvironmentSummary {
    values: usize,
    /// Names that another environment has and this one has not.
    missing: Vec<String>,
    /// Names with nothing in them yet.
    empty: usize,
}

fn filled(config: &Config, environment: &Environment, outside: &ExternalSources<'_>) -> EnvironmentSummary {
    let mut names: Vec<&str> = environment.values.iter().map(|entry| entry.name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    let all = config.environments.iter().flat_map(|other| &other.values);
    let has = |name: &str| config.entry(Some(&environment.name), name).is_some();
    let mut missing: Vec<String> = all.filter(|entry| !has(&entry.name)).map(|entry| entry.name.clone()).collect();
    missing.sort_unstable();
    missing.dedup();
    let is_empty = |entry: &&ValueEntry| {
        !entry.source_kind.asks_a_program() && entry.value(outside).is_ok_and(|value| value.as_text() == Some(""))
    };
    let first = |name: &&str| environment.values.iter().find(|entry| entry.name == **name);
    let empty = names.iter().filter_map(first).filter(is_empty).count();
    EnvironmentSummary { values: names.len(), missing, empty }
}

fn show(project: &Project, out: &mut Out) -> Result<ExitCode, CommandError> {
    let config = &project.workspace.config;
    let outside = project.workspace.outside(&project.settings.variables);
    let chosen = project.settings.environment.as_deref();
    let why = project.chosen_by.map(|by| match (by, &config.environment) {
        (ChosenBy::Configuration, Some((_, source, span))) => project.workspace.shown_line(*source, span.start()),
        _ => by.describe().to_owned(),
    });
    if out.settings.json {
        let rows: Vec<serde_json::Value> = config
            .environments
            .iter()
            .map(|environment| {
                let filled = filled(config, environment, &outside);
                json!({
                    "name": environment.name,
                    "chosen": Some(environment.name.as_str()) == chosen,
                    "guard": environment.is_guarded(),
                    "tint": environment.tint.map(|tint| tint.as_str()),
                    "values": filled.values,
                    "missing": filled.missing,
                    "empty": filled.empty,
                })
            })
            .collect();
        writeln!(out.result(), "{}", json!({ "chosen": chosen, "by": why, "environments": rows }))?;
    } else {
        out.print_header(&project.heading())?;
        let styles = out.settings.styles;
        let rows: Vec<Vec<Cell>> = config
            .environments
            .iter()
            .map(|environment| {
                let name = &environment.name;
                let filled = filled(config, environment, &outside);
                let mut state = vec![table::count(filled.values, "value", "values")];
                if filled.empty > 0 {
                    state.push(format!("{} empty", filled.empty));
                }
                if !filled.missing.is_empty() {
                    state.push(format!("{} missing: {}", filled.missing.len(), filled.missing.join(", ")));
                }
                let state = state.join(", ");
                let shown = if filled.missing.is_empty() { state.clone() } else { styles.warn(&state) };
                let by = match &why {
                    Some(why) if Some(name.as_str()) == chosen => format!("selected by {why}"),
                    _ => String::new(),
                };
                vec![
                    Cell::new(format!("  {name}")).painted(format!("  {}", styles.environment(name, environment.tint))),
                    Cell::new(if environment.is_guarded() { "guarded" } else { "" }),
                    Cell::new(environment.tint.map_or("", |tint| tint.as_str())),
                    Cell::new(by),
                    Cell::new(state).painted(shown).shrinkable(),
                ]
            })
            .collect();
        out.table(&rows)?;
        if config.environments.is_empty() {
            out.say(&format!(
                "no environments; define one in `{CONFIG_FILE}`, for example `[environments.local.values]`"
            ))?;
        }
    }
    project.check_choice()?;
    Ok(ExitCode::Success)
}
