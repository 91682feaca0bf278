//! `secret`.

use crate::args::{Common, LazyArgs, Secret, SecretAction};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::Out;
use crate::project::{Project, identity, keyring, set_from};
use crate::prompt;
use crate::settings::variable_name;
use serde_json::json;
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use yieldtray_engine::ExitCode;
use yieldtray_source::access::check_writable;
use yieldtray_source::files::normalize;
use yieldtray_workspace::{SealedFile, SealedFileError};

/// Keeps secrets in the keyring, or encrypted in a file. None of them is ever shown.
pub(crate) fn secret(common: &Common, args: Secret, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    match args.action {
        SecretAction::Store(LazyArgs(args)) => {
            let here = std::env::current_dir()?;
            let secret = ask(&args.name, args.from.as_deref(), &here, host)?;
            keyring::store(&args.name, &secret).map_err(CommandError::refused)?;
            let hint = format!("use it as `{{ from = \"keyring:{}\" }}`", args.name);
            say(out, json!({ "stored": args.name }), &format!("`{}` is stored in the keyring; {hint}", args.name))
        }
        SecretAction::Remove(LazyArgs(args)) => {
            keyring::remove(&args.name).map_err(CommandError::refused)?;
            say(out, json!({ "removed": args.name }), &format!("`{}` is removed from the keyring", args.name))
        }
        SecretAction::Identity(_) => {
            let recipient = identity::read_or_make().map_err(CommandError::refused)?.to_public().to_string();
            if out.settings.json {
                writeln!(out.result(), "{}", json!({ "recipient": recipient }))?;
            } else {
                writeln!(out.result(), "{recipient}")?;
            }
            Ok(ExitCode::Success)
        }
        SecretAction::Seal(LazyArgs(args)) => {
            variable_name(&args.name)?;
            let project = Project::open(common, host, out, &[])?;
            let (target, shown) = target(&project, &args.file)?;
            let mut file = read(&target, &shown)?;
            if file.recipients().is_empty() {
                // The first of a team begins with themselves.
                let own = identity::read_or_make().map_err(CommandError::refused)?.to_public().to_string();
                file.add_recipient(&own);
            }
            let value = ask(&args.name, args.from.as_deref(), &project.here, host)?;
            let recipients = file.recipients();
            let encrypted = identity::encrypt(&recipients, value.as_bytes()).map_err(CommandError::refused)?;
            file.put(&args.name, &encrypted);
            files::replace(&target, file.to_text().as_bytes())?;
            let count = recipients.len();
            let hint = format!("use it as `{} = {{ from = \"sealed:{shown}\" }}`", args.name);
            let message = format!("`{}` is encrypted for {count} in {shown}; {hint}", args.name);
            say(out, json!({ "sealed": args.name, "file": shown, "recipients": count }), &message)
        }
        SecretAction::Reseal(LazyArgs(args)) => {
            let project = Project::open(common, host, out, &[])?;
            let (target, shown) = target(&project, &args.file)?;
            let mut file = read(&target, &shown)?;
            let (recipients, names) = (file.recipients(), file.names());
            // All or none: the file is written when each value was encrypted.
            for name in &names {
                let failed = |why: String| CommandError::refused(format!("`{name}` of {shown}: {why}"));
                let encrypted = file.get(name).map_err(|error| failed(error.to_string()))?;
                let value = identity::decrypt(&encrypted).map_err(failed)?;
                file.put(name, &identity::encrypt(&recipients, &value).map_err(failed)?);
            }
            files::replace(&target, file.to_text().as_bytes())?;
            let (values, people) = (names.len(), recipients.len());
            let message = format!("the values of {shown} are encrypted for its recipients: {values} for {people}");
            say(out, json!({ "resealed": values, "file": shown, "recipients": people }), &message)
        }
    }
}

/// The file on the disk, and as it is shown. It is a part of the workspace.
fn target(project: &Project, file: &Path) -> Result<(PathBuf, String), CommandError> {
    let outside = || {
        let hint = "use a path relative to the workspace root, for example `secrets.toml`";
        CommandError::refused_with(format!("`{}` is outside the workspace", file.display()), hint)
    };
    let inside = normalize(file).ok_or_else(outside)?;
    let refused = |error: io::Error| CommandError::refused(format!("cannot use `{}`: {error}", file.display()));
    check_writable(&inside).map_err(refused)?;
    let target = project.root.join(&inside);
    // A link must not lead elsewhere, neither that of the file nor that of a directory.
    let root = project.root.canonicalize().map_err(refused)?;
    let real = target.ancestors().find_map(|path| path.canonicalize().ok()).ok_or_else(outside)?;
    if !real.starts_with(root) {
        return Err(outside());
    }
    Ok((target, inside.to_string_lossy().replace('\\', "/")))
}

fn read(target: &Path, shown: &str) -> Result<SealedFile, CommandError> {
    let refused = |why: &dyn std::fmt::Display| CommandError::refused(format!("cannot use `{shown}`: {why}"));
    match files::read_text(target) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(SealedFile::default()),
        Err(error) => Err(refused(&error)),
        Ok(text) => SealedFile::parse(&text).map_err(|error: SealedFileError| refused(&error)),
    }
}

/// The secret: from a file, or from the person, who does not see it.
fn ask(name: &str, from: Option<&Path>, here: &Path, host: &HostFacts) -> Result<String, CommandError> {
    let secret = match from {
        Some(file) => {
            let text = set_from::read_text(&file.to_string_lossy(), here)
                .map_err(|error| CommandError::refused(format!("cannot read the secret: {error}")))?;
            text.trim_end_matches(['\r', '\n']).to_owned()
        }
        None if host.can_ask => prompt::secret(&format!("the secret `{name}`:"))?,
        None => {
            let hint = "pass `--from FILE`, or `--from -` for standard input";
            return Err(CommandError::refused_with("the secret can be typed only on a terminal", hint));
        }
    };
    if secret.is_empty() {
        return Err(CommandError::refused("the secret is empty"));
    }
    Ok(secret)
}

fn say(out: &mut Out, data: serde_json::Value, message: &str) -> Result<ExitCode, CommandError> {
    if out.settings.json {
        writeln!(out.result(), "{data}")?;
    } else if !out.settings.quiet {
        out.say(message)?;
    }
    Ok(ExitCode::Success)
}
