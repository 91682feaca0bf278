//! `import curl`.

use crate::args::{Common, ImportCurl};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::import::ImportWriter;
use crate::output::Out;
use anyhow::Context;
use std::io::Read;
use std::path::Path;
use yieldtray_engine::ExitCode;
use yieldtray_interchange::curl::{CurlError, ReadFileError, commands_with};
use yieldtray_source::{Code, Problem, Span};
use yieldtray_syntax::shell::is_command;

/// Makes requests of commands of curl. Where one of them cannot be taken, none is.
pub(super) fn curl(
    common: &Common,
    args: &ImportCurl,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let mut writer = ImportWriter::open(common, &args.into, host, out)?;
    let (name, text) = given(&writer, &args.given, host)?;
    let (mut problems, mut drafts) = (Vec::new(), Vec::new());
    let read = |path: &str| header_fields(&writer.project.path_from_here(path.as_ref()), path);
    for command in commands_with(&text, Some(&read)) {
        match command.drafts {
            Ok(own) => drafts.extend(own),
            Err(why) => problems.push(problem(Span::new(command.span.start, command.span.end), &text, &why)),
        }
    }
    if !problems.is_empty() {
        let workspace = &mut writer.project.workspace;
        let source = workspace.load_text(&name, text)?;
        let problems: Vec<Problem> = problems.into_iter().map(|problem| problem.in_source(source)).collect();
        return Err(out.stop_with(workspace, &problems));
    }
    if drafts.is_empty() {
        let hint = "pass one, for example `curl http://127.0.0.1:4616/lots`";
        return Err(CommandError::refused_with(format!("no command found in {name}"), hint));
    }
    drafts.into_iter().for_each(|draft| writer.add(0, draft));
    writer.finish(out)
}

/// The longest file of header fields that is read, in bytes.
const MAX_FIELD_FILE_BYTES: u64 = 1 << 20;

/// A file of header fields that a command names.
fn header_fields(path: &Path, name: &str) -> Result<String, ReadFileError> {
    let bytes = files::read_regular(path, MAX_FIELD_FILE_BYTES)
        .map_err(|error| ReadFileError::Read { file: name.to_owned(), error: error.to_string() })?;
    String::from_utf8(bytes).map_err(|_| ReadFileError::NotUtf8(name.to_owned()))
}

/// The text with the commands, and what it is called.
fn given(writer: &ImportWriter, given: &[String], host: &HostFacts) -> Result<(String, String), CommandError> {
    match given {
        [one] if one == "-" => {
            if host.can_ask {
                let hint = "pass a command in quotes, a file, or pipe commands to stdin";
                return Err(CommandError::refused_with("nothing to import", hint));
            }
            let mut bytes = Vec::new();
            std::io::stdin().read_to_end(&mut bytes).context("cannot read standard input")?;
            let text =
                String::from_utf8(bytes).map_err(|_| CommandError::refused("standard input is not UTF-8 text"))?;
            Ok(("standard input".to_owned(), text))
        }
        [one] if is_command(one) => Ok(("the command line".to_owned(), one.clone())),
        [file] => {
            let text = files::read_text(&writer.project.path_from_here(file.as_ref()));
            let text = text.map_err(|error| {
                let message = format!("cannot read `{file}`: {error}");
                CommandError::refused_with(message, "pass the command in quotes, beginning with `curl`")
            })?;
            Ok((file.clone(), text))
        }
        words if words[0] == "curl" => {
            // A shell has taken the quotes away: they are put back.
            let quoted = words.iter().map(|word| format!("'{}'", word.replace('\'', "'\\''")));
            let rest: Vec<String> = quoted.skip(1).collect();
            Ok(("the command line".to_owned(), format!("curl {}", rest.join(" "))))
        }
        _ => {
            let hint = "put the command in quotes, or write `--` before it";
            Err(CommandError::refused_with("this is not a curl command", hint))
        }
    }
}

/// A problem of a command, at the part it is about, else at its first line.
fn problem(span: Span, text: &str, error: &CurlError) -> Problem {
    let own = span.of(text);
    let part = error.part().and_then(|part| Some((own.find(part)?, part.len())));
    let at = match part {
        Some((at, length)) => span.part(at, at + length),
        None => span.part(0, own.find('\n').unwrap_or(own.len())),
    };
    Problem::error(Code::ShellCommand, at, error.to_string())
}
