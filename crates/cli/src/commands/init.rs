//! `init`.

use crate::args::{Common, Init, Needs, Send};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::Out;
use crate::project::gitignore::ensure_gitignore;
use anyhow::Context;
use std::borrow::Cow;
use std::io::Write;
use std::path::Path;
use yieldtray_engine::ExitCode;
use yieldtray_source::access::CONFIG_FILE;

const CONFIG: &str = include_str!("../../demo/init.toml");
/// The base URL in it.
const SAMPLE_BASE: &str = "http://127.0.0.1:4616";
const REQUESTS: &str = include_str!("../../demo/init.http");
/// The requests where the API is another one: nothing is known of it but its URL.
const FIRST_REQUEST: &str = include_str!("../../demo/init-base.http");
const REQUEST_FILE: &str = "requests/first.http";

/// Creates a small workspace; existing files are not overwritten. With a base URL, its first request is sent.
pub(crate) fn init(common: &Common, args: &Init, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let Init { folder: named, base } = args;
    if let Some(base) = base {
        check_base(base)?;
    }
    let folder = common.directory.as_deref().unwrap_or(Path::new(".")).join(named);
    for file in [CONFIG_FILE, REQUEST_FILE] {
        let path = folder.join(file);
        if path.exists() {
            let hint = "choose another directory: `yieldtray init DIR`; nothing was written";
            let shown = path.strip_prefix(".").unwrap_or(&path).components().collect::<std::path::PathBuf>();
            return Err(CommandError::refused_with(format!("`{}` already exists", shown.display()), hint));
        }
    }
    let config = base.as_ref().map_or(Cow::Borrowed(CONFIG), |base| CONFIG.replace(SAMPLE_BASE, base).into());
    let requests = if base.is_some() { FIRST_REQUEST } else { REQUESTS };
    write_files(&folder, &[(CONFIG_FILE, &config), (REQUEST_FILE, requests)])?;
    ensure_gitignore(&folder)?;
    let there = if named == Path::new(".") { String::new() } else { format!("-C {} ", named.display()) };
    if !out.settings.quiet {
        writeln!(out.result(), "created a workspace in {}:", named.display())?;
        writeln!(out.result(), "  {CONFIG_FILE}       environments and variables")?;
        writeln!(out.result(), "  {REQUEST_FILE}  requests to start from")?;
        writeln!(out.result(), "  .gitignore           keeps local values out of git")?;
    }
    let Some(base) = base else {
        if !out.settings.quiet {
            let line = CONFIG.lines().position(|line| line.contains(SAMPLE_BASE)).map_or(1, |index| index + 1);
            let config = named.join(CONFIG_FILE);
            let config = config.strip_prefix(".").unwrap_or(&config);
            writeln!(
                out.result(),
                "next: set `base` in {}:{line} to your API, then: yieldtray send {there}is-it-open",
                config.display()
            )?;
            writeln!(out.result(), "      without an API, try the sample: yieldtray demo --keep packhouse --serve")?;
        }
        return Ok(ExitCode::Success);
    };
    if !out.settings.quiet {
        writeln!(out.result(), "\nfirst request to {base} (yieldtray send {there}first-request):")?;
    }
    let common = Common { directory: Some(folder), ..common.clone() };
    let send = Send { place: vec!["first-request".to_owned()], needs: Needs::Never, ..Send::default() };
    super::send::send(&common, send, host, out)
}

/// Refuses what is not the URL of an API.
fn check_base(base: &str) -> Result<(), CommandError> {
    let is_plain = !base.contains(['"', '\\']) && !base.chars().any(|c| c.is_control() || c.is_whitespace());
    let origin = base.splitn(4, '/').take(3).collect::<Vec<_>>().join("/");
    match yieldtray_http::parse_origin(&origin) {
        Some(_) if is_plain => Ok(()),
        _ => Err(CommandError::refused_with(
            format!("`{base}` is not a valid base URL"),
            "for example `http://127.0.0.1:4616` or `https://api.example/v1`; nothing was written",
        )),
    }
}

/// Writes files below `folder`, making folders as needed.
pub(crate) fn write_files(folder: &Path, files: &[(&str, &str)]) -> Result<(), CommandError> {
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
