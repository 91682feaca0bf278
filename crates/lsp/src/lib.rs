//! The language server of Yield Tray (Language Server Protocol 3.17). It is thin: what there is to say about a
//! text is said by core, what is sent is sent by the [`ServerHost`]; here are the wire, the state of open documents and
//! the translation of one to the other.

mod capabilities;
mod connection;
mod diagnostics;
mod documents;
mod event;
mod handlers;
mod host;
mod jobs;
mod main_loop;
mod overlay;
mod params;
mod position;
mod prompt_file;
mod server;
mod uri;
mod wire;
mod workspace_state;
mod workspaces;

pub use host::{Finding, HostError, Job, JobResult, JobUi, ResponseHistory, ServerHost, Task, TextMap};
pub use overlay::{OpenTexts, Overlay};

use event::Event;
use main_loop::MainLoop;
use server::Server;
use std::io::{BufReader, BufWriter, Read, Write};
use std::sync::{Arc, mpsc};
use std::thread;

/// Serves one client until it says `exit` or its input ends. Tells whether it ended as the protocol wants it to:
/// `shutdown` before `exit`.
pub fn serve(
    host: Arc<dyn ServerHost>,
    input: impl Read + Send + 'static,
    output: impl Write + Send + 'static,
) -> bool {
    let (events, incoming) = mpsc::channel();
    let (out, outgoing) = mpsc::channel();
    let of_client = events.clone();
    thread::spawn(move || {
        let mut input = BufReader::new(input);
        loop {
            let event = match wire::read(&mut input) {
                Ok(Some(message)) => Event::Client(message),
                Ok(None) | Err(_) => Event::Closed,
            };
            let closed = matches!(event, Event::Closed);
            if of_client.send(event).is_err() || closed {
                return;
            }
        }
    });
    let writer = thread::spawn(move || {
        let mut output = BufWriter::new(output);
        for message in outgoing {
            let message: String = message;
            if wire::write(&mut output, &message).is_err() {
                return;
            }
        }
    });
    let (job_events, from_jobs) = mpsc::channel();
    // Both kinds of events go through one channel, since the loop waits for either.
    thread::spawn(move || from_jobs.into_iter().all(|event| events.send(Event::Job(event)).is_ok()));
    let proper = MainLoop::new(Server::new(host, out, job_events)).serve(&incoming);
    let _ = writer.join();
    proper
}
