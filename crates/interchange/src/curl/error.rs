//! Why a curl command cannot be imported.

use crate::draft::RequestError;
use thiserror::Error;
use yieldtray_syntax::shell::ShellError;

/// Why a file that an option names cannot be read.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ReadFileError {
    /// It cannot be opened or read.
    #[error("cannot read `{file}`: {error}")]
    Read {
        /// The file as the option names it.
        file: String,
        /// Why.
        error: String,
    },
    /// It is not UTF-8.
    #[error("`{0}` is not UTF-8 text")]
    NotUtf8(String),
}

/// Why a curl command cannot be imported.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum CurlError {
    /// The text is not a command of curl.
    #[error("this is not a curl command")]
    NotCurl,
    /// It is a command of another program.
    #[error("`{0}` is not a curl command")]
    OtherProgram(String),
    /// It cannot be split into words.
    #[error(transparent)]
    Shell(#[from] ShellError),
    /// It cannot be written as a cell.
    #[error(transparent)]
    Request(#[from] RequestError),
    /// The value of this option is missing.
    #[error("`{0}` is missing its value")]
    MissingValue(String),
    /// This option is not known.
    #[error("unsupported option `{0}`: omit it if it does not matter")]
    UnknownOption(String),
    /// It has no URL.
    #[error("the command has no URL")]
    NoAddress,
    /// The value of this option has no `=`.
    #[error("`{0}` is missing a `=`")]
    MissingEquals(String),
    /// This option names a file of options.
    #[error("`{0}` names an options file, which is not supported")]
    OptionsFile(String),
    /// The time limit is longer than one that a cell can have.
    #[error("`{option} {seconds}` is longer than a day")]
    LongTimeout {
        /// The option.
        option: String,
        /// Its value.
        seconds: f64,
    },
    /// The value of this option is not a number of seconds.
    #[error("`{0}` expects seconds")]
    NotSeconds(String),
    /// A variable of the shell where only a text can be.
    #[error("a variable in {0}")]
    VariableIn(&'static str),
    /// Header fields are in a file, and files are not read.
    #[error("headers from a file are not supported: write them one by one")]
    HeaderFile,
    /// The file of header fields cannot be read.
    #[error(transparent)]
    ReadFile(#[from] ReadFileError),
    /// The body is in the standard input, which is not known.
    #[error("a body from standard input is not supported: put it in a file")]
    BodyFromInput,
    /// The text to encode is in the standard input.
    #[error("`{0}` from standard input is not supported: put it in a file")]
    EncodedInput(String),
    /// The body has a file and more.
    #[error("a body combined from a file and other data is not supported")]
    JoinedBody,
    /// The body is a form and more.
    #[error("a multipart form cannot be combined with another body")]
    PartsAndBody,
    /// The URL has a pattern for several.
    #[error("`{0}` expands to several URLs: write them one by one")]
    SeveralAddresses(String),
}

impl CurlError {
    /// The part of the command that it is about, as it is written there; `None` for the whole command.
    pub fn part(&self) -> Option<&str> {
        match self {
            Self::OtherProgram(part)
            | Self::MissingValue(part)
            | Self::UnknownOption(part)
            | Self::MissingEquals(part)
            | Self::OptionsFile(part)
            | Self::LongTimeout { option: part, .. }
            | Self::NotSeconds(part)
            | Self::EncodedInput(part)
            | Self::SeveralAddresses(part)
            | Self::Shell(ShellError::Expansion(part))
            | Self::Request(RequestError::Scheme(part) | RequestError::HeaderValue(part))
            | Self::ReadFile(ReadFileError::Read { file: part, .. } | ReadFileError::NotUtf8(part)) => Some(part),
            Self::Shell(ShellError::Unclosed(quote)) => Some(quote),
            Self::Shell(ShellError::Background) => Some("&"),
            Self::Shell(ShellError::WindowsInput) => Some("<"),
            Self::NotCurl
            | Self::NoAddress
            | Self::VariableIn(_)
            | Self::HeaderFile
            | Self::BodyFromInput
            | Self::JoinedBody
            | Self::PartsAndBody
            | Self::Shell(ShellError::NestedCommand | ShellError::NotUtf8 | ShellError::NotACharacter(_))
            | Self::Request(RequestError::Method | RequestError::HeaderName) => None,
        }
    }
}
