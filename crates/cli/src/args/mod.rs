//! The command line: the commands, their options and their help. What options mean is decided where they are used.

mod api;
mod common;
mod export;
mod groups;
mod import;
mod lazy;
mod log;
mod report;
mod secret;
mod stored;
pub(crate) mod time;
mod version;

pub(crate) use api::{Api, ApiAction, ApiCoverage, ApiDiff, ApiDrift, ApiFetch, ApiShow, ApiTree, CoverageReportKind};
use clap::error::Error;
use clap::{ArgMatches, Args as Group, CommandFactory, FromArgMatches, Parser, Subcommand, ValueEnum};
pub(crate) use common::{Color, Common};
pub(crate) use export::{Export, OnOff};
pub(crate) use import::{Import, ImportCurl, ImportFrom, ImportHar, ImportOpenapi, ImportTarget};
pub(crate) use lazy::LazyArgs;
pub(crate) use log::{
    CompareArgs, DisplayArgs, ExportFormat, Log, LogAction, LogClear, LogCompare, LogDrop, LogExport, LogFilter,
    LogResend, LogShow, LogTrend,
};
pub(crate) use report::{DiagnosticsFile, Report, ReportAction, ReportFile, ReportMerge};
pub(crate) use secret::{Secret, SecretAction};
use std::path::PathBuf;
pub(crate) use stored::{Cookies, CookiesAction, Token, TokenAction, Tray, TrayAction};

/// Send API requests kept as plain text in your repository, capture values, replay with checks
#[derive(Debug, Parser)]
#[command(name = "yieldtray", version = version::SHORT, long_version = version::LONG, max_term_width = 100)]
#[command(arg_required_else_help = true, disable_help_subcommand = true)]
pub(crate) struct Args {
    #[command(flatten)]
    pub(crate) common: Common,
    #[command(subcommand)]
    pub(crate) command: Command,
}

impl Args {
    /// The command line of this process.
    pub(crate) fn read() -> Result<Self, Error> {
        let mut command = Self::grouped();
        let read = command.try_get_matches_from_mut(std::env::args_os());
        let read = read.and_then(Self::of);
        let read = read.map_err(|error| error.format(&mut command));
        // It is made of thousands of pieces. The process gives them all back at once, and sooner.
        std::mem::forget(command);
        read
    }

    /// The whole command line, its commands in groups.
    pub(crate) fn grouped() -> clap::Command {
        // The help of the commands that follow them has these too.
        let rare = ["set_from", "read_env", "secrets_to"];
        let command = rare.iter().fold(Self::command(), |command, name| command.mut_arg(name, |arg| arg.hide(true)));
        groups::with_groups(command)
    }

    /// The parsed arguments; global options may be before a command or after it.
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
    /// Create a workspace with a first request
    #[command(after_help = "Example:
  yieldtray init api --base http://127.0.0.1:4616")]
    Init(LazyArgs<Init>),
    /// Start a sample API on loopback, create a workspace for it, and replay it
    #[command(after_help = "Example:
  yieldtray demo --keep packhouse --serve")]
    Demo(LazyArgs<Demo>),
    /// Send one request
    #[command(after_help = "Examples:
  yieldtray send requests/intake.http#book-lot --needs send
  yieldtray send requests/intake.http:31
  yieldtray send http://127.0.0.1:4616/lots --pick 'body.lots.map(l, l.id)'
  yieldtray send stock.http --output stock.csv --show timeline")]
    Send(LazyArgs<Send>),
    /// Run requests in order and evaluate their checks
    #[command(after_help = "Examples:
  yieldtray replay requests --tag smoke -e staging
  yieldtray replay --jobs 8 --fail-fast --report junit=replay.xml
  yieldtray replay requests/intake.http --watch")]
    Replay(LazyArgs<Replay>),
    /// Mutation-test the checks: would they detect a wrong response?
    #[command(after_help = "Examples:
  yieldtray prove requests/intake.http
  yieldtray prove --min 60

Sends each request once, then alters its response in one respect at a time (another status, no body,
a JSON field missing, null, of another type or changed, a header less, another content type, very
slow) and reports which changes no check detects.")]
    Prove(LazyArgs<Prove>),
    /// List the requests
    #[command(after_help = "Examples:
  yieldtray list requests/intake.http
  yieldtray list --graph=dot > graph.dot")]
    List(LazyArgs<List>),
    /// Show the variables: their values and where they come from
    #[command(after_help = "Examples:
  yieldtray values book-lot
  yieldtray values --all-envs
  yieldtray values --functions")]
    Values(LazyArgs<Values>),
    /// Show the environments, or select the default of this working copy
    #[command(after_help = "Examples:
  yieldtray env staging
  yieldtray env rehearsal --copy-from staging")]
    Env(LazyArgs<Env>),
    /// Show captured values, or remove some
    #[command(after_help = "Examples:
  yieldtray tray
  yieldtray tray drop token")]
    Tray(LazyArgs<Tray>),
    /// Show stored cookies, or remove some
    #[command(after_help = "Examples:
  yieldtray cookies
  yieldtray cookies drop packhouse_session")]
    Cookies(LazyArgs<Cookies>),
    /// Show stored tokens; obtain, remove or revoke some
    #[command(after_help = "Examples:
  yieldtray token
  yieldtray token get desk
  yieldtray token revoke desk")]
    Token(LazyArgs<Token>),
    /// Keep secrets in the keyring, or encrypted for a team
    #[command(after_help = "Examples:
  yieldtray secret store packhouse-pin
  yieldtray secret seal clerk_password")]
    Secret(LazyArgs<Secret>),
    /// Show past exchanges; resend, compare or export them
    #[command(
        args_conflicts_with_subcommands = true,
        after_help = "Examples:
  yieldtray log --failed --since 2h
  yieldtray log --grep L-2043
  yieldtray log show 41 --show head,body
  yieldtray log compare 41"
    )]
    Log(LazyArgs<Log>),
    /// Explore the API by its description; compare it with files and responses
    #[command(after_help = "Examples:
  yieldtray api fetch
  yieldtray api tree /lots
  yieldtray api show 'POST /lots'
  yieldtray api coverage --min 60

