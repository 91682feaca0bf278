//! Commands: sending, judging, replaying, choosing the environment.

use super::Answer;
use super::convert::workspace_edit;
use crate::connection::MessageKind;
use crate::host::{HostError, Job, Task};
use crate::params::{Command, TextDocument, read};
use crate::prompt_file;
use crate::server::{Server, Snapshot};
use crate::uri::path_of;
use crate::wire::ResponseError;
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use yieldtray_ide::assist;
use yieldtray_ide::assist::cell_at;

const SEND: &str = "yieldtray.send";
const SEND_WITH_NEEDS: &str = "yieldtray.sendWithNeeds";
const JUDGE: &str = "yieldtray.judge";
const REPLAY: &str = "yieldtray.replay";
const ENVIRONMENT: &str = "yieldtray.environment";
const HAND_OVER: &str = "yieldtray.handOver";
const TAKE_IN: &str = "yieldtray.takeIn";
const STOP: &str = "yieldtray.stop";

/// Every command.
pub(crate) const ALL: &[&str] = &[SEND, SEND_WITH_NEEDS, JUDGE, REPLAY, ENVIRONMENT, HAND_OVER, TAKE_IN, STOP];

/// The ways in which a cell is sent.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Sending {
    Alone,
    WithNeeds,
    Judged,
}

impl Sending {
    pub(super) fn title(self) -> &'static str {
        match self {
            Sending::Alone => "Send",
            Sending::WithNeeds => "Send with its dependencies",
            Sending::Judged => "Check against the last response",
        }
    }

    fn command(self) -> &'static str {
        match self {
            Sending::Alone => SEND,
            Sending::WithNeeds => SEND_WITH_NEEDS,
            Sending::Judged => JUDGE,
        }
    }
}

pub(super) fn of_cell(way: Sending, address: &str, name: &str) -> Value {
    json!({ "title": way.title(), "command": way.command(), "arguments": [{ "uri": address, "name": name }] })
}

/// A cell as code of a language, shown beside it.
pub(super) fn export(target: &str, address: &str, name: &str) -> Value {
    let arguments = json!([{ "uri": address, "name": name, "as": target, "show": true }]);
    json!({ "title": format!("Copy as {target}: {name}"), "command": HAND_OVER, "arguments": arguments })
}

pub(super) fn replay(address: &str) -> Value {
    json!({ "title": "Replay", "command": REPLAY, "arguments": [{ "uri": address }] })
}

pub(super) fn environment(address: &str, chosen: Option<&str>) -> Value {
    let title = format!("Environment: {}", chosen.unwrap_or("none"));
    json!({ "title": title, "command": ENVIRONMENT, "arguments": [{ "uri": address }] })
}

pub(super) fn execute(server: &mut Server, params: Value) -> Answer {
    let Command { command, arguments } = read(params)?;
    if command == STOP {
        server.jobs.cancel_all();
        return Ok(Value::Null);
    }
    let about = arguments.into_iter().next();
    let about = about
        .ok_or_else(|| ResponseError::new(ResponseError::PARAMS, format!("`{command}` expects `{{ uri, name }}`")))?;
    let about: TextDocument = read(about)?;
    match command.as_str() {
        ENVIRONMENT => choose(server, about),
        REPLAY => begin(server, &about, |_| Ok(Task::Replay)),
        SEND => begin(server, &about, |cell| Ok(Task::Send { cell: cell?, needs: false })),
        SEND_WITH_NEEDS => begin(server, &about, |cell| Ok(Task::Send { cell: cell?, needs: true })),
        HAND_OVER => exported(server, &about),
        TAKE_IN => imported(server, &about),
        JUDGE => begin(server, &about, |cell| Ok(Task::Judge { cell: cell? })),
        _ => Err(ResponseError::new(ResponseError::PARAMS, format!("unknown command `{command}`"))),
    }
}

/// Exports a cell as code or in a format: returned, or shown.
fn exported(server: &mut Server, about: &TextDocument) -> Answer {
    let target = about.target.clone().unwrap_or_else(|| "shell".to_owned());
    let mut named = None;
    // Nothing is begun: the job says which workspace and which texts it is about.
    let job = job_of(server, about, |cell| {
        named = Some(cell?);
        Ok(Task::Replay)
    })?;
    let cell = named.unwrap_or_default();
    let text = server.host.export(&job, &cell, &target).map_err(ResponseError::failed)?;
    if about.show {
        let file =
            server.host.write_scratch(&job, &format!("{cell}+{target}"), &text).map_err(ResponseError::failed)?;
        server.connection.show_file(server.client, &file, false, "written to");
    }
    Ok(json!({ "as": target, "text": text }))
}

