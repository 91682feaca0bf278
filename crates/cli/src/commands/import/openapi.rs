//! `import openapi`.

use crate::args::{Common, ImportOpenapi};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::import::ImportWriter;
use crate::output::{Out, table};
use std::fmt::Display;
use std::path::Path;
use yieldtray_engine::ExitCode;
use yieldtray_interchange::openapi::{Documents, ImportOptions, ImportedApi, OauthProfile, import};
use yieldtray_source::access::CONFIG_FILE;
use yieldtray_source::join_words;
use yieldtray_source::names::slug;
use yieldtray_workspace::config::{ConfigAdditions, add_imported};

/// The largest description, or file that it refers to, in bytes.
const MAX_FILE_BYTES: u64 = 256 << 20;

/// Notes about unsupported parts that are listed one by one.
const MAX_SHOWN_NOTES: usize = 40;

/// Makes request files of a description of an API.
pub(super) fn openapi(
    common: &Common,
    args: &ImportOpenapi,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let near = args.into.as_ref().map(|folder| folder.join("requests.http"));
    let mut writer = ImportWriter::begin(common, near.as_deref(), args.dry_run, host, out)?;
    let file = writer.project.path_from_here(&args.file);
    let shown = args.file.display();
    let bytes = files::read_regular(&file, MAX_FILE_BYTES);
    let bytes = bytes.map_err(|error| CommandError::refused(format!("cannot read `{shown}`: {error}")))?;
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new(".")).to_owned();
    let refused = |error: &dyn Display| CommandError::refused(format!("cannot import `{shown}`: {error}"));
    let documents = Documents::read(&bytes, |path| files::read_beside(&folder, path, MAX_FILE_BYTES))
        .map_err(|error| refused(&error))?;
    let import_options = ImportOptions { operation: args.operation.clone(), schemas: args.into.is_some() };
    let taken = import(&documents, &import_options).map_err(|error| refused(&error))?;
    let notes = taken.notes.clone();
    writer.notes.clone_from(&notes);
    match &args.into {
        Some(folder) => fill(&mut writer, folder, taken, prefix_of(&args.file))?,
        None => {
            let target = writer.print();
            if !out.settings.json && !out.settings.quiet {
                let needed = taken.values.keys().map(String::as_str).chain(["base"]);
                out.say(&out.settings.error_styles.dim(&format!("it requires {}", join_words(needed))))?;
            }
            for file in taken.files {
                writer.begin_with(target, &file.head);
                file.drafts.into_iter().for_each(|draft| writer.add_as_is(target, draft));
            }
        }
    }
    if !out.settings.json && !out.settings.quiet {
        tell(&notes, out)?;
    }
    writer.finish(out)
}

/// The prefix of a description's variables: the name of its file.
fn prefix_of(file: &Path) -> String {
    let stem = file.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let name = slug(&stem).replace(['-', '.'], "_").to_uppercase();
    let name: String = name.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
    match name.starts_with(|c: char| c.is_ascii_alphabetic()) {
        true => name,
        false => format!("API_{name}").trim_end_matches('_').to_owned(),
    }
}

/// The request files, the schemas and what the configuration gets.
fn fill(writer: &mut ImportWriter, folder: &Path, taken: ImportedApi, prefix: String) -> Result<(), CommandError> {
    let profiles = taken.profiles.iter().map(|(name, profile)| (name.clone(), keys(profile)));
    let additions = ConfigAdditions {
        environments: taken.environments,
        values: taken.values.iter().map(|(name, given)| (name.clone(), given.secret)).collect(),
        profiles: profiles.collect(),
        prefix,
    };
    writer.configure(|text| {
        let changed = add_imported(text, &additions);
        changed.map_err(|_| CommandError::refused(format!("cannot add to `{CONFIG_FILE}`: it is not valid")))
    })?;
    for file in taken.files {
        let target = writer.file(&folder.join(format!("{}.http", file.name)))?;
        writer.begin_with(target, &file.head);
        for draft in file.drafts {
            writer.add_once(target, draft);
        }
    }
    taken.schemas.into_iter().try_for_each(|(path, text)| writer.add_file(&folder.join(path), text))
}

/// The lines of a table of `oauth2`.
fn keys(profile: &OauthProfile) -> Vec<(&'static str, String)> {
    let mark = |name: &str| format!("{{{{{name}}}}}");
    let mut keys = profile.endpoints.clone();
    keys.extend([("grant", profile.grant.to_owned()), ("client_id", mark("client_id"))]);
    if profile.grant != "authorization_code" {
        keys.push(("client_secret", mark("client_secret")));
    }
    if profile.grant == "password" {
        keys.extend([("username", mark("username")), ("password", mark("password"))]);
    }
    if !profile.scope.is_empty() {
        keys.push(("scope", profile.scope.clone()));
    }
    keys
}

/// The unsupported parts.
fn tell(notes: &[String], out: &mut Out) -> Result<(), CommandError> {
    for note in notes.iter().take(MAX_SHOWN_NOTES) {
        out.say(&format!("{} {note}", out.settings.error_styles.warn("note")))?;
    }
    if notes.len() > MAX_SHOWN_NOTES {
        let more = table::count(notes.len() - MAX_SHOWN_NOTES, "more note", "more notes");
        out.say(&out.settings.error_styles.warn(&format!("{more}; use `--json` to see all")))?;
    }
    Ok(())
}
