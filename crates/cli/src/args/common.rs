//! The options that every command has, before its name or behind it.

use clap::{ArgMatches, Args as Group, ValueEnum};
use std::path::PathBuf;

/// The heading of these options.
const HEADING: &str = "Global options";

/// Options of every command.
#[derive(Clone, Debug, Group)]
#[command(next_help_heading = HEADING)]
pub(crate) struct Common {
    /// Run as if started in DIR
    #[arg(short = 'C', value_name = "DIR", display_order = 100)]
    pub(crate) directory: Option<PathBuf>,
    /// Environment [default: YIELDTRAY_ENV, `yieldtray env`, yieldtray.toml]
    #[arg(short, long, value_name = "NAME", display_order = 101)]
    pub(crate) env: Vec<String>,
    /// Set a variable for this run (repeatable)
    #[arg(long, value_name = "NAME=VALUE", display_order = 102)]
    pub(crate) set: Vec<String>,
    /// Set a secret variable from a file; `-` reads stdin
    #[arg(long, value_name = "NAME=FILE", display_order = 102)]
    pub(crate) set_from: Vec<String>,
    /// Seed for generated values; reuse one to reproduce a run
    #[arg(long, value_name = "NUMBER", display_order = 102, value_parser = seed)]
    pub(crate) seed: Option<u64>,
    /// Allow access outside the workspace for this run
    #[arg(long, display_order = 103)]
    pub(crate) allow: bool,
    /// Allow reading environment variables; `*` matches anything
    #[arg(long, value_name = "NAME", display_order = 103)]
    pub(crate) read_env: Vec<String>,
    /// Also send secrets to this origin (repeatable)
    #[arg(long, value_name = "ORIGIN", display_order = 103)]
    pub(crate) secrets_to: Vec<String>,
    /// Show secrets after confirmation; only on a terminal
    #[arg(long, display_order = 103)]
    pub(crate) reveal: bool,
    /// Print JSON
    #[arg(long, display_order = 103)]
    pub(crate) json: bool,
    /// Colors: auto, always or never [default: auto; NO_COLOR is respected]
    #[arg(long, value_name = "WHEN", display_order = 104, hide_possible_values = true)]
    pub(crate) color: Option<Color>,
    /// Print errors only
    #[arg(short, long, display_order = 105)]
    pub(crate) quiet: bool,
    /// Log details to stderr
    #[arg(short, long, display_order = 106)]
    pub(crate) verbose: bool,
}

/// Options that the command with these arguments has no use for. They are accepted everywhere, so that an alias or a
/// script can set them, but the help of a command shows only those that it follows.
fn unused(arguments: &str) -> &'static [&'static str] {
    match arguments {
        "Send" | "Replay" | "Prove" | "LogResend" | "LogCompare" | "Export" | "Values" => &[],
        "Lint" => &["seed", "reveal", "secrets_to"],
        "Tray" | "Cookies" | "Log" | "LogShow" | "LogDrop" | "LogClear" | "LogTrend" | "LogExport" | "Names" => {
            &["set", "set_from", "seed", "allow", "read_env", "secrets_to"]
        }
        "Env" => &["set", "set_from", "seed", "reveal", "secrets_to"],
        "Token" | "Profiles" => &["seed", "reveal"],
        "ApiFetch" => &["seed", "reveal"],
        "ApiTree" | "ApiShow" | "ApiCoverage" | "ApiDrift" | "ApiDiff" => {
            &["seed", "allow", "read_env", "secrets_to", "reveal"]
        }
        "Demo" => &["env", "set", "set_from", "allow", "read_env", "secrets_to", "reveal"],
        "Init" | "Completions" | "Man" | "Help" => {
            &["env", "set", "set_from", "seed", "allow", "read_env", "secrets_to", "reveal", "json", "verbose"]
        }
        _ => &["env", "set", "set_from", "seed", "allow", "read_env", "secrets_to", "reveal"],
    }
}

/// The command without the help of options that it has no use for; `T` are its own arguments.
pub(super) fn hide_unused<T: Group>(command: clap::Command) -> clap::Command {
    // The group of the arguments of a type has the name of the type; commands below others may share theirs.
    let group = T::group_id();
    let unused = unused(group.as_ref().map_or("", clap::Id::as_str));
    unused.iter().fold(command, |command, name| command.mut_arg(name, |arg| arg.hide(true)))
}

fn seed(text: &str) -> Result<u64, String> {
    text.parse().map_err(|_| "expected a whole number".to_owned())
}

impl Common {
    /// The options after a command. They are copied: its own arguments are parsed later.
    pub(super) fn of(matches: &ArgMatches) -> Self {
        let all = |name| matches.get_many(name).into_iter().flatten().cloned().collect();
        Self {
            directory: matches.get_one("directory").cloned(),
            env: all("env"),
            set: all("set"),
            set_from: all("set_from"),
            seed: matches.get_one("seed").copied(),
            allow: matches.get_flag("allow"),
            read_env: all("read_env"),
            secrets_to: all("secrets_to"),
            reveal: matches.get_flag("reveal"),
            json: matches.get_flag("json"),
            color: matches.get_one("color").copied(),
            quiet: matches.get_flag("quiet"),
            verbose: matches.get_flag("verbose"),
        }
    }

    /// These of a command, and beside them those of the command around it. Where both speak, the nearer one counts.
    pub(super) fn within(self, outer: Self) -> Self {
        Self {
            directory: self.directory.or(outer.directory),
            env: if self.env.is_empty() { outer.env } else { self.env },
            set: [outer.set, self.set].concat(),
            set_from: [outer.set_from, self.set_from].concat(),
            seed: self.seed.or(outer.seed),
            allow: self.allow || outer.allow,
            read_env: [outer.read_env, self.read_env].concat(),
            secrets_to: [outer.secrets_to, self.secrets_to].concat(),
            reveal: self.reveal || outer.reveal,
            json: self.json || outer.json,
            color: self.color.or(outer.color),
            quiet: self.quiet || outer.quiet,
            verbose: self.verbose || outer.verbose,
        }
    }
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Color {
    Auto,
    Always,
    Never,
}
