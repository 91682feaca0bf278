//! `init`.

use crate::args::{Common, Init};
use crate::error::CommandError;
use crate::files;
use crate::output::Out;
use crate::project::gitignore::ensure_gitignore;
use anyhow::Context;
use std::io::Write;
use std::path::Path;
use yieldtray_engine::ExitCode;
use yieldtray_source::access::CONFIG_FILE;

const CONFIG: &str = include_str!("../../demo/init.toml");
const REQUESTS: &str = include_str!("../../demo/init.http");
const REQUEST_FILE: &str = "requests/first.http";

/// Lays a small workspace; nothing that is there is overwritten.
pub(crate) fn init(common: &Common, args: &Init, out: &mut Out) -> Result<ExitCode, CommandError> {
    let Init { folder: named } = args;
    let folder = common.directory.as_deref().unwrap_or(Path::new(".")).join(named);
    for file in [CONFIG_FILE, REQUEST_FILE] {
        let path = folder.join(file);
        if path.exists() {
            let hint = "choose another folder: `yieldtray init DIR`; nothing was written";
            return Err(CommandError::refused_with(format!("`{}` is there already", path.display()), hint));
        }
    }
    lay(&folder, &[(CONFIG_FILE, CONFIG), (REQUEST_FILE, REQUESTS)])?;
    ensure_gitignore(&folder)?;
    if !out.settings.quiet {
        let shown = named.display();
        let there = if named == Path::new(".") { String::new() } else { format!("-C {shown} ") };
        let lines = [
            format!("a workspace in {shown}:"),
            format!("  {CONFIG_FILE}       environments and values"),
            format!("  {REQUEST_FILE}  three requests to change"),
            "  .gitignore           keeps private values out of the repository".to_owned(),
            format!("next: yieldtray list {there}and, once a server listens there: yieldtray send {there}is-it-open"),
        ];
        for line in lines {
            writeln!(out.result(), "{line}")?;
        }
    }
    Ok(ExitCode::Success)
}

/// Writes files below `folder`, making folders as needed.
pub(crate) fn lay(folder: &Path, files: &[(&str, &str)]) -> Result<(), CommandError> {
    let (mut written, mut made) = (Vec::new(), Vec::new());
    for (name, text) in files {
        let path = folder.join(name);
        let below = path.parent().unwrap_or(folder);
        made.extend(below.ancestors().filter(|folder| !folder.exists()).map(Path::to_owned));
        let write = || {
            std::fs::create_dir_all(below)?;
            files::replace(&path, text.as_bytes())
        };
        if let Err(error) = write() {
            // Half of it would only be in the way of the next attempt.
            written.iter().for_each(|file| drop(std::fs::remove_file(file)));
            made.sort_by_key(|folder| std::cmp::Reverse(folder.components().count()));
            made.iter().for_each(|folder| drop(std::fs::remove_dir(folder)));
            return Err(error)
                .with_context(|| format!("cannot write `{}`", path.display()))
                .map_err(CommandError::from);
        }
        written.push(path);
    }
    Ok(())
}