/// Imports copied text as cells at the end of the file.
fn imported(server: &mut Server, about: &TextDocument) -> Answer {
    if !server.client.applies_edits {
        let why = "this editor does not support workspace edits: use `yieldtray import curl --into FILE`";
        return Err(ResponseError::failed(why));
    }
    let versions = server.documents.versions();
    let Snapshot { state, source, encoding, client } = server.snapshot(&about.uri)?;
    let copied = about.text.as_deref().unwrap_or_default();
    let action = state.view(|view| assist::import_commands(view, source, copied));
    let action = action.map_err(ResponseError::failed)?;
    let edit = workspace_edit(state, &action.changes, client, encoding, &versions)?;
    server.connection.ask("workspace/applyEdit", json!({ "label": action.title, "edit": edit }), |_, _| {});
    Ok(Value::Null)
}

type Named = Result<String, ResponseError>;

/// Begins a job for a file or one of its cells.
fn begin(server: &mut Server, about: &TextDocument, task: impl FnOnce(Named) -> Result<Task, ResponseError>) -> Answer {
    let job = job_of(server, about, task)?;
    let title = match &job.task {
        Task::Send { cell, .. } => format!("Send {cell}"),
        Task::Judge { cell } => format!("Check {cell}"),
        Task::Replay => format!("Replay {}", job.file.display()),
    };
    server.start_job(job, &title).map_err(ResponseError::failed)?;
    Ok(Value::Null)
}

/// Starts a job for a file or one of its cells.
fn job_of(
    server: &mut Server,
    about: &TextDocument,
    task: impl FnOnce(Named) -> Result<Task, ResponseError>,
) -> Result<Job, ResponseError> {
    let unsaved = server.documents.unsaved();
    let Snapshot { state, source, encoding, .. } = server.snapshot(&about.uri)?;
    let cell = match (&about.name, about.line) {
        (Some(name), _) => Some(name.clone()),
        (None, Some(line)) => {
            let text = crate::diagnostics::text_of(state, source, encoding);
            // The protocol takes a place behind the end for the end. To send, that would be a guess.
            let lines = state.workspace.source(source).text.split('\n').count();
            if line as usize >= lines {
                return Err(ResponseError::new(
                    ResponseError::PARAMS,
                    format!("line {line} does not exist: the file has {lines} lines"),
                ));
            }
            let at = text.offset(lsp_types::Position::new(line, 0));
            cell_at(&state.workspace, source, at).map(|cell| state.workspace.cell(cell).name.to_string())
        }
        (None, None) => None,
    };
    let cell = cell.ok_or_else(|| ResponseError::new(ResponseError::PARAMS, "no request at this position"));
    let file = state.workspace.source(source).path.clone();
    let task = task(cell)?;
    let root = state.root.clone();
    let folder = server.host.state_folder(&root).map_err(ResponseError::failed)?;
    let answers = prompt_file::read(&folder, &unsaved);
    Ok(Job { root, unsaved, file, task, answers })
}

/// Chooses an environment: the one that is named, else the one that is picked of all.
fn choose(server: &mut Server, about: TextDocument) -> Answer {
    let path = path_of(&about.uri).unwrap_or_else(|| PathBuf::from(&about.uri));
    let root = server.host.root_of(&path).ok_or_else(|| ResponseError::failed("this file is not in a directory"))?;
    let state = server.workspace(&root)?;
    let names: Vec<String> =
        state.workspace.config.environments.iter().map(|environment| environment.name.clone()).collect();
    let chosen = state.settings.environment.clone();
    if names.is_empty() {
        return Err(ResponseError::failed("the configuration defines no environments"));
    }
    if let Some(name) = about.name {
        choose_environment(server, &root, &name).map_err(ResponseError::failed)?;
        return Ok(Value::Null);
    }
    let message = match &chosen {
        Some(name) => format!("The environment is {name}. Select another:"),
        None => "Select an environment:".to_owned(),
    };
    let asks = server.client.asks;
    let (method, params) = if asks {
        let params = json!({
            "kind": "choice", "name": null, "question": message, "secret": false, "default": chosen, "choices": names,
        });
        ("yieldtray/ask", params)
    } else {
        let actions: Vec<Value> = names.iter().map(|name| json!({ "title": name })).collect();
        ("window/showMessageRequest", json!({ "type": 3, "message": message, "actions": actions }))
    };
    server.ask_after_response(method, params, move |server, answer| {
        let name = answer.and_then(|answer| match asks {
            true => answer.as_str().map(str::to_owned),
            false => answer["title"].as_str().map(str::to_owned),
        });
        if let Some(name) = name.filter(|name| names.contains(name))
            && let Err(why) = choose_environment(server, &root, &name)
        {
            server.connection.show_message(MessageKind::Error, &why.to_string());
        }
    });
    Ok(Value::Null)
}

fn choose_environment(server: &mut Server, root: &Path, name: &str) -> Result<(), HostError> {
    let state = server.workspace(root).map_err(|error| HostError(error.message))?;
    if state.workspace.config.environment(name).is_none() {
        return Err(HostError(format!("no environment `{name}`")));
    }
    server.host.choose(root, name)?;
    // Whatever hangs on the environment is looked at anew.
    server.workspaces.close(root);
    server.documents.mark_changed(root);
    server.refresh();
    Ok(())
}
