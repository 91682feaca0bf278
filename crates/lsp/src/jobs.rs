//! Jobs that take long run on threads of their own. They send messages to the loop, which alone talks to the client.

use crate::host::{HostError, Job, JobResult, JobUi, ServerHost, Task};
use std::collections::HashMap;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{self, RecvTimeoutError, Sender};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};
use thiserror::Error;
use yieldtray_engine::Question;

/// The interval at which a waiting job checks whether it was canceled.
const TICK: Duration = Duration::from_millis(50);

/// The time that the end of the session waits for running jobs.
const SHUTDOWN_TIMEOUT: Duration = Duration::from_secs(3);

/// Why a job has no result.
#[derive(Debug, Error)]
pub(crate) enum JobError {
    #[error("{0} is already running")]
    UnderWay(String),
    #[error("cannot start: {0}")]
    Thread(io::Error),
    #[error(transparent)]
    Failed(HostError),
    #[error("internal error: please report it")]
    Panicked,
}

/// The events of jobs.
pub(crate) enum JobEvent {
    /// How far one is.
    Progress { job: i64, message: String },
    /// A person is to see a web page, which is opened if `opens`.
    ShowPage { message: String, url: String, opens: bool },
    /// It asks a person something.
    Ask { question: Box<Asked>, reply: Sender<Option<String>> },
    /// It is over.
    Done { job: i64, root: PathBuf, outcome: Result<JobResult, JobError> },
}

/// Something a person is asked.
pub(crate) struct Asked {
    /// The name of the value, if one is asked for.
    pub(crate) name: Option<String>,
    pub(crate) text: String,
    pub(crate) secret: bool,
    pub(crate) default: Option<String>,
    /// The choices of a prompt that does not allow other answers.
    pub(crate) choices: Vec<String>,
    /// The workspace's root.
    pub(crate) root: PathBuf,
}

/// A running job.
#[derive(Default)]
pub(crate) struct JobRunner {
    running: HashMap<i64, RunningJob>,
    last: i64,
    /// Jobs that ended before the client had made a place for their progress, and how.
    ended_unshown: HashMap<i64, String>,
}

struct RunningJob {
    cancelled: Arc<AtomicBool>,
    thread: JoinHandle<()>,
    file: PathBuf,
    task: Task,
    /// Whether the client shows its progress.
    has_progress: bool,
    /// How far it is, in words.
    message: Option<String>,
}

impl JobRunner {
    /// Starts a job on a thread of its own. The same one twice at a time is refused. Gives its number.
    pub(crate) fn start(
        &mut self,
        job: Job,
        title: &str,
        host: Arc<dyn ServerHost>,
        events: Sender<JobEvent>,
    ) -> Result<i64, JobError> {
        let is_same = |running: &RunningJob| running.file == job.file && running.task == job.task;
        if self.running.values().any(is_same) {
            return Err(JobError::UnderWay(title.to_owned()));
        }
        self.last += 1;
        let number = self.last;
        let cancelled = Arc::new(AtomicBool::new(false));
        let (root, file, task) = (job.root.clone(), job.file.clone(), job.task.clone());
        let handle =
            JobHandle { job: number, root: root.clone(), events: events.clone(), cancelled: Arc::clone(&cancelled) };
        let work = move || {
            let outcome = catch_unwind(AssertUnwindSafe(|| host.run_job(&job, &handle)));
            let outcome = outcome.map_or(Err(JobError::Panicked), |outcome| outcome.map_err(JobError::Failed));
            let _ = events.send(JobEvent::Done { job: number, root, outcome });
        };
        let thread = thread::Builder::new().name(format!("job {number}")).spawn(work);
        let thread = thread.map_err(JobError::Thread)?;
        let running = RunningJob { cancelled, thread, file, task, has_progress: false, message: None };
        self.running.insert(number, running);
        Ok(number)
    }

    /// Notes that the client shows the progress of a job. Gives what the job said so far, or how it ended.
    pub(crate) fn show_progress(&mut self, job: i64) -> ShownProgress {
        let ended = self.ended_unshown.remove(&job);
        let running = self.running.get_mut(&job);
        let message = running.and_then(|running| {
            running.has_progress = true;
            running.message.clone()
        });
        ShownProgress { message, ended }
    }

    /// Notes what a job says. Returns whether the client shows its progress.
    pub(crate) fn note_progress(&mut self, job: i64, message: &str) -> bool {
        let Some(running) = self.running.get_mut(&job) else { return false };
        running.message = Some(message.to_owned());
        running.has_progress
    }

    /// Records that a job has ended. Returns true if the client shows its progress; if that is still being created,
    /// its end is reported later.
    pub(crate) fn finish(&mut self, job: i64, message: &str, client_shows_progress: bool) -> bool {
        let is_shown = self.running.remove(&job).is_some_and(|running| running.has_progress);
        if !is_shown && client_shows_progress {
            self.ended_unshown.insert(job, message.to_owned());
        }
        is_shown
    }

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
        let until = Instant::now() + SHUTDOWN_TIMEOUT;
        let mut threads: Vec<JoinHandle<()>> = self.running.into_values().map(|running| running.thread).collect();
        while !threads.is_empty() && Instant::now() < until {
            threads.retain(|thread| !thread.is_finished());
            thread::sleep(Duration::from_millis(5));
        }
    }
}

/// The state of a job when the client begins to show its progress.
pub(crate) struct ShownProgress {
    pub(crate) message: Option<String>,
    pub(crate) ended: Option<String>,
}

/// The handle by which a job talks to the loop.
struct JobHandle {
    job: i64,
    root: PathBuf,
    events: Sender<JobEvent>,
    cancelled: Arc<AtomicBool>,
}

impl JobHandle {
    fn put(&self, question: Asked) -> Option<String> {
        let (reply, answer) = mpsc::channel();
        let ask = JobEvent::Ask { question: Box::new(question), reply };
        self.events.send(ask).ok()?;
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

    fn progress(&self, message: &str) {
        let _ = self.events.send(JobEvent::Progress { job: self.job, message: message.to_owned() });
    }

    fn show_page(&self, message: &str, url: &str, opens: bool) {
        let (message, url) = (message.to_owned(), url.to_owned());
        let _ = self.events.send(JobEvent::ShowPage { message, url, opens });
    }

    fn cancelled(&self) -> Box<dyn Fn() -> bool> {
        let cancelled = Arc::clone(&self.cancelled);
        Box::new(move || cancelled.load(Ordering::Relaxed))
    }
}
