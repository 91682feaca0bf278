//! The commands, one in each file.

mod allow;
mod api;
mod completions;
mod cookies;
mod demo;
mod env;
mod export;
mod help;
mod import;
mod init;
mod lint;
mod list;
pub(crate) mod log;
mod lsp;
mod man;
mod prove;
mod replay;
mod replay_from_log;
mod report;
mod secret;
mod send;
mod tidy;
mod token;
mod touched;
mod tray;
mod values;
mod watch;

use crate::args::{Args, Command, LazyArgs};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use yieldtray_engine::ExitCode;
use yieldtray_source::closest;

/// Runs the command and returns the exit code.
pub(crate) fn run(args: Args, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let Args { common, command } = args;
    match command {
        Command::Api(LazyArgs(args)) => api::api(&common, args, host, out),
        Command::Allow(LazyArgs(args)) => allow::allow(&common, &args, out),
        Command::Demo(LazyArgs(args)) => demo::demo(&common, &args, host, out),
        Command::Export(LazyArgs(args)) => export::export(&common, &args, host, out),
        Command::Import(LazyArgs(args)) => import::import(&common, &args, host, out),
        Command::Init(LazyArgs(args)) => init::init(&common, &args, host, out),
        Command::Secret(LazyArgs(args)) => secret::secret(&common, args, host, out),
        Command::Send(LazyArgs(args)) => send::send(&common, args, host, out),
        Command::Replay(LazyArgs(args)) if args.watch => watch::watch(&common, &args, host, out),
        Command::Replay(LazyArgs(args)) => replay::replay(&common, &args, host, out),
        Command::Prove(LazyArgs(args)) => prove::prove(&common, &args, host, out),
        Command::Report(LazyArgs(args)) => report::report(&common, &args, out),
        Command::List(LazyArgs(args)) => list::list(&common, &args, host, out),
        Command::Values(LazyArgs(args)) => values::values(&common, &args, host, out),
        Command::Env(LazyArgs(args)) => env::env(&common, &args, host, out),
        Command::Tray(LazyArgs(args)) => tray::tray(&common, args, host, out),
        Command::Cookies(LazyArgs(args)) => cookies::cookies(&common, args, host, out),
        Command::Token(LazyArgs(args)) => token::token(&common, args, host, out),
        Command::Log(LazyArgs(args)) => log::log(&common, args, host, out),
        Command::Lint(LazyArgs(args)) => lint::lint(&common, &args, host, out),
        Command::Lsp(_) => lsp::lsp(&common),
        Command::Completions(LazyArgs(args)) => completions::completions(&args, out),
        Command::Man(LazyArgs(args)) => man::man(&args, out),
        Command::Help(LazyArgs(args)) => help::help(&args, out),
        Command::Tidy(LazyArgs(args)) => tidy::tidy(&common, &args, out),
    }
}

/// Refuses names that are not there, before anything is done with those that are. `command` shows them.
fn expect_known(
    names: &[String],
    known: &[&str],
    missing: impl Fn(&str) -> String,
    command: &str,
) -> Result<(), CommandError> {
    let Some(name) = names.iter().find(|name| !known.contains(&name.as_str())) else { return Ok(()) };
    let hint = match closest(name, known.iter().copied()) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None => format!("see `{command}`"),
    };
    Err(CommandError::refused_with(missing(name), hint))
}
