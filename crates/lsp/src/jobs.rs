//! What takes its time goes on threads of its own. They speak with the loop, which alone speaks with the client.

use crate::desk::{Job, JobResult, JobUi, Task};
use crate::server::{Event, Server};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError, Sender};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};
use yieldtray_engine::Question;

/// How often who waits for an answer looks whether it is still wanted.
const TICK: Duration = Duration::from_millis(50);

/// So long the end of the session waits for what is under way.
const PATIENCE: Duration = Duration::from_secs(3);

/// The button for an answer that is no choice.
const OTHER: &str = "Write another answer";

/// What jobs say.
pub(crate) enum JobEvent {
    /// How far one is.
    Progress { job: i64, words: String },
    /// It asks a person something.
    Ask { question: Box<Asked>, reply: Sender<Option<String>> },
    /// It is over.
    Done { job: i64, root: PathBuf, outcome: Result<JobResult, String> },
    /// Something that is done after what is done now.
    Later(Box<dyn FnOnce(&mut Server) + Send>),
}

/// Something a person is asked.
pub(crate) struct Asked {
    /// The name of the value, if one is asked for.
    pub(crate) name: Option<String>,
    pub(crate) text: String,
    pub(crate) secret: bool,
    pub(crate) default: Option<String>,
    /// What can be answered, where not everything can.
    pub(crate) choices: Vec<String>,
    /// The workspace's root.
    pub(crate) root: PathBuf,
}

/// What is under way.
#[derive(Default)]
pub(crate) struct Jobs {
    running: HashMap<i64, Running>,
    last: i64,
    /// Jobs that ended before the client had made a place for their progress, and how.
    ended_unshown: HashMap<i64, String>,
}

struct Running {
    cancelled: Arc<AtomicBool>,
    thread: JoinHandle<()>,
    file: PathBuf,
    task: Task,
    /// Whether the client shows its progress.
    is_shown: bool,
    /// How far it is, in words.
    words: Option<String>,
}

impl Jobs {
    /// Ends one.
    pub(crate) fn cancel(&self, job: i64) {
        if let Some(running) = self.running.get(&job) {
            running.cancelled.store(true, Ordering::Relaxed);
        }
    }

    /// Ends all.
    pub(crate) fn cancel_all(&self) {
        self.running.keys().for_each(|job| self.cancel(*job));
    }

    /// Ends all and waits for them, for a while.
    pub(crate) fn end(self) {
        self.cancel_all();
        let until = Instant::now() + PATIENCE;
        let mut threads: Vec<JoinHandle<()>> = self.running.into_values().map(|running| running.thread).collect();
        while !threads.is_empty() && Instant::now() < until {
            threads.retain(|thread| !thread.is_finished());
            thread::sleep(Duration::from_millis(5));
        }
    }
}

/// One job's way to speak.
struct JobHandle {
    job: i64,
    root: PathBuf,
    events: Sender<Event>,
    cancelled: Arc<AtomicBool>,
}

impl JobHandle {
    fn put(&self, question: Asked) -> Option<String> {
        let (reply, answer) = mpsc::channel();
        let ask = JobEvent::Ask { question: Box::new(question), reply };
        self.events.send(Event::Job(ask)).ok()?;
        loop {
            match answer.recv_timeout(TICK) {
                Ok(answer) => return answer,
                Err(RecvTimeoutError::Timeout) if !self.cancelled.load(Ordering::Relaxed) => {}
                Err(_) => return None,
            }
        }
    }
}

impl JobUi for JobHandle {
    fn ask(&self, question: &Question) -> Option<String> {
        let shown = |value: &yieldtray_expression::Value| value.as_text().map_or_else(|| value.show(), str::to_owned);
        self.put(Asked {
            name: Some(question.name.clone()),
            text: question.text.clone(),
            secret: question.secret,
            default: question.default.as_ref().filter(|_| !question.secret).map(shown),
            choices: question.choices.iter().flatten().map(shown).collect(),
            root: self.root.clone(),
        })
    }

    fn confirm(&self, question: &str, yes: &str) -> bool {
        let choices = vec![yes.to_owned(), "Do not send".to_owned()];
        let (text, root) = (question.to_owned(), self.root.clone());
        let asked = Asked { name: None, text, secret: false, default: None, choices, root };
        self.put(asked).is_some_and(|answer| answer == yes)
    }

    fn progress(&self, words: &str) {
        let _ = self.events.send(Event::Job(JobEvent::Progress { job: self.job, words: words.to_owned() }));
    }

    fn cancelled(&self) -> Box<dyn Fn() -> bool> {
        let cancelled = Arc::clone(&self.cancelled);
        Box::new(move || cancelled.load(Ordering::Relaxed))
    }
}

