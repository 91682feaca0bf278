//! How a command ends, for the shell that started it.

/// How a command ends. Of several that hold, the largest counts.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub enum ExitCode {
    /// 0: everything passed.
    #[default]
    Success = 0,
    /// 1: a check or a yield failed, or a comparison found a difference.
    Failed = 1,
    /// 2: an error in a file, a value or an option, or the system failed.
    InvalidInput = 2,
    /// 3: a request got no usable response.
    NoResponse = 3,
    /// 130: interrupted, as shells report SIGINT.
    Interrupted = 130,
}

impl ExitCode {
    /// `Failed` or `Success`.
    pub fn failed_if(failed: bool) -> Self {
        if failed { Self::Failed } else { Self::Success }
    }

    /// `InvalidInput` or `Success`.
    pub fn invalid_input_if(invalid: bool) -> Self {
        if invalid { Self::InvalidInput } else { Self::Success }
    }

    /// The number, from 0 to 255.
    pub fn code(self) -> u8 {
        self as u8
    }
}
