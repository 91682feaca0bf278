//! The command line. Nothing is decided here: what the options come to is worked out where they are used.

mod common;
mod export;
mod import;
mod lazy;
mod log;
pub(crate) mod time;

use clap::error::Error;
use clap::{ArgMatches, Args as Group, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};
pub(crate) use common::{Color, Common};
pub(crate) use export::{Export, OnOff};
pub(crate) use import::{Import, ImportCurl, ImportFrom, ImportHar, ImportOpenapi, ImportTarget};
pub(crate) use lazy::LazyArgs;
pub(crate) use log::{
    CompareArgs, DisplayArgs, ExportFormat, Log, LogAction, LogAgain, LogClear, LogCompare, LogDrop, LogExport,
    LogFilter, LogShow, LogTrend,
};
use std::path::PathBuf;
use std::str::FromStr;
use yieldtray_report::ReportKind;
use yieldtray_source::{closest, join_words};

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

impl Args {
    /// The command line of this process.
    pub(crate) fn read() -> Result<Self, Error> {
        let mut command = Self::command();
        let read = command.try_get_matches_from_mut(std::env::args_os());
        let read = read.and_then(Self::of);
        let read = read.map_err(|error| error.format(&mut command));
        // It is made of thousands of pieces. The process gives them all back at once, and sooner.
        std::mem::forget(command);
        read
    }

    /// What was found; the options of every command stand before a command or behind it.
    fn of(mut matches: ArgMatches) -> Result<Self, Error> {
        let mut behind = Vec::new();
        let mut below = matches.subcommand();
        while let Some((_, matches)) = below {
            behind.push(Common::of(matches));
            below = matches.subcommand();
        }
        let Self { common, command } = Self::from_arg_matches_mut(&mut matches)?;
        Ok(Self { common: behind.into_iter().fold(common, |outer, own| own.within(outer)), command })
    }
}

/// Whether data is asked for, by arguments that cannot be read.
pub(crate) fn wants_data() -> bool {
    std::env::args_os().take_while(|argument| argument != "--").any(|argument| argument == "--json")
}

#[derive(Debug, Subcommand)]
pub(crate) enum Command {
    /// Start a made-up packhouse API on loopback, lay a workspace, replay it
    #[command(after_help = "Example: yieldtray demo --keep packhouse --serve")]
    Demo(LazyArgs<Demo>),
    /// Lay a small workspace to start from
    #[command(after_help = "Example: yieldtray init api")]
    Init(LazyArgs<Init>),
    /// Send one request
    #[command(after_help = "Examples:
  yieldtray send requests/intake.http#book-lot --needs send
  yieldtray send requests/intake.http:31
  yieldtray send --text 'GET /lots' --pick 'body.lots.map(l, l.id)'
  yieldtray send stock.http --out stock.csv --show timeline
  yieldtray send --text 'GET /lots?state=open' --append requests/lots.http")]
    Send(LazyArgs<Send>),
    /// Send many requests in order and judge their checks
    #[command(after_help = "Examples:
  yieldtray replay requests --tag smoke -e bench
  yieldtray replay --jobs 8 --fail-fast
  yieldtray replay requests/intake.http --watch")]
    Replay(LazyArgs<Replay>),
    /// Find out what the checks would not notice, by altering what comes back
    #[command(after_help = "Examples:
  yieldtray prove requests/intake.http
  yieldtray prove --least 60

Each request is sent once. Its answer is then altered in one respect at a time, without sending anything
more: another status, no body, each field of a JSON body missing, null, of another type or with another
value, a header field less, another content type, very slow.")]
    Prove(LazyArgs<Prove>),
    /// Work with the reports that `replay` wrote
    #[command(after_help = "Example: yieldtray report merge part-*.json --report html=replay.html")]
    Report(LazyArgs<Report>),
    /// List the requests there are
    #[command(after_help = "Examples:
  yieldtray list requests/intake.http
  yieldtray list --graph=dot > graph.dot")]
    List(LazyArgs<List>),
    /// Show what each name is now and where it comes from
    #[command(after_help = "Examples:
  yieldtray values book-lot
  yieldtray values --across
  yieldtray values --functions")]
    Values(LazyArgs<Values>),
    /// Show the environments, or choose one for this checkout
    #[command(after_help = "Examples:
  yieldtray env live
  yieldtray env rehearsal --like bench")]
    Env(LazyArgs<Env>),
    /// Let a workspace run its commands and read files, variables and keys outside its directory
    #[command(after_help = "Examples:
  yieldtray allow
  yieldtray allow --list
  yieldtray allow --revoke ../packhouse

A workspace that was cloned does none of this by itself. What is allowed is
the private configuration as it is now: a change of it has to be allowed
again. docs/trust.md says what a workspace can do before and after.")]
    Allow(LazyArgs<Allow>),
    /// Show what responses yielded, or drop some of it
    #[command(after_help = "Examples:
  yieldtray tray
  yieldtray tray drop token")]
    Tray(LazyArgs<Tray>),
    /// Show the cookies, or drop some of them
    #[command(after_help = "Examples:
  yieldtray cookies
  yieldtray cookies drop packhouse_session")]
    Cookies(LazyArgs<Cookies>),
    /// Show past exchanges, look at one again, send it again, compare
    #[command(
        args_conflicts_with_subcommands = true,
        after_help = "Examples:
  yieldtray log --failed --since 2h
  yieldtray log --grep L-2043
  yieldtray log show 41 --show head,body
  yieldtray log compare 41"
    )]
    Log(LazyArgs<Log>),
    /// Find mistakes and oddities without sending anything
    #[command(after_help = "Examples:
  yieldtray lint requests
  yieldtray lint --staged
  yieldtray lint --report sarif=lint.sarif

