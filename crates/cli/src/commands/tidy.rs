//! `tidy`.

use crate::append::expect_request_file;
use crate::args::{Common, Tidy};
use crate::error::CommandError;
use crate::files;
use crate::files::{RequestFiles, request_files};
use crate::output::{Out, problems, table};
use crate::project::locator::Locator;
use crate::project::{here, places, root_for};
use anyhow::Context;
use serde_json::json;
use std::io::{Read, Write};
use std::path::{Path, PathBuf};
use yieldtray_engine::ExitCode;
use yieldtray_source::access::CONFIG_FILE;
use yieldtray_source::{Problem, SourceId, edited};
use yieldtray_syntax::{parse, tidy as edits};
use yieldtray_workspace::config::Config;

/// Lays request files out in one style.
pub(crate) fn tidy(common: &Common, args: &Tidy, out: &mut Out) -> Result<ExitCode, CommandError> {
    let places = places(common, &args.places)?;
    if places.contains(&Locator::StandardInput) {
        return standard_input(args, out);
    }
    let here = here(common)?;
    let TidiedFile { files, passed_over } = files(&here, &places)?;
    let _lock = match args.check {
        true => None,
        false => files::lock(&root_for(&here, &places)).context("cannot change files here")?,
    };
    // A file that cannot be read is reported, and does not stop the others.
    let (mut changes, mut unread) = (Vec::new(), Vec::new());
    for file in &files {
        match files::read_text(file) {
            Ok(text) => changes.extend(tidied(&text).map(|tidied| (file, tidied))),
            Err(error) => unread.push(format!("cannot read `{}`: {error}", file.display())),
        }
    }
    if !args.check {
        for (file, text) in &changes {
            files::replace(file, text.as_bytes()).map_err(|error| refused("write", file, error))?;
        }
    }
    let shown = |file: &Path| file.strip_prefix(&here).unwrap_or(file).display().to_string();
    let changed: Vec<String> = changes.iter().map(|(file, _)| shown(file)).collect();
    let code =
        ExitCode::failed_if(args.check && !changed.is_empty()).max(ExitCode::invalid_input_if(!unread.is_empty()));
    if out.settings.json {
        let passed_over = passed_over.iter().map(|problem| &problem.message);
        let unread: Vec<&String> = unread.iter().chain(passed_over).collect();
        writeln!(out.result(), "{}", json!({ "files": files.len(), "changed": changed, "unread": unread }))?;
        return Ok(code);
    }
    for problem in &passed_over {
        out.say(&problems::warning(problem.code.as_str(), &problem.message, None, out.settings.error_styles))?;
    }
    for message in &unread {
        out.refusal(None, message, None)?;
    }
    for file in &changed {
        writeln!(out.result(), "{file}")?;
    }
    if !out.settings.quiet {
        let all = table::count(files.len(), "file", "files");
        let words = match (changed.len(), args.check) {
            (0, _) => out.settings.error_styles.good("all files are formatted"),
            (number, true) => out.settings.error_styles.bad(&format!("{number} would change")),
            (number, false) => format!("{number} changed"),
        };
        out.say(&format!("{all} · {words}"))?;
    }
    Ok(code)
}

/// The formatted text, if it differs.
fn tidied(text: &str) -> Option<String> {
    let edits = edits(text, &parse(text, SourceId(0), "request").file);
    (!edits.is_empty()).then(|| edited(text, &edits))
}

fn standard_input(args: &Tidy, out: &mut Out) -> Result<ExitCode, CommandError> {
    if args.places.len() > 1 {
        return Err(CommandError::refused("`-` cannot be combined with other paths"));
    }
    let mut text = String::new();
    std::io::stdin().read_to_string(&mut text).context("cannot read standard input")?;
    let tidied = tidied(&text);
    let code = ExitCode::failed_if(args.check && tidied.is_some());
    if !args.check {
        write!(out.result(), "{}", tidied.unwrap_or(text))?;
    }
    Ok(code)
}

/// The files to format, and the folders that could not be read.
struct TidiedFile {
    files: Vec<PathBuf>,
    passed_over: Vec<Problem>,
}

/// The request files that the places name, `_common.http` files among them, each once.
fn files(here: &Path, places: &[Locator]) -> Result<TidiedFile, CommandError> {
    let root = root_for(here, places);
    let below = |folder: &Path| -> Result<TidiedFile, CommandError> {
        let RequestFiles { files, passed_over } = request_files(&root, folder, true)?;
        let files = files.into_iter().map(|file| root.join(file));
        // Links that lead outside are not followed.
        let files = files.filter(|file| file.canonicalize().is_ok_and(|real| real.starts_with(&root)));
        Ok(TidiedFile { files: files.collect(), passed_over })
    };
    if places.is_empty() {
        let text = std::fs::read_to_string(root.join(CONFIG_FILE)).unwrap_or_default();
        return below(&root.join(Config::parse(&text, SourceId(0), false).0.requests));
    }
    let (mut files, mut passed_over) = (Vec::new(), Vec::new());
    for place in places {
        let path = match place {
            Locator::Path(path) => here.join(path),
            Locator::Line(path, _) | Locator::Cell(path, _) => {
                return Err(CommandError::refused_with(
                    "`tidy` works on whole files",
                    format!("pass the file, `{path}`"),
                ));
            }
            Locator::Name(name) => {
                return Err(CommandError::refused_with(
                    format!("no file or directory `{name}`"),
                    "pass a request file or a directory",
                ));
            }
            Locator::StandardInput => continue,
        };
        let link = path.is_symlink();
        let path = path.canonicalize().map_err(|error| refused("read", &path, error))?;
        if link && !path.starts_with(&root) {
            let message = format!("the link points outside the workspace, to `{}`", path.display());
            return Err(CommandError::refused_with(message, "pass the file itself"));
        }
        if path.is_file() {
            expect_request_file(&path)?;
        }
        match path.is_dir() {
            true => {
                let found = below(&path)?;
                files.extend(found.files);
                passed_over.extend(found.passed_over);
            }
            false => files.push(path),
        }
    }
    files.sort();
    files.dedup();
    Ok(TidiedFile { files, passed_over })
}

fn refused(verb: &str, file: &Path, error: std::io::Error) -> CommandError {
    CommandError::refused(format!("cannot {verb} `{}`: {}", file.display(), files::plain(error)))
}
