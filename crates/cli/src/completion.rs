//! Completion: candidates from the workspace of the current directory, for a shell that asks. Nothing is sent and no
//! command is run: files are only read.

use crate::args::Args;
use crate::files::request_files;
use crate::project::{configuration::read_configuration, root_for};
use crate::topics::topics as help_topics;
use clap::Command;
use clap::builder::StyledStr;
use clap_complete::CompleteEnv;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::path::Path;
use yieldtray_source::Code;
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::Workspace;

/// Candidates with their descriptions, in order and each once.
type Candidates = BTreeMap<String, Option<String>>;

/// The variable by which a completion script asks: its value names the shell.
pub(crate) const VARIABLE: &str = "YIELDTRAY_COMPLETE";

/// Answers a shell that asks for candidates, and ends the process; otherwise does nothing.
pub(crate) fn answer_shell() {
    if std::env::var_os(VARIABLE).is_some() {
        CompleteEnv::with_factory(|| with_candidates(Args::grouped())).var(VARIABLE).complete();
    }
}

/// The command with candidates for its arguments, and those of its subcommands.
fn with_candidates(mut command: Command) -> Command {
    command.build();
    let name = command.get_name().to_owned();
    let command = command.mut_args(|arg| {
        let candidates = match (name.as_str(), arg.get_id().as_str()) {
            (_, "place" | "places") => places(),
            (_, "only" | "exclude" | "what") | ("log" | "export" | "trend", "name") => requests(),
            (_, "tag") => tags(),
            (_, "env" | "copy_from") | ("env", "name") => environments(),
            (_, "names") => variables(),
            (_, "target") => targets(),
            ("help", "about") => topics(),
            _ => return arg,
        };
        arg.add(candidates)
    });
    command.mut_subcommands(with_candidates)
}

/// Requests by name, and files and directories by path.
fn places() -> ArgValueCompleter {
    workspace_completer(true, |workspace, found| {
        add_requests(workspace, found);
        for file in workspace.loaded() {
            let path = workspace.shown_path(file);
            // `FILE#NAME` only once the file is written: a workspace has many.
            for cell in workspace.cells(file) {
                found.insert(format!("{path}#{}", workspace.cell(cell).name), Some(workspace.title(cell).to_owned()));
            }
            if let Some((directory, _)) = path.rsplit_once('/') {
                found.insert(directory.to_owned(), None);
            }
            found.insert(path, None);
        }
    })
}

/// Requests by name.
fn requests() -> ArgValueCompleter {
    workspace_completer(true, add_requests)
}

/// Tags.
fn tags() -> ArgValueCompleter {
    workspace_completer(true, |workspace, found| {
        let cells: Vec<_> = workspace.loaded().flat_map(|file| workspace.cells(file)).collect();
        found.extend(cells.into_iter().flat_map(|cell| workspace.tags(cell)).map(|tag| (tag.to_string(), None)));
    })
}

/// Environments of the configuration.
fn environments() -> ArgValueCompleter {
    workspace_completer(false, |workspace, found| {
        found.extend(workspace.config.environments.iter().map(|environment| (environment.name.clone(), None)));
    })
}

/// Variables of the configuration, and those that requests yield.
fn variables() -> ArgValueCompleter {
    workspace_completer(true, |workspace, found| {
        found.extend(workspace.config.all_entries().map(|entry| (entry.name.clone(), None)));
        for file in workspace.loaded() {
            let text = &workspace.source(file).text;
            let cells = workspace.source(file).file.cells.iter().flat_map(|cell| cell.instructions());
            found.extend(cells.filter_map(|instruction| match instruction.kind {
                InstructionKind::Yield { name, .. } => Some((name.of(text).to_owned(), None)),
                _ => None,
            }));
        }
    })
}

/// Targets of `export`.
fn targets() -> ArgValueCompleter {
    completer(|found| {
        found.extend(crate::export::target_names().map(|(name, about)| (name.to_owned(), Some(about.to_owned()))));
    })
}

/// Topics of `help`, and the codes that `help` explains.
fn topics() -> ArgValueCompleter {
    completer(|found| {
        let command = Args::grouped();
        let commands = command.get_subcommands().filter(|command| !command.is_hide_set());
        found.extend(
            commands.map(|command| (command.get_name().to_owned(), command.get_about().map(ToString::to_string))),
        );
        found.extend(help_topics().map(|(name, about)| (name.to_owned(), Some(about.to_owned()))));
        found.extend(Code::ALL.iter().map(|code| (code.as_str().to_owned(), None)));
    })
}

fn add_requests(workspace: &Workspace, found: &mut Candidates) {
    for cell in workspace.loaded().flat_map(|file| workspace.cells(file)) {
        found.insert(workspace.cell(cell).name.to_string(), Some(workspace.title(cell).to_owned()));
    }
}

/// A completer over the workspace; its request files are read if `with_files`. Errors are not shown: what cannot
/// be read has no candidates.
fn workspace_completer(
    with_files: bool,
    add: impl Fn(&Workspace, &mut Candidates) + Send + Sync + 'static,
) -> ArgValueCompleter {
    completer(move |found| {
        if let Some(workspace) = workspace(with_files) {
            add(&workspace, found);
        }
    })
}

fn completer(add: impl Fn(&mut Candidates) + Send + Sync + 'static) -> ArgValueCompleter {
    ArgValueCompleter::new(move |current: &OsStr| {
        let Some(current) = current.to_str() else { return Vec::new() };
        let mut found = Candidates::new();
        add(&mut found);
        // `FILE#NAME` is offered where a file was written, or its path.
        let is_wanted = |name: &str| name.starts_with(current) && (!name.contains('#') || current.contains(['#', '/']));
        let candidates = found.into_iter().filter(|(name, _)| is_wanted(name));
        candidates.map(|(name, about)| CompletionCandidate::new(name).help(about.map(StyledStr::from))).collect()
    })
}

/// The workspace of the directory that the command line names with `-C`, or of the current one.
fn workspace(with_files: bool) -> Option<Workspace> {
    // The words of the command line to complete follow `--`.
    let words: Vec<_> = std::env::args_os().skip_while(|word| word != "--").collect();
    let directory = words.windows(2).rev().find(|pair| pair[0] == "-C").map_or(OsStr::new("."), |pair| &pair[1]);
    let root = root_for(&Path::new(directory).canonicalize().ok()?, &[]);
    let mut workspace = read_configuration(&root).ok()?;
    if with_files {
        let folder = root.join(&workspace.config.requests);
        for file in request_files(&root, &folder, false).ok()?.files {
            // A file that cannot be read has no candidates.
            let _ = workspace.load(&file);
        }
    }
    Some(workspace)
}