How much each class of finding matters is said in `[lint]` of yieldtray.toml.
A comment above it leaves a single one out: `# accepted unused-yield: read by the night shift`.")]
    Lint(LazyArgs<Lint>),
    /// Serve an editor: the Language Server Protocol 3.17 on standard input and output
    #[command(after_help = "Example, for an editor's settings: yieldtray lsp

How to set up editors is described in docs/editors.md.")]
    Lsp(LazyArgs<NoArgs>),
    /// Hand a request over as a shell command, as code, or in a format
    #[command(after_help = "Examples:
  yieldtray export book-lot --as shell
  yieldtray export requests/intake.http --as python
  yieldtray export list-lots --as go --with-values off
  yieldtray export --targets

Secrets never stand in it: it reads them from the environment.")]
    Export(LazyArgs<Export>),
    /// Take requests in that others hand you
    #[command(after_help = "Example: yieldtray import curl \"curl -d bins=24 http://127.0.0.1:4616/lots\"")]
    Import(LazyArgs<Import>),
    /// Lay request files out in one style; what is sent stays the same
    #[command(after_help = "Examples:
  yieldtray tidy
  yieldtray tidy --verify requests
  yieldtray tidy - < intake.http")]
    Tidy(LazyArgs<Tidy>),
}

/// Of a command that takes no arguments of its own.
#[derive(Debug, Group)]
pub(crate) struct NoArgs {}

