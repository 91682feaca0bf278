//! The options that every command has, before its name or behind it.

use clap::{ArgMatches, Args as Group, ValueEnum};
use std::path::PathBuf;

/// Options of every command.
#[derive(Clone, Debug, Group)]
pub(crate) struct Common {
    /// Work in DIR as if started there
    #[arg(short = 'C', value_name = "DIR", display_order = 100)]
    pub(crate) directory: Option<PathBuf>,
    /// The environment whose values are used [default: YIELDTRAY_ENV, `yieldtray env`, yieldtray.toml]
    #[arg(short, long, value_name = "NAME", display_order = 101)]
    pub(crate) env: Vec<String>,
    /// Give a value for this time; it wins over every other (repeatable)
    #[arg(long, value_name = "NAME=VALUE", display_order = 102)]
    pub(crate) set: Vec<String>,
    /// Make up the same values as a run before, which told this number
    #[arg(long, value_name = "NUMBER", display_order = 102)]
    pub(crate) seed: Option<u64>,
    /// Let the workspace reach outside its directory this time, as `yieldtray allow` does for good [env:
    /// YIELDTRAY_ALLOW, the workspace's directory or the digest that `yieldtray allow --list` prints]
    #[arg(long, display_order = 103)]
    pub(crate) allow: bool,
    /// Let the workspace read this environment variable; `*` stands for any characters (repeatable)
    #[arg(long, value_name = "NAME", display_order = 103)]
    pub(crate) read_env: Vec<String>,
    /// Send secrets to this origin, too, this time (repeatable)
    #[arg(long, value_name = "ORIGIN", display_order = 103)]
    pub(crate) secrets_to: Vec<String>,
    /// Show secrets, after asking; on a terminal only
    #[arg(long, display_order = 103)]
    pub(crate) reveal: bool,
    /// Print data instead of text; the shapes are described in docs/commands.md
    #[arg(long, display_order = 103)]
    pub(crate) json: bool,
    /// When to colour [default: auto, on a terminal (NO_COLOR is honoured)]
    #[arg(long, value_name = "WHEN", display_order = 104)]
    pub(crate) color: Option<Color>,
    /// Say only what went wrong
    #[arg(short, long, display_order = 105)]
    pub(crate) quiet: bool,
    /// Log what happens to standard error; `replay` also tells its slowest requests
    #[arg(short, long, display_order = 106)]
    pub(crate) verbose: bool,
}

impl Common {
    /// What was found behind a command, which keeps it: it is taken apart later.
    pub(super) fn of(matches: &ArgMatches) -> Self {
        let all = |name| matches.get_many(name).into_iter().flatten().cloned().collect();
        Self {
            directory: matches.get_one("directory").cloned(),
            env: all("env"),
            set: all("set"),
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
