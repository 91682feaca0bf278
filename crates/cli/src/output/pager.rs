//! Output longer than the terminal goes through the user's pager.

use crate::host::HostFacts;
use std::io::{self, Write};
use std::process::{Command, Stdio};

/// The user's pager and how much fits without it.
#[derive(Clone, Debug)]
pub(crate) struct Pager {
    command: String,
    height: usize,
}

impl Pager {
    /// The pager for this terminal; `None` without a terminal, a height, or a configured pager.
    pub(crate) fn of(host: &HostFacts) -> Option<Self> {
        let command = host.pager.clone().filter(|pager| !matches!(pager.trim(), "" | "cat"))?;
        Some(Self { command, height: host.height.filter(|_| host.out_is_terminal)? })
    }

    /// Shows `text` if it is long; whether it did.
    pub(crate) fn show(&self, text: &[u8]) -> io::Result<bool> {
        if text.iter().filter(|byte| **byte == b'\n').count() < self.height {
            return Ok(false);
        }
        // A shell splits it into words, as it does for every program that honours the variable.
        let (shell, flag) = if cfg!(windows) { ("cmd", "/C") } else { ("sh", "-c") };
        let mut pager = Command::new(shell);
        pager.arg(flag).arg(&self.command).stdin(Stdio::piped());
        if std::env::var_os("LESS").is_none() {
            // Colours pass, short texts stay, and the screen is left as it is.
            pager.env("LESS", "FRX");
        }
        let Ok(mut child) = pager.spawn() else { return Ok(false) };
        if let Some(mut stdin) = child.stdin.take() {
            match stdin.write_all(text) {
                // Closing the pager early is not an error.
                Err(error) if error.kind() == io::ErrorKind::BrokenPipe => {}
                other => other?,
            }
        }
        // A pager that cannot be found has shown nothing.
        Ok(child.wait()?.code() != Some(127))
    }
}
