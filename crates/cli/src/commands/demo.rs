//! `demo`.

use super::init::write_files;
use super::replay::replay;
use crate::args::{Common, Demo, Replay, SelectionArgs};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::interrupt::Interrupts;
use crate::output::Out;
use crate::project::gitignore::ensure_gitignore;
use anyhow::Context;
use std::io::Write;
use std::path::{Path, PathBuf};
use yieldtray_engine::ExitCode;
use yieldtray_packhouse::{Packhouse, Server};
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};

/// The demo workspace, complete except for the URLs.
const FILES: &[(&str, &str)] = &[
    ("requests/_common.http", include_str!("../../demo/requests/_common.http")),
    ("requests/delivery/lot.json", include_str!("../../demo/requests/delivery/lot.json")),
    ("requests/delivery/lot.schema.json", include_str!("../../demo/requests/delivery/lot.schema.json")),
    ("requests/delivery/morning.csv", include_str!("../../demo/requests/delivery/morning.csv")),
    ("requests/delivery/lot.svg", include_str!("../../demo/requests/delivery/lot.svg")),
    ("requests/gate.http", include_str!("../../demo/requests/gate.http")),
    ("openapi.json", yieldtray_packhouse::OPENAPI),
    ("requests/graph.http", include_str!("../../demo/requests/graph.http")),
    ("requests/graph/lots.graphql", include_str!("../../demo/requests/graph/lots.graphql")),
    ("requests/intake.http", include_str!("../../demo/requests/intake.http")),
    ("requests/morning.http", include_str!("../../demo/requests/morning.http")),
    ("requests/office.http", include_str!("../../demo/requests/office.http")),
    ("requests/orchard.http", include_str!("../../demo/requests/orchard.http")),
    ("requests/scale.http", include_str!("../../demo/requests/scale.http")),
    ("requests/documents.http", include_str!("../../demo/requests/documents.http")),
    ("requests/errors.http", include_str!("../../demo/requests/errors.http")),
];
const CONFIG: &str = include_str!("../../demo/yieldtray.toml");
const PRIVATE: &str = include_str!("../../demo/yieldtray.local.toml");

/// The truck that is at the gate in the demo.
const TRUCK: &str = "PH north 12";

/// Starts the packhouse, creates a workspace for it and replays that.
pub(crate) fn demo(common: &Common, args: &Demo, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let Demo { keep, serve } = args;
    let local = Packhouse::start(Server::Local).context("cannot start the sample API")?;
    let production = Packhouse::start(Server::Production).context("cannot start the sample API")?;
    // Gone with the demo, unless the user named a folder.
    let temporary;
    let folder: PathBuf = match keep {
        Some(folder) => {
            let folder = common.directory.as_deref().unwrap_or(Path::new(".")).join(folder);
            refuse_full(&folder)?;
            folder
        }
        None => {
            temporary =
                tempfile::Builder::new().prefix("yieldtray-demo-").tempdir().context("cannot create a directory")?;
            temporary.path().to_owned()
        }
    };
    let config =
        CONFIG.replace("http://local.invalid", &local.base()).replace("http://production.invalid", &production.base());
    write_files(&folder, &[(CONFIG_FILE, config.as_str()), (LOCAL_FILE, PRIVATE)])?;
    write_files(&folder, FILES)?;
    ensure_gitignore(&folder)?;
    // The one question of the workspace is answered here: the demo runs by itself.
    let set = [format!("truck={TRUCK}")].into_iter().chain(common.set.iter().cloned()).collect();
    let common = Common { directory: Some(folder.clone()), set, ..common.clone() };
    let all = Replay {
        choice: SelectionArgs::default(),
        shard: None,
        times: 1,
        jobs: 1,
        watch: false,
        fail_fast: false,
        report: Vec::new(),
        yes: false,
        save_yields: false,
        from_log: false,
        // The log of a temporary workspace is of no use.
        no_log: keep.is_none(),
    };
    let code = replay(&common, &all, host, out)?;
    if !out.settings.json && !out.settings.quiet {
        what_next(out, keep.as_deref(), *serve, &folder, &local)?;
    }
    out.flush()?;
    if *serve {
        wait_for_interrupt()?;
    }
    Ok(code)
}

fn refuse_full(folder: &Path) -> Result<(), CommandError> {
    let full = match std::fs::read_dir(folder) {
        Ok(mut entries) => entries.next().is_some(),
        Err(_) => folder.exists(),
    };
    if full {
        let message = format!("`{}` already exists and is not empty", folder.display());
        return Err(CommandError::refused_with(message, "choose an empty or new directory; nothing was written"));
    }
    Ok(())
}

fn what_next(
    out: &mut Out,
    keep: Option<&Path>,
    serve: bool,
    folder: &Path,
    local: &Packhouse,
) -> Result<(), CommandError> {
    let styles = out.settings.styles;
    let shown = keep.map_or_else(|| folder.display().to_string(), |keep| keep.display().to_string());
    let mut lines = Vec::new();
    if serve {
        lines.push(format!("The sample API listens on {} until you press Ctrl-C. In another terminal:", local.base()));
        lines.push(format!("  yieldtray list -C {shown}"));
        lines.push(format!("  yieldtray send -C {shown} list-growers"));
        lines.push(format!("  yieldtray send -C {shown} book-lot"));
        lines.push(format!("  yieldtray values -C {shown} book-lot"));
        lines.push(format!("  yieldtray replay -C {shown} -e production"));
    } else if keep.is_some() {
        lines.push(format!("The workspace is in {shown}. Add `--serve` to keep its API running."));
    } else {
        lines.push("To keep the workspace and the API: yieldtray demo --keep packhouse --serve".to_owned());
    }
    writeln!(out.result())?;
    for line in lines {
        writeln!(out.result(), "{}", styles.dim(&line))?;
    }
    Ok(())
}

fn wait_for_interrupt() -> Result<(), CommandError> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().context("cannot wait")?;
    runtime.block_on(async {
        Interrupts::watch().context("cannot wait for Ctrl-C")?.next().await;
        Ok(())
    })
}
