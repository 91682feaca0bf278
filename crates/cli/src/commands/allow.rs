//! `yieldtray allow`: lets a workspace reach outside its directory.

use crate::args::{Allow, Common};
use crate::error::CommandError;
use crate::files::root_of;
use crate::output::Out;
use crate::output::table::Cell;
use crate::project::configuration::read_configuration;
use crate::project::trust::{Allowance, Allowed, digest_of, outside_lines};
use crate::project::{here, state, trust};
use anyhow::Context;
use serde_json::json;
use std::io::Write;
use std::path::{Path, PathBuf};
use yieldtray_engine::ExitCode;
use yieldtray_source::escape::escape_line;
use yieldtray_store::StateFolder;

/// Allows a workspace, forgets that, or lists what is allowed.
pub(crate) fn allow(common: &Common, args: &Allow, out: &mut Out) -> Result<ExitCode, CommandError> {
    if args.list {
        return list(out);
    }
    let folder = here(common)?.join(args.folder.as_deref().unwrap_or(Path::new(".")));
    if args.revoke {
        return revoke(&folder, out);
    }
    let folder = folder.canonicalize().with_context(|| format!("cannot open `{}`", folder.display()))?;
    let root = root_of(&folder);
    let workspace = read_configuration(&root)?;
    let problems: Vec<_> = workspace.config_problems().cloned().collect();
    if problems.iter().any(yieldtray_source::Problem::is_error) {
        return Err(out.stop_with(&workspace, &problems));
    }
    let adopted = args.state && StateFolder::adopt(&root, state::key_file().as_deref())?;
    trust::remember(&root, &workspace)?;
    let lines = outside_lines(&workspace);
    let styles = out.settings.styles;
    let digest = digest_of(&workspace);
    if out.settings.json {
        let settings: Vec<_> = lines.iter().map(|(place, what)| json!({ "at": place, "what": what })).collect();
        let document = json!({ "root": root, "digest": digest, "settings": settings, "state": adopted });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    if out.settings.quiet {
        return Ok(ExitCode::Success);
    }
    writeln!(out.result(), "allowed {}", escape_line(&root.display().to_string()))?;
    for (place, what) in &lines {
        writeln!(out.result(), "  {}  {}", styles.dim(place), escape_line(what))?;
    }
    let more = match lines.is_empty() {
        true => "  nothing in it accesses anything outside its directory; git commands may be run",
        false => "  changes to the local configuration or to one of these lines must be allowed again",
    };
    writeln!(out.result(), "{}", styles.dim(more))?;
    if adopted {
        writeln!(out.result(), "  the state in `.yieldtray` now belongs to this workspace")?;
    }
    Ok(ExitCode::Success)
}

/// Forgets an allowance. The workspace itself may be gone.
fn revoke(folder: &Path, out: &mut Out) -> Result<ExitCode, CommandError> {
    let root: PathBuf = match folder.canonicalize() {
        Ok(folder) => root_of(&folder),
        Err(_) => folder.to_owned(),
    };
    let there = Allowed::expected()?.remove(&root)?;
    if out.settings.json {
        writeln!(out.result(), "{}", json!({ "root": root, "revoked": there }))?;
    } else if !out.settings.quiet {
        let shown = escape_line(&root.display().to_string()).into_owned();
        let message = if there { format!("{shown} is no longer allowed") } else { format!("{shown} was not allowed") };
        writeln!(out.result(), "{message}")?;
    }
    Ok(ExitCode::Success)
}

fn list(out: &mut Out) -> Result<ExitCode, CommandError> {
    let all = Allowed::expected()?.all();
    if out.settings.json {
        let rows: Vec<_> =
            all.iter().map(|own| json!({ "root": own.root, "digest": own.digest, "state": state_of(own) })).collect();
        writeln!(out.result(), "{}", json!({ "allowed": rows }))?;
        return Ok(ExitCode::Success);
    }
    let styles = out.settings.styles;
    let rows: Vec<Vec<Cell>> = all
        .iter()
        .map(|own| {
            let state = state_of(own);
            let shown = if state == "unchanged" { styles.dim(state) } else { styles.warn(state) };
            vec![
                Cell::new(escape_line(&own.root.display().to_string()).into_owned()).shrinkable(),
                Cell::new(state).painted(shown),
                Cell::new(own.digest.clone()).painted(styles.dim(&own.digest)).shrinkable(),
            ]
        })
        .collect();
    out.table(&rows)?;
    if rows.is_empty() && !out.settings.quiet {
        out.say("no workspace is allowed; run `yieldtray allow` in one")?;
    }
    Ok(ExitCode::Success)
}

/// Whether what was allowed is still what is there.
fn state_of(allowance: &Allowance) -> &'static str {
    match read_configuration(&allowance.root) {
        Err(_) => "not found",
        Ok(workspace) if digest_of(&workspace) == allowance.digest => "unchanged",
        Ok(_) => "changed since then",
    }
}