The description (OpenAPI 3.0 or 3.1, or a GraphQL schema) is set in `[api]` of yieldtray.toml.")]
    Api(LazyArgs<Api>),
    /// Check files for errors and likely mistakes without sending anything
    #[command(after_help = "Examples:
  yieldtray lint requests
  yieldtray lint --staged
  yieldtray lint --report sarif=lint.sarif

Set the level of a code in `[lint]` of yieldtray.toml. Suppress a single diagnostic with a comment above
it: `# allow unused-yield: read by the night shift`. Codes: yieldtray help diagnostics")]
    Lint(LazyArgs<Lint>),
    /// Format request files
    #[command(after_help = "Examples:
  yieldtray tidy
  yieldtray tidy --check requests
  yieldtray tidy - < intake.http")]
    Tidy(LazyArgs<Tidy>),
    /// Import requests from shell commands, HAR or OpenAPI
    #[command(after_help = "Example:
  yieldtray import curl \"curl -d bins=24 http://127.0.0.1:4616/lots\"")]
    Import(LazyArgs<Import>),
    /// Export a request as a shell command or code
    #[command(after_help = "Examples:
  yieldtray export book-lot --as shell
  yieldtray export requests/intake.http --as python
  yieldtray export list-lots --as go --keep-variables
  yieldtray export --targets

Secrets are never included: the exported code reads them from environment variables.")]
    Export(LazyArgs<Export>),
    /// Merge the reports of shards or attempts
    #[command(after_help = "Example:
  yieldtray report merge part-*.json --report html=replay.html")]
    Report(LazyArgs<Report>),
    /// Allow a workspace to run commands and access files outside its directory
    #[command(after_help = "Examples:
  yieldtray allow
  yieldtray allow --list
  yieldtray allow --revoke ../packhouse

A cloned workspace does none of this by itself. The permission covers the local configuration as it is
now: after a change it must be given again.")]
    Allow(LazyArgs<Allow>),
    /// Serve editors: the Language Server Protocol 3.17 on stdin and stdout
    #[command(after_help = "Example, for the settings of an editor:
  yieldtray lsp")]
    Lsp(LazyArgs<NoArgs>),
    /// Print a completion script for a shell
    #[command(after_help = "Examples:
  yieldtray completions bash >> ~/.bashrc
  yieldtray completions zsh >> ~/.zshrc
  yieldtray completions fish > ~/.config/fish/completions/yieldtray.fish

Names of requests, files, environments, tags and variables are completed from the workspace.")]
    Completions(LazyArgs<Completions>),
    /// Write the manual pages
    #[command(
        hide = true,
        after_help = "Example:
  yieldtray man --output man1"
    )]
    Man(LazyArgs<Man>),
    /// Print help for a command or a topic
    #[command(after_help = "Topics:
  language      the request files on one page
  config        the keys of yieldtray.toml
  environment   environment variables
  functions     the functions of expressions
  diagnostics   the codes of errors and warnings
  exit-codes    the exit codes

Example:
  yieldtray help language")]
    Help(LazyArgs<Help>),
}

