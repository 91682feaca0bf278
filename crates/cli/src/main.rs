//! `yieldtray`: keeps API requests as plain text, sends them, and replays them with checks.
//!
//! The binary is thin: it reads arguments and files, asks the libraries what to do, sends
//! the requests they prepare, and shows what they report.

mod append;
mod args;
mod clock;
mod commands;
mod completion;
mod confirm;
mod described_request;
mod edit;
mod editor;
mod error;
mod export;
mod files;
mod git;
mod host;
mod import;
mod interrupt;
mod output;
mod process;
mod project;
mod prompt;
mod run;
mod settings;
mod styles;
#[cfg(test)]
mod testing;
mod topics;

use error::CommandError;
use host::HostFacts;

use yieldtray_engine::ExitCode;

fn main() -> std::process::ExitCode {
    std::panic::set_hook(Box::new(report_panic));
    completion::answer_shell();
    let args = match args::Args::read() {
        Ok(args) => args,
        // Help and version go to standard output and are not an error.
        Err(error) if !error.use_stderr() => {
            let _ = error.print();
            return std::process::ExitCode::SUCCESS;
        }
        Err(error) => {
            let _ = match args::wants_data() {
                true => output::refused_arguments(&error.render().to_string()),
                false => error.print(),
            };
            return ExitCode::InvalidInput.code().into();
        }
    };
    let host = HostFacts::detect();
    let mut out = output::Out::new(settings::OutputSettings::resolve(&args.common, &host));
    if args.common.verbose {
        start_logging();
    }
    let outcome = commands::run(args, &host, &mut out);
    out.print_last_warning();
    let outcome = outcome.and_then(|code| out.flush().map(|()| code).map_err(CommandError::from));
    match outcome {
        Ok(code) => code,
        Err(error) => out.report_error(error),
    }
    .code()
    .into()
}

/// Reports the place of a panic. Its message may contain secrets, so it is left out; the caller that continues reports
/// it masked.
#[allow(clippy::print_stderr)]
fn report_panic(failure: &std::panic::PanicHookInfo<'_>) {
    if let Some(place) = failure.location() {
        eprintln!("internal error at {place}: please report it");
    }
}

/// The log of what happens, on standard error. It names methods, statuses and sizes, never values.
fn start_logging() {
    tracing_subscriber::fmt()
        .with_writer(std::io::stderr)
        .with_ansi(false)
        .with_max_level(tracing::Level::DEBUG)
        .with_target(false)
        .init();
}
