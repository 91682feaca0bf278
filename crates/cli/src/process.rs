//! Running a command of the private configuration for the value it prints.

use std::io::Read;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

/// Whether a process of this machine is there.
pub(crate) fn is_alive(process: u32) -> bool {
    #[cfg(unix)]
    {
        let id = i32::try_from(process).ok().and_then(rustix::process::Pid::from_raw);
        // One that belongs to somebody else is there too.
        id.is_some_and(|id| rustix::process::test_kill_process(id) != Err(rustix::io::Errno::SRCH))
    }
    #[cfg(not(unix))]
    {
        let _ = process;
        true
    }
}

/// How long a command may take. Somebody may have to type a passphrase meanwhile.
const COMMAND_TIMEOUT: Duration = Duration::from_secs(60);

/// The most that is taken of what a command writes.
const MAX_OUTPUT_BYTES: u64 = 1 << 20;

/// The standard output of `command`, run in `folder`. The error says how it failed, with its standard error.
pub(crate) fn output(command: &[String], folder: &Path) -> Result<Vec<u8>, String> {
    run(command, folder, COMMAND_TIMEOUT)
}

fn run(command: &[String], folder: &Path, limit: Duration) -> Result<Vec<u8>, String> {
    let (program, arguments) = command.split_first().ok_or("which is empty")?;
    let started = Command::new(program)
        .args(arguments)
        .current_dir(folder)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn();
    let mut child = started.map_err(|error| format!("which could not be started: {error}"))?;
    // Read by threads: a program that writes much to one of the two must not wait for the other. They
    // hand over through channels, since what the program has started may keep a pipe open for ever.
    let out = drain(child.stdout.take());
    let errors = drain(child.stderr.take());
    let until = Instant::now() + limit;
    let status = loop {
        match child.try_wait() {
            Ok(Some(status)) => break status,
            Ok(None) if Instant::now() < until => thread::sleep(Duration::from_millis(2)),
            Ok(None) => {
                let _ = child.kill();
                let _ = child.wait();
                return Err(format!("which did not finish within {} s", limit.as_secs_f64()));
            }
            Err(error) => return Err(format!("whose result could not be read: {error}")),
        }
    };
    let soon = Duration::from_secs(2);
    if status.success() {
        return out.recv_timeout(soon).map_err(|_| "which did not close its output".to_owned());
    }
    let errors = errors.recv_timeout(soon).unwrap_or_default();
    let errors = String::from_utf8_lossy(&errors);
    let how = status.code().map_or_else(|| "was killed by a signal".to_owned(), |code| format!("failed with {code}"));
    match errors.trim() {
        "" => Err(format!("which {how} without a message")),
        said => Err(format!("which {how}: {said}")),
    }
}

fn drain(pipe: Option<impl Read + Send + 'static>) -> mpsc::Receiver<Vec<u8>> {
    let (sender, receiver) = mpsc::channel();
    thread::spawn(move || {
        let mut bytes = Vec::new();
        if let Some(mut pipe) = pipe {
            let _ = pipe.by_ref().take(MAX_OUTPUT_BYTES).read_to_end(&mut bytes);
            // Output beyond the limit is read and dropped, or the program would block.
            let _ = std::io::copy(&mut pipe, &mut std::io::sink());
        }
        let _ = sender.send(bytes);
    });
    receiver
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;

    fn shell(script: &str, limit: Duration) -> Result<String, String> {
        let command = ["sh", "-c", script].map(str::to_owned);
        run(&command, Path::new("/"), limit).map(|bytes| String::from_utf8_lossy(&bytes).into_owned())
    }

    #[test]
    fn a_command_gives_its_output_or_says_how_it_failed() {
        let long = Duration::from_secs(20);
        assert_eq!(shell("echo windfall; echo chat >&2", long).as_deref(), Ok("windfall\n"));
        assert_eq!(shell("echo no store >&2; exit 3", long), Err("which failed with 3: no store".to_owned()));
        assert_eq!(shell("exit 1", long), Err("which failed with 1 without a message".to_owned()));
        let slow = shell("sleep 20", Duration::from_millis(50));
        assert_eq!(slow, Err("which did not finish within 0.05 s".to_owned()));
        let missing = output(&["no-such-program-here".to_owned()], Path::new("/")).expect_err("it is not there");
        assert!(missing.starts_with("which could not be started: "), "{missing}");
        let large = shell("yes | head -c 3000000", long).expect("it ends");
        assert_eq!(large.len() as u64, MAX_OUTPUT_BYTES);
    }
}
