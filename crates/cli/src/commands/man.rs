//! `man`: the manual pages, one for each command.

use crate::args::{Args, Man};
use crate::error::CommandError;
use crate::output::Out;
use anyhow::Context;
use std::io::Write;
use yieldtray_engine::ExitCode;

/// Writes the pages to a directory.
pub(crate) fn man(args: &Man, out: &mut Out) -> Result<ExitCode, CommandError> {
    let cannot = || format!("cannot write to `{}`", args.folder.display());
    std::fs::create_dir_all(&args.folder).with_context(cannot)?;
    // Manual pages list the commands in their own section, without the groups.
    let command = Args::grouped().help_template("{all-args}");
    clap_mangen::generate_to(command, &args.folder).with_context(cannot)?;
    if !out.settings.quiet {
        let number = std::fs::read_dir(&args.folder).with_context(cannot)?.count();
        writeln!(out.result(), "{number} manual pages written to {}", args.folder.display())?;
    }
    Ok(ExitCode::Success)
}
