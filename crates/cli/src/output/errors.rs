//! Errors that end a command, and the exit code that follows.

use super::Out;
use crate::error::Stop;
use std::io;
use std::process::ExitCode;
use yieldtray_source::Problem;
use yieldtray_workspace::Workspace;

impl Out {
    /// Shows problems, and gives the error that ends the command.
    pub(crate) fn stop_with(&mut self, workspace: &Workspace, problems: &[Problem]) -> Stop {
        match self.problems(workspace, problems) {
            Ok(()) => Stop::Mistakes,
            Err(error) => error.into(),
        }
    }

    /// Shows what is left to show of an error, and gives the exit code.
    pub(crate) fn report_error(&mut self, stop: Stop) -> ExitCode {
        let (code, message, hint) = match stop {
            Stop::Mistakes => return ExitCode::from(2),
            Stop::Interrupted => return ExitCode::from(130),
            Stop::Refused { code, message, hint } => (code, message, hint),
            Stop::System(error) => {
                let closed =
                    error.downcast_ref::<io::Error>().is_some_and(|error| error.kind() == io::ErrorKind::BrokenPipe);
                if closed {
                    return ExitCode::SUCCESS;
                }
                (None, format!("{error:#}"), None)
            }
        };
        let _ = self.refusal(code, &message, hint.as_deref());
        ExitCode::from(2)
    }
}
