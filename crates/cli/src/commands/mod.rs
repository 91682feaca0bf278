//! One file a command.

mod allow;
mod cookies;
mod demo;
mod env;
mod export;
mod import;
mod init;
mod lint;
mod list;
pub(crate) mod log;
mod lsp;
mod prove;
mod replay;
mod replay_from_log;
mod report;
mod send;
mod tidy;
mod tray;
mod values;
mod watch;

use crate::args::{Args, Command, Later};
use crate::error::Stop;
use crate::host::Host;
use crate::output::Out;
use yieldtray_source::closest;

/// Carries the command out and gives the exit code.
pub(crate) fn run(args: Args, host: &Host, out: &mut Out) -> Result<u8, Stop> {
    let Args { common, command } = args;
    match command {
        Command::Allow(Later(args)) => allow::allow(&common, &args, out),
        Command::Demo(Later(args)) => demo::demo(&common, &args, host, out),
        Command::Export(Later(args)) => export::export(&common, &args, host, out),
        Command::Import(Later(args)) => import::import(&common, &args, host, out),
        Command::Init(Later(args)) => init::init(&common, &args, out),
        Command::Send(Later(args)) => send::send(&common, args, host, out),
        Command::Replay(Later(args)) => replay::replay(&common, &args, host, out),
        Command::Prove(Later(args)) => prove::prove(&common, &args, host, out),
        Command::Report(Later(args)) => report::report(&common, &args, out),
        Command::List(Later(args)) => list::list(&common, &args, host, out),
        Command::Values(Later(args)) => values::values(&common, &args, host, out),
        Command::Env(Later(args)) => env::env(&common, &args, host, out),
        Command::Tray(Later(args)) => tray::tray(&common, args, host, out),
        Command::Cookies(Later(args)) => cookies::cookies(&common, args, host, out),
        Command::Log(Later(args)) => log::log(&common, args, host, out),
        Command::Lint(Later(args)) => lint::lint(&common, &args, host, out),
        Command::Lsp(_) => lsp::lsp(&common),
        Command::Tidy(Later(args)) => tidy::tidy(&common, &args, out),
    }
}

/// Refuses names that are not there, before anything is done with those that are. `command` shows them.
fn expect_known(names: &[String], known: &[&str], missing: impl Fn(&str) -> String, command: &str) -> Result<(), Stop> {
    let Some(name) = names.iter().find(|name| !known.contains(&name.as_str())) else { return Ok(()) };
    let hint = match closest(name, known.iter().copied()) {
        Some(meant) => format!("did you mean `{meant}`?"),
        None => format!("`{command}` shows what is there"),
    };
    Err(Stop::refused_with(missing(name), hint))
}
