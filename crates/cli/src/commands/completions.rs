//! `completions`: the script that makes a shell ask this program for candidates.

use crate::args::{CompletionShell, Completions};
use crate::completion::VARIABLE;
use crate::error::CommandError;
use crate::output::Out;
use clap_complete::env::{Bash, Elvish, EnvCompleter, Fish, Powershell, Zsh};
use yieldtray_engine::ExitCode;

/// Prints the script.
pub(crate) fn completions(args: &Completions, out: &mut Out) -> Result<ExitCode, CommandError> {
    let shell: &dyn EnvCompleter = match args.shell {
        CompletionShell::Bash => &Bash,
        CompletionShell::Zsh => &Zsh,
        CompletionShell::Fish => &Fish,
        CompletionShell::Powershell => &Powershell,
        CompletionShell::Elvish => &Elvish,
    };
    shell.write_registration(VARIABLE, "yieldtray", "yieldtray", "yieldtray", out.result())?;
    Ok(ExitCode::Success)
}