/// Of a command that takes no arguments of its own.
#[derive(Debug, Group)]
pub(crate) struct NoArgs {}

#[derive(Debug, Group)]
pub(crate) struct Completions {
    /// bash, zsh, fish, powershell or elvish
    #[arg(value_name = "SHELL", value_enum, hide_possible_values = true)]
    pub(crate) shell: CompletionShell,
}

/// The shells that completion is made for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum CompletionShell {
    Bash,
    Zsh,
    Fish,
    Powershell,
    Elvish,
}

#[derive(Debug, Group)]
pub(crate) struct Man {
    /// The directory to write the pages to
    #[arg(short = 'o', long = "output", value_name = "DIR")]
    pub(crate) folder: PathBuf,
}

#[derive(Debug, Group)]
pub(crate) struct Help {
    /// A command, or one of the topics below
    #[arg(value_name = "COMMAND|TOPIC")]
    pub(crate) about: Vec<String>,
}

/// The names of what is removed.
#[derive(Debug, Group)]
pub(crate) struct Names {
    /// The names
    #[arg(value_name = "NAME", required = true)]
    pub(crate) names: Vec<String>,
}

#[derive(Debug, Group)]
pub(crate) struct Demo {
    /// Keep the workspace in DIR, which must be empty or new
    #[arg(long, value_name = "DIR")]
    pub(crate) keep: Option<PathBuf>,
    /// Keep the API running until interrupted
    #[arg(long)]
    pub(crate) serve: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Allow {
    /// A directory in the workspace [default: the current one]
    #[arg(value_name = "DIR")]
    pub(crate) folder: Option<PathBuf>,
    /// List the workspaces that are allowed
    #[arg(long, conflicts_with_all = ["folder", "revoke", "state"])]
    pub(crate) list: bool,
    /// Withdraw the permission
    #[arg(long, conflicts_with = "state")]
    pub(crate) revoke: bool,
    /// Also adopt the state in `.yieldtray` that you created when the workspace was elsewhere
    #[arg(long)]
    pub(crate) state: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Init {
    /// The directory; created if necessary
    #[arg(value_name = "DIR", default_value = ".")]
    pub(crate) folder: PathBuf,
    /// The base URL of your API
    #[arg(long, value_name = "URL")]
    pub(crate) base: Option<String>,
}

#[derive(Debug, Default, Group)]
pub(crate) struct Send {
    /// FILE#NAME, FILE:LINE, FILE, NAME, URL, METHOD URL, or - for stdin
    #[arg(value_name = "WHERE", num_args = 1..=2, required_unless_present = "text", conflicts_with = "text")]
    pub(crate) place: Vec<String>,
    /// Send this request instead of one from a file
    #[arg(long, value_name = "REQUEST")]
    pub(crate) text: Option<String>,
    /// Add a header for this time; `NAME:` removes it (repeatable)
    #[arg(short = 'H', long = "header", value_name = "NAME: VALUE")]
    pub(crate) headers: Vec<String>,
    /// Edit the body in VISUAL or EDITOR first
    #[arg(long)]
    pub(crate) edit: bool,
    /// Also send the requests it needs: ask, send or never
    #[arg(long, value_name = "WHEN", default_value = "ask", hide_possible_values = true)]
    pub(crate) needs: Needs,
    #[command(flatten)]
    pub(crate) display: DisplayArgs,
    /// Write the response body to FILE, whatever its size
    #[arg(short = 'o', long, alias = "out", value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
    /// Append the request of --text or - to FILE after a response
    #[arg(long, value_name = "FILE.http", help_heading = OUTPUT)]
    pub(crate) append: Option<PathBuf>,
    /// Do not log this exchange
    #[arg(long, help_heading = OUTPUT)]
    pub(crate) no_log: bool,
    /// Print the request as it would be sent, and send nothing
    #[arg(short = 'n', long, alias = "dry", help_heading = SAFETY)]
    #[arg(conflicts_with_all = ["show", "pick", "output", "append", "needs"])]
    pub(crate) dry_run: bool,
    /// Send to a guarded environment without asking
    #[arg(long, help_heading = SAFETY)]
    pub(crate) yes: bool,
}

/// Headings of options.
pub(crate) const SELECTION: &str = "Selection";
pub(crate) const OUTPUT: &str = "Output";
pub(crate) const SAFETY: &str = "Safety";

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Part {
    Head,
    Body,
    Sent,
    Timeline,
    Cookies,
    All,
}

/// Whether the requests that one needs are sent before it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub(crate) enum Needs {
    #[default]
    Ask,
    Send,
    Never,
}

/// Which requests.
#[derive(Debug, Default, Group)]
pub(crate) struct SelectionArgs {
    /// Directories, FILE, FILE:LINE, FILE#NAME or names [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Only requests of this name; `*` matches anything (repeatable)
    #[arg(long, value_name = "NAME", value_delimiter = ',', help_heading = SELECTION)]
    pub(crate) only: Vec<String>,
    /// No requests of this name; `*` matches anything (repeatable)
    #[arg(long, alias = "except", value_name = "NAME", value_delimiter = ',', help_heading = SELECTION)]
    pub(crate) exclude: Vec<String>,
    /// Only requests with this tag (repeatable)
    #[arg(long, value_name = "TAG", value_delimiter = ',', help_heading = SELECTION)]
    pub(crate) tag: Vec<String>,
}

#[derive(Debug, Group)]
pub(crate) struct Replay {
    #[command(flatten)]
    pub(crate) choice: SelectionArgs,
    /// Only shard I of N of the files, and the files they need
    #[arg(long, value_name = "I/N", help_heading = SELECTION)]
    pub(crate) shard: Option<String>,
    /// Run up to N files in parallel; the output keeps its order
    #[arg(short, long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u16).range(1..=1_000))]
    pub(crate) jobs: u16,
    /// Run everything N times, each time with an empty tray
    #[arg(long, value_name = "N", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub(crate) times: u32,
    /// Stop after the first failure
    #[arg(long)]
    pub(crate) fail_fast: bool,
    /// Re-run affected requests when files change, until Ctrl-C
    #[arg(short, long)]
    pub(crate) watch: bool,
    /// Write a report: html, junit, tap, json or har (repeatable)
    #[arg(long, value_name = "FORMAT=FILE", help_heading = OUTPUT)]
    pub(crate) report: Vec<ReportFile>,
    /// Store captured values for later `send` commands
    #[arg(long, alias = "onto-tray", help_heading = OUTPUT)]
    pub(crate) save_yields: bool,
    /// Do not log these exchanges
    #[arg(long, help_heading = OUTPUT)]
    pub(crate) no_log: bool,
    /// Send nothing: evaluate the checks on the last logged responses
    #[arg(long, conflicts_with_all = ["watch", "times", "jobs", "report", "save_yields"], help_heading = SAFETY)]
    pub(crate) from_log: bool,
    /// Send to a guarded environment without asking
    #[arg(long, help_heading = SAFETY)]
    pub(crate) yes: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Prove {
    #[command(flatten)]
    pub(crate) choice: SelectionArgs,
    /// Exit with 1 if the checks of a file detect less than this percentage
    #[arg(long, alias = "least", value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(0..=100))]
    pub(crate) min: Option<u8>,
    /// Send to a guarded environment without asking
    #[arg(long, help_heading = SAFETY)]
    pub(crate) yes: bool,
}

#[derive(Debug, Group)]
pub(crate) struct List {
    /// Directories, FILE, FILE:LINE, FILE#NAME or names [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Show the dependency graph: text, dot (Graphviz) or mermaid
    #[arg(long, hide_possible_values = true, value_name = "FORMAT", num_args = 0..=1, require_equals = true, default_missing_value = "text")]
    pub(crate) graph: Option<GraphFormat>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum GraphFormat {
    Text,
    Dot,
    Mermaid,
}

#[derive(Debug, Group)]
pub(crate) struct Values {
    /// Requests, files or directories: only the variables they use [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Show one column for each environment
    #[arg(long, alias = "across", conflicts_with = "functions")]
    pub(crate) all_envs: bool,
    /// List the functions of expressions
    #[arg(long)]
    pub(crate) functions: bool,
}

#[derive(Debug, Group)]
pub(crate) struct Env {
    /// The environment to use by default in this working copy
    #[arg(value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Create the environment, copying variable names from OTHER
    #[arg(long, alias = "like", value_name = "OTHER", requires = "name")]
    pub(crate) copy_from: Option<String>,
}

#[derive(Debug, Group)]
pub(crate) struct Lint {
    /// Directories, FILE, FILE:LINE, FILE#NAME or names [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Check the files staged in git, as they would be committed
    #[arg(long, conflicts_with = "places")]
    pub(crate) staged: bool,
    /// Also write the diagnostics to a file; the format is sarif
    #[arg(long, value_name = "FORMAT=FILE")]
    pub(crate) report: Option<DiagnosticsFile>,
}

#[derive(Debug, Group)]
pub(crate) struct Tidy {
    /// Files and directories; `-` formats stdin to stdout [default: the whole workspace]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    /// Change nothing; print the files that would change, and exit with 1 if there are any
    #[arg(long, alias = "verify")]
    pub(crate) check: bool,
}
