//! Guarded environments: what changes something there is asked about first.

use crate::error::CommandError;
use crate::output::table::count;
use crate::project::Project;
use crate::prompt::Prompter;
use yieldtray_workspace::CellId;

/// Asks before requests change something in a guarded environment: `changing` are their cells and methods, `yes` is an
/// answer given already. Returns true if a person was asked and agreed.
pub(crate) fn guard(
    project: &Project,
    changing: &[(CellId, String)],
    yes: bool,
    prompter: &dyn Prompter,
) -> Result<bool, CommandError> {
    let chosen = project.settings.environment.as_deref().and_then(|name| project.workspace.config.environment(name));
    let Some(environment) = chosen.filter(|environment| environment.is_guarded()) else { return Ok(false) };
    if yes || changing.is_empty() {
        return Ok(false);
    }
    let mut methods: Vec<&str> = changing.iter().map(|(_, method)| method.as_str()).collect();
    methods.sort_unstable();
    methods.dedup();
    let destination = match changing {
        [(cell, _)] => project.target(*cell),
        _ => project.heading().base.unwrap_or_else(|| "several servers".to_owned()),
    };
    let what = format!("{} with {}", count(changing.len(), "request", "requests"), methods.join(", "));
    let name = &environment.name;
    if !prompter.is_there() {
        let message = format!("environment `{name}` is guarded, and {what} may modify data at {destination}");
        return Err(CommandError::refused_with(message, "pass `--yes` to send anyway; nothing was sent"));
    }
    let question = format!("Environment {name} is guarded. Send {what} to {destination}?");
    match prompter.confirm(&question, &format!("Send to {name}"), false)? {
        true => Ok(true),
        false => Err(CommandError::refused("cancelled; nothing was sent")),
    }
}
