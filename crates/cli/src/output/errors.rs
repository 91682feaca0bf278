//! Errors that end a command, and the exit code that follows.

use super::Out;
use crate::error::CommandError;
use std::io;
use yieldtray_engine::ExitCode;
use yieldtray_source::Problem;
use yieldtray_workspace::Workspace;

impl Out {
    /// Shows problems, and gives the error that ends the command.
    pub(crate) fn stop_with(&mut self, workspace: &Workspace, problems: &[Problem]) -> CommandError {
        match self.problems(workspace, problems) {
            Ok(()) => CommandError::Mistakes,
            Err(error) => error.into(),
        }
    }

    /// Shows what is left to show of an error, and gives the exit code.
    pub(crate) fn report_error(&mut self, command_error: CommandError) -> ExitCode {
        let (code, message, hint) = match command_error {
            CommandError::Mistakes => return ExitCode::InvalidInput,
            CommandError::Interrupted => return ExitCode::Interrupted,
            CommandError::Refused { code, message, hint } => (code, message, hint),
            CommandError::System(error) => {
                let closed =
                    error.downcast_ref::<io::Error>().is_some_and(|error| error.kind() == io::ErrorKind::BrokenPipe);
                if closed {
                    return ExitCode::Success;
                }
                (None, format!("{error:#}"), None)
            }
        };
        let _ = self.refusal(code, &message, hint.as_deref());
        ExitCode::InvalidInput
    }
}
