//! Starts jobs and handles their events.

use crate::connection::MessageKind;
use crate::host::{HostError, Job, JobResult};
use crate::jobs::{Asked, JobError, JobEvent, ShownProgress};
use crate::prompt_file;
use crate::server::Server;
use serde_json::{Value, json};
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::Sender;

/// The button for an answer that is not one of the choices.
const OTHER: &str = "Write another value";

impl Server {
    /// Starts a job. The same one twice at a time is refused.
    pub(super) fn start_job(&mut self, job: Job, title: &str) -> Result<(), JobError> {
        let number = self.jobs.start(job, title, Arc::clone(&self.host), self.job_events.clone())?;
        if !self.client.shows_progress {
            return Ok(());
        }
        // The client must create the progress before it gets reports about it.
        let mut begin = json!({ "kind": "begin", "title": title, "cancellable": true });
        self.connection.ask(
            "window/workDoneProgress/create",
            json!({ "token": number }),
            move |server: &mut Server, _| {
                let ShownProgress { message, ended } = server.jobs.show_progress(number);
                if let Some(message) = message {
                    begin["message"] = json!(message);
                }
                server.report_progress(number, begin);
                if let Some(message) = ended {
                    server.report_progress(number, json!({ "kind": "end", "message": message }));
                }
            },
        );
        Ok(())
    }

    fn report_progress(&self, job: i64, value: Value) {
        self.connection.notify("$/progress", json!({ "token": job, "value": value }));
    }

    /// Handles what a job says.
    pub(crate) fn on_job_event(&mut self, event: JobEvent) {
        match event {
            JobEvent::Progress { job, message } => {
                if self.jobs.note_progress(job, &message) {
                    self.report_progress(job, json!({ "kind": "report", "message": message }));
                }
            }
            JobEvent::ShowPage { message, url, opens } => {
                self.connection.show_message(MessageKind::Info, &message);
                if opens {
                    self.connection.open_page(self.client, &url);
                }
            }
            JobEvent::Ask { question, reply } => self.prompt(*question, reply),
            JobEvent::Done { job, root, outcome } => {
                let message = match &outcome {
                    Ok(result) => result.summary.clone(),
                    Err(error) => error.to_string(),
                };
                if self.jobs.finish(job, &message, self.client.shows_progress) {
                    self.report_progress(job, json!({ "kind": "end", "message": message }));
                }
                match outcome {
                    Ok(result) => self.on_job_result(&root, result),
                    Err(why) => self.connection.show_message(MessageKind::Error, &why.to_string()),
                }
            }
        }
    }

    fn on_job_result(&mut self, root: &Path, result: JobResult) {
        let host = Arc::clone(&self.host);
        if let Some(state) = self.workspaces.get_mut(root) {
            state.replace_findings(&result.judged, result.findings);
            state.refresh(&*host);
        }
        self.publish(root);
        self.refresh();
        match result.document {
            Some(file) => self.connection.show_file(self.client, &file, false, &result.summary),
            None => {
                let kind = if result.success { MessageKind::Info } else { MessageKind::Warning };
                self.connection.show_message(kind, &result.summary);
            }
        }
    }

    /// Prompts a person: with buttons for choices, with the client's own input if it has one, else with a document to
    /// write the answer into.
    fn prompt(&mut self, asked: Asked, reply: Sender<Option<String>>) {
        if self.client.asks {
            // Whether something is sent at all is a question of its own.
            let kind = match (&asked.name, asked.choices.is_empty()) {
                (None, _) => "confirm",
                (_, false) => "choice",
                (_, true) => "text",
            };
            let params = json!({
                "kind": kind, "name": asked.name, "question": asked.text, "secret": asked.secret,
                "default": asked.default, "choices": asked.choices,
            });
            let give = move |_: &mut Server, answer: Option<Value>| {
                let answer = answer.and_then(|answer| answer.as_str().map(str::to_owned));
                let _ = reply.send(answer);
            };
            return self.connection.ask("yieldtray/ask", params, give);
        }
        let mut choices = asked.choices.clone();
        if choices.is_empty()
            && let Some(default) = asked.default.clone().filter(|_| !asked.secret)
        {
            // Any other text will do too.
            choices.extend([default, OTHER.to_owned()]);
        }
        if !choices.is_empty() {
            let actions: Vec<Value> = choices.iter().map(|choice| json!({ "title": choice })).collect();
            let params = json!({ "type": 3, "message": asked.text, "actions": actions });
            let give = move |server: &mut Server, answer: Option<Value>| {
                let chosen = answer.and_then(|answer| answer["title"].as_str().map(str::to_owned));
                let chosen = chosen.filter(|chosen| choices.contains(chosen));
                if asked.choices.is_empty() && chosen.as_deref() == Some(OTHER) {
                    server.write_down(&asked);
                    let _ = reply.send(None);
                } else {
                    let _ = reply.send(chosen);
                }
            };
            return self.connection.ask("window/showMessageRequest", params, give);
        }
        self.write_down(&asked);
        let _ = reply.send(None);
    }

    /// Lays the document in which a question is answered. Secrets are not written into files.
    fn write_down(&mut self, asked: &Asked) {
        let name = asked.name.as_deref().unwrap_or_default();
        if asked.secret {
            let message = format!(
                "`{name}` is prompted for (“{}”), and this editor cannot prompt without showing it. Set it in \
                 `yieldtray.local.toml`: `{name} = {{ from = \"env:…\", secret = true }}`",
                asked.text
            );
            return self.connection.show_message(MessageKind::Warning, &message);
        }
        let folder = self.host.state_folder(&asked.root);
        let written = folder.and_then(|folder| {
            prompt_file::write(&folder, name, &asked.text).map_err(|error| HostError(error.to_string()))
        });
        match written {
            Ok(file) => {
                self.connection.show_file(
                    self.client,
                    &file,
                    true,
                    "fill in the value in this file, save it, and send again",
                );
                self.connection.show_message(
                    MessageKind::Info,
                    &format!("“{}”: write the value after `{name} =`, save, and send again", asked.text),
                );
            }
            Err(error) => {
                self.connection.show_message(MessageKind::Error, &format!("cannot write the prompt file: {error}"))
            }
        }
    }
}