impl Server {
    /// Begins a job. The same one twice at a time is refused.
    pub(crate) fn begin(&mut self, job: Job, title: &str) -> Result<(), String> {
        let same = |running: &Running| running.file == job.file && running.task == job.task;
        if self.jobs.running.values().any(same) {
            return Err(format!("{title} is under way already"));
        }
        self.jobs.last += 1;
        let number = self.jobs.last;
        let cancelled = Arc::new(AtomicBool::new(false));
        let (root, file, task) = (job.root.clone(), job.file.clone(), job.task.clone());
        let speaker = JobHandle {
            job: number,
            root: root.clone(),
            events: self.events.clone(),
            cancelled: Arc::clone(&cancelled),
        };
        let (desk, events) = (Arc::clone(&self.desk), self.events.clone());
        let work = move || {
            let outcome = catch_unwind(AssertUnwindSafe(|| desk.carry_out(&job, &speaker)));
            let outcome =
                outcome.unwrap_or_else(|_| Err("Yield Tray itself failed at this: please report it".to_owned()));
            let _ = events.send(Event::Job(JobEvent::Done { job: number, root, outcome }));
        };
        let thread = thread::Builder::new().name(format!("job {number}")).spawn(work);
        let thread = thread.map_err(|error| format!("cannot start: {error}"))?;
        self.jobs.running.insert(number, Running { cancelled, thread, file, task, is_shown: false, words: None });
        if self.client.shows_progress {
            // Nothing is told of it before the client has made a place for it.
            let mut begin = json!({ "kind": "begin", "title": title, "cancellable": true });
            self.ask("window/workDoneProgress/create", json!({ "token": number }), move |server, _| {
                let ended = server.jobs.ended_unshown.remove(&number);
                if let Some(running) = server.jobs.running.get_mut(&number) {
                    running.is_shown = true;
                    if let Some(words) = &running.words {
                        begin["message"] = json!(words);
                    }
                }
                server.tell("$/progress", json!({ "token": number, "value": begin }));
                if let Some(words) = ended {
                    server.tell("$/progress", json!({ "token": number, "value": { "kind": "end", "message": words } }));
                }
            });
        }
        Ok(())
    }

    /// Hears what a job says.
    pub(crate) fn hear(&mut self, told: JobEvent) {
        match told {
            JobEvent::Progress { job, words } => {
                let Some(running) = self.jobs.running.get_mut(&job) else { return };
                running.words = Some(words.clone());
                if running.is_shown {
                    let value = json!({ "kind": "report", "message": words });
                    self.tell("$/progress", json!({ "token": job, "value": value }));
                }
            }
            JobEvent::Ask { question, reply } => self.put(*question, reply),
            JobEvent::Later(work) => work(self),
            JobEvent::Done { job, root, outcome } => {
                let was_shown = self.jobs.running.remove(&job).is_some_and(|running| running.is_shown);
                let words = match &outcome {
                    Ok(done) => done.summary.clone(),
                    Err(why) => why.clone(),
                };
                if !was_shown && self.client.shows_progress {
                    self.jobs.ended_unshown.insert(job, words.clone());
                }
                if was_shown {
                    let value = json!({ "kind": "end", "message": words });
                    self.tell("$/progress", json!({ "token": job, "value": value }));
                }
                match outcome {
                    Ok(done) => self.done(&root, done),
                    Err(why) => self.say(1, &why),
                }
            }
        }
    }

    fn done(&mut self, root: &Path, done: JobResult) {
        let desk = Arc::clone(&self.desk);
        if let Some(house) = self.houses.get_mut(root) {
            house.told(&done.judged, done.findings);
            house.refresh(&*desk);
        }
        self.publish(root);
        self.refresh();
        match done.sheet {
            Some(sheet) => self.show(&sheet, false, &done.summary),
            None => self.say(if done.well { 3 } else { 2 }, &done.summary),
        }
    }

    /// Asks a person: by buttons where there are choices, by the client's own input where it has one, else by a
    /// document in which the answer is written down.
    fn put(&mut self, asked: Asked, reply: Sender<Option<String>>) {
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
            return self.ask("yieldtray/ask", params, give);
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
            return self.ask("window/showMessageRequest", params, give);
        }
        self.write_down(&asked);
        let _ = reply.send(None);
    }

    /// Lays the document in which a question is answered. Secrets are not written into files.
    fn write_down(&mut self, asked: &Asked) {
        let name = asked.name.as_deref().unwrap_or_default();
        if asked.secret {
            let message = format!(
                "`{name}` is asked for (“{}”), and this editor cannot ask without showing it. Give it in \
                 `yieldtray.local.toml`: `{name} = {{ from = \"env:…\", secret = true }}`",
                asked.text
            );
            return self.say(2, &message);
        }
        let folder = self.desk.state_folder(&asked.root);
        let laid = folder
            .and_then(|folder| crate::questions::lay(&folder, name, &asked.text).map_err(|error| error.to_string()));
        match laid {
            Ok(file) => {
                self.show(&file, true, "answer the question in this file, save it, and send again");
                self.say(3, &format!("“{}”: write the answer behind `{name} =`, save, and send again", asked.text));
            }
            Err(error) => self.say(1, &format!("the question cannot be written down: {error}")),
        }
    }
}
