//! The command line. Nothing is decided here: what the options come to is worked out where they are used.

use clap::{Args as Group, Parser, Subcommand, ValueEnum};
use std::path::PathBuf;

/// Keeps API requests as plain text beside the code, sends them, and replays them with checks.
#[derive(Debug, Parser)]
#[command(name = "yieldtray", version, max_term_width = 100, arg_required_else_help = true)]
#[command(after_help = "Example: yieldtray demo --keep packhouse")]
pub(crate) struct Args {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

/// Options of every command.
#[derive(Debug, Group)]
pub(crate) struct Common {
    /// Work in DIR as if started there
    #[arg(short = 'C', global = true, value_name = "DIR", display_order = 100)]
    pub(crate) directory: Option<PathBuf>,
    /// The environment whose values are used [default: YIELDTRAY_ENV, then yieldtray.toml]
    #[arg(short, long, global = true, value_name = "NAME", display_order = 101)]
    pub(crate) env: Option<String>,
    /// Give a value for this time; it wins over every other (repeatable)
    #[arg(long, global = true, value_name = "NAME=VALUE", display_order = 102)]
    pub(crate) set: Vec<String>,
    /// Print data instead of text; the shapes are described in docs/commands.md
    #[arg(long, global = true, display_order = 103)]
    pub(crate) json: bool,
    /// When to colour: on a terminal, always or never (NO_COLOR is honoured)
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto", display_order = 104)]
    pub(crate) color: Color,
    /// Say only what went wrong
    #[arg(short, long, global = true, display_order = 105)]
    pub(crate) quiet: bool,
    /// Log what happens to standard error
    #[arg(short, long, global = true, display_order = 106)]
    pub(crate) verbose: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start a made-up packhouse API on loopback, lay a workspace, replay it
    #[command(after_help = "Example: yieldtray demo --keep packhouse --serve")]
    Demo(Demo),
    /// Lay a small workspace to start from
    #[command(after_help = "Example: yieldtray init api")]
    Init(Init),
    /// Send one request
    #[command(after_help = "Examples:
  yieldtray send requests/intake.http#book-lot --needs send
  yieldtray send requests/intake.http:31
  yieldtray send --text 'GET /lots' --pick 'body.lots.map(l, l.id)'")]
    Send(Send),
    /// Send many requests in order and judge their checks
    #[command(after_help = "Example: yieldtray replay requests --tag smoke -e bench")]
    Replay(Replay),
    /// List the requests there are
    #[command(after_help = "Example: yieldtray list requests/intake.http")]
    List(List),
}

#[derive(Debug, Group)]
pub(crate) struct Demo {
    /// Leave the workspace in DIR, which must be empty or not there
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,
    /// Keep the API running afterwards, until interrupted
    #[arg(long)]
    pub(crate) serve: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Init {
    /// The folder to lay it in; made if it is not there
    #[arg(value_name = "DIR", default_value = ".")]
    pub(crate) folder: PathBuf,
}

#[derive(Debug, Group)]
pub(crate) struct Send {
    /// FILE.http#NAME, FILE.http:LINE, FILE.http with one cell, a bare NAME, or - for standard input
    #[arg(value_name = "WHERE", required_unless_present = "text", conflicts_with = "text")]
    pub(crate) place: Option<String>,
    /// Send this request instead of one from a file
    #[arg(long, value_name = "REQUEST")]
    pub(crate) text: Option<String>,
    /// What to print of the exchange: head, body, sent, timeline, all (comma-separated)
    #[arg(long, value_name = "PARTS", value_delimiter = ',')]
    pub(crate) show: Vec<Part>,
    /// Print one expression of the response and nothing else: text bare, the rest as JSON
    #[arg(long, value_name = "EXPR", conflicts_with_all = ["show", "json"])]
    pub(crate) pick: Option<String>,
    /// Write the response body to FILE
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Whether to send the cells this one needs before it
    #[arg(long, value_name = "WHETHER", default_value = "never")]
    pub(crate) needs: Needs,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Part {
    /// Status line and header fields of the response
    Head,
    /// The response's body
    Body,
    /// The request as it went out
    Sent,
    /// How long what took
    Timeline,
    /// All of these
    All,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Needs {
    /// Send them first
    Send,
    /// Send this one alone
    Never,
}

#[derive(Debug, Group)]
pub(crate) struct Replay {
    /// Folders, FILE.http, FILE.http:LINE, FILE.http#NAME or bare names [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Only cells of this name; `*` stands for any characters (repeatable, comma-separated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) only: Vec<String>,
    /// Only cells with one of these tags (repeatable, comma-separated)
    #[arg(long, value_name = "TAG", value_delimiter = ',')]
    pub(crate) tag: Vec<String>,
    /// Send nothing more after the first failure
    #[arg(long)]
    pub(crate) fail_fast: bool,
}

#[derive(Debug, Group)]
pub(crate) struct List {
    /// As for replay [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
}