/// What is dropped, of what has names.
#[derive(Debug, Group)]
pub(crate) struct Names {
    /// The names
    #[arg(value_name = "NAME", required = true)]
    pub(crate) names: Vec<String>,
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
pub(crate) struct Allow {
    /// A directory of the workspace [default: the current one]
    #[arg(value_name = "DIR")]
    pub(crate) folder: Option<PathBuf>,
    /// List the workspaces that are allowed
    #[arg(long, conflicts_with_all = ["folder", "revoke", "state"])]
    pub(crate) list: bool,
    /// Forget that the workspace is allowed
    #[arg(long, conflicts_with = "state")]
    pub(crate) revoke: bool,
    /// Also take over the state in `.yieldtray` that you made when the workspace was elsewhere
    #[arg(long)]
    pub(crate) state: bool,
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
    #[command(flatten)]
    pub(crate) display: DisplayArgs,
    /// Write the response body to FILE, whatever its size
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
    /// Show what would be sent, byte for byte, and send nothing
    #[arg(long, conflicts_with_all = ["show", "pick", "out", "append", "needs"])]
    pub(crate) dry: bool,
    /// One more header field, this time only; without a value it drops those of its name (repeatable)
    #[arg(short = 'H', long = "header", value_name = "NAME: VALUE")]
    pub(crate) headers: Vec<String>,
    /// Open the body in VISUAL or EDITOR first, for this sending only
    #[arg(long)]
    pub(crate) edit: bool,
    /// Write the request of --text or - as a cell to the end of FILE once it was answered
    #[arg(long, value_name = "FILE.http")]
    pub(crate) append: Option<PathBuf>,
    /// Whether to send the cells this one needs before it: `send` sends them all, `ask` asks where a
    /// value is missing (without a terminal: never)
    #[arg(long, value_name = "WHETHER", default_value = "ask")]
    pub(crate) needs: Needs,
    /// Send to a guarded environment without asking
    #[arg(long)]
    pub(crate) yes: bool,
    /// Leave this exchange out of the log
    #[arg(long)]
    pub(crate) no_log: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Part {
    /// Status line and header fields of the response
    Head,
    /// The response's body
    Body,
    /// The request as it went out
    Sent,
    /// How long what took, drawn as bars
    Timeline,
    /// Cookies that were sent, set or refused, and why
    Cookies,
    /// All of these
    All,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Needs {
    /// Ask where a value is missing that they yield
    Ask,
    /// Send them first
    Send,
    /// Send this one alone
    Never,
}

/// Which cells.
#[derive(Debug, Default, Group)]
pub(crate) struct SelectionArgs {
    /// Folders, FILE.http, FILE.http:LINE, FILE.http#NAME or bare names [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Only cells of this name; `*` stands for any characters (repeatable, comma-separated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) only: Vec<String>,
    /// No cells of this name; `*` stands for any characters (repeatable, comma-separated)
    #[arg(long, value_name = "NAME", value_delimiter = ',')]
    pub(crate) except: Vec<String>,
    /// Only cells with one of these tags (repeatable, comma-separated)
    #[arg(long, value_name = "TAG", value_delimiter = ',')]
    pub(crate) tag: Vec<String>,
}

#[derive(Debug, Group)]
pub(crate) struct Replay {
    #[command(flatten)]
    pub(crate) choice: SelectionArgs,
    /// Only one shard of the files, as in 2/4, with the files they rely on; a file is always in the same one
    #[arg(long, value_name = "I/N")]
    pub(crate) shard: Option<String>,
    /// Go through them this many times, each time with an empty tray
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub(crate) times: u32,
    /// So many files side by side, at most; what is shown, and its order, stay the same
    #[arg(short, long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..=1_000))]
    pub(crate) jobs: u16,
    /// Send nothing more after the first failure
    #[arg(long)]
    pub(crate) fail_fast: bool,
    /// Then wait, and run again what a changed file touches, until Ctrl-C
    #[arg(short, long)]
    pub(crate) watch: bool,
    /// Write a report: junit, tap, json, html or har (repeatable)
    #[arg(long, value_name = "FORMAT=FILE")]
    pub(crate) report: Vec<ReportFile>,
    /// Send to a guarded environment without asking
    #[arg(long)]
    pub(crate) yes: bool,
    /// Keep what the responses yield, for `send`
    #[arg(long)]
    pub(crate) onto_tray: bool,
    /// Send nothing: judge the checks as they are now on the last answers in the log
    #[arg(long, conflicts_with_all = ["watch", "times", "jobs", "report", "onto_tray"])]
    pub(crate) from_log: bool,
    /// Leave these exchanges out of the log
    #[arg(long)]
    pub(crate) no_log: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Prove {
    #[command(flatten)]
    pub(crate) choice: SelectionArgs,
    /// Exit with 1 if the checks of a file notice fewer of the changes than this, in percent
    #[arg(long, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(0..=100))]
    pub(crate) least: Option<u8>,
    /// Send to a guarded environment without asking
    #[arg(long)]
    pub(crate) yes: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Report {
    #[command(subcommand)]
    pub(crate) action: ReportAction,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ReportAction {
    /// Join the JSON reports of shards or attempts into one
    #[command(
        after_help = "Example: yieldtray report merge part-*.json --report html=replay.html --report junit=replay.xml

Of a request that stands in several reports, the one that was sent last holds."
    )]
    Merge(LazyArgs<ReportMerge>),
}

#[derive(Debug, Group)]
pub(crate) struct ReportMerge {
    /// What `replay --report json=FILE` wrote
    #[arg(value_name = "FILE", required = true)]
    pub(crate) files: Vec<PathBuf>,
    /// Write the joined report: junit, tap, json, html or har (repeatable)
    #[arg(long, value_name = "FORMAT=FILE")]
    pub(crate) report: Vec<ReportFile>,
}

/// `FORMAT=FILE`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ReportFile {
    pub(crate) kind: ReportKind,
    pub(crate) file: PathBuf,
}

impl FromStr for ReportFile {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let kinds = || join_words(ReportKind::ALL.map(ReportKind::as_str));
        let (name, file) = text
            .split_once('=')
            .ok_or_else(|| format!("write a format and a file, as in `html={text}`; the formats are {}", kinds()))?;
        let kind =
            ReportKind::of(name).ok_or_else(|| match closest(name, ReportKind::ALL.map(ReportKind::as_str)) {
                Some(meant) => format!("there is no format `{name}`: did you mean `{meant}`?"),
                None => format!("there is no format `{name}`, but {}", kinds()),
            })?;
        if file.is_empty() {
            return Err(format!("name a file, as in `{name}=report`"));
        }
        Ok(Self { kind, file: file.into() })
    }
}

#[derive(Debug, Group)]
pub(crate) struct List {
    /// As for replay [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Show who yields what for whom instead
    #[arg(long, value_name = "FORMAT", num_args = 0..=1, require_equals = true, default_missing_value = "text")]
    pub(crate) graph: Option<GraphFormat>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum GraphFormat {
    /// Lines to read
    Text,
    /// The language of Graphviz
    Dot,
    /// A Mermaid flowchart
    Mermaid,
}

#[derive(Debug, Group)]
pub(crate) struct Values {
    /// A request, to see only what it uses; or files and folders [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Put the environments side by side
    #[arg(long, conflicts_with = "functions")]
    pub(crate) across: bool,
    /// Show the functions that expressions can call
    #[arg(long)]
    pub(crate) functions: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Env {
    /// The environment to choose for this checkout
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Write it into the configuration first, with the names of another one
    #[arg(long, value_name = "OTHER", requires = "name")]
    pub(crate) like: Option<String>,
}

#[derive(Debug, Group)]
pub(crate) struct Tray {
    #[command(subcommand)]
    pub(crate) action: Option<TrayAction>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TrayAction {
    /// Drop values by name
    #[command(after_help = "Example: yieldtray tray drop token lot_id")]
    Drop(LazyArgs<Names>),
    /// Drop all values of the environment
    #[command(after_help = "Example: yieldtray tray clear -e bench")]
    Clear(LazyArgs<NoArgs>),
}

#[derive(Debug, Group)]
pub(crate) struct Cookies {
    #[command(subcommand)]
    pub(crate) action: Option<CookiesAction>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CookiesAction {
    /// Drop cookies by name
    #[command(after_help = "Example: yieldtray cookies drop packhouse_session")]
    Drop(LazyArgs<Names>),
    /// Drop all cookies of the environment
    #[command(after_help = "Example: yieldtray cookies clear -e bench")]
    Clear(LazyArgs<NoArgs>),
}

#[derive(Debug, Group)]
pub(crate) struct Lint {
    /// As for replay [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Look at the files that git would commit next, as they would be committed
    #[arg(long, conflicts_with = "places")]
    pub(crate) staged: bool,
    /// Write the findings to a file too; the format is sarif
    #[arg(long, value_name = "FORMAT=FILE")]
    pub(crate) report: Option<FindingsFile>,
}

/// `sarif=FILE`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct FindingsFile(pub(crate) PathBuf);

impl FromStr for FindingsFile {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.split_once('=') {
            Some(("sarif", file)) if !file.is_empty() => Ok(Self(file.into())),
            _ => Err("write the format and a file, as in `sarif=lint.sarif`".to_owned()),
        }
    }
}

#[derive(Debug, Group)]
pub(crate) struct Tidy {
    /// Files and folders; `-` lays out standard input [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Change nothing, but say which files would change, and exit with 1 if there are any
    #[arg(long)]
    pub(crate) verify: bool,
}
