//! Why a command ends early.

use std::io;
use yieldtray_source::{Code, Problem};

/// Why a command ends early.
#[derive(Debug)]
pub(crate) enum CommandError {
    /// Mistakes in files, values or options, already shown: exit 2.
    Mistakes,
    /// An error in the options or around the files: not yet shown, exit 2.
    Refused {
        /// Its stable name, where it has one.
        code: Option<Code>,
        /// The message.
        message: String,
        /// How to correct it.
        hint: Option<String>,
    },
    /// Somebody pressed Ctrl-C at a question: exit 130.
    Interrupted,
    /// A system error: exit 2. A closed pipe is not an error.
    System(anyhow::Error),
}

impl CommandError {
    /// It in one line, with its hint, where it is only a part of something else.
    pub(crate) fn one_line(&self) -> String {
        match self {
            CommandError::Refused { message, hint: Some(hint), .. } => format!("{message}; {hint}"),
            CommandError::Refused { message, .. } => message.clone(),
            CommandError::System(error) => error.to_string(),
            CommandError::Mistakes | CommandError::Interrupted => "it was not read".to_owned(),
        }
    }

    /// A refusal without a hint.
    pub(crate) fn refused(message: impl ToString) -> Self {
        CommandError::Refused { code: None, message: message.to_string(), hint: None }
    }

    /// A refusal with what to do instead.
    pub(crate) fn refused_with(message: impl Into<String>, hint: impl Into<String>) -> Self {
        CommandError::Refused { code: None, message: message.into(), hint: Some(hint.into()) }
    }
}

/// A problem that has no place in a text.
impl From<Problem> for CommandError {
    fn from(problem: Problem) -> Self {
        CommandError::Refused { code: Some(problem.code), message: problem.message, hint: problem.hint }
    }
}

impl From<yieldtray_store::Error> for CommandError {
    fn from(error: yieldtray_store::Error) -> Self {
        CommandError::refused(error)
    }
}

impl From<io::Error> for CommandError {
    fn from(error: io::Error) -> Self {
        CommandError::System(error.into())
    }
}

impl From<anyhow::Error> for CommandError {
    fn from(error: anyhow::Error) -> Self {
        CommandError::System(error)
    }
}
