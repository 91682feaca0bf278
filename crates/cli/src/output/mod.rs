//! Everything a person or a program reads from the tool. Standard output carries the result, standard
//! error what is said about it.

pub(crate) mod answer;
pub(crate) mod body;
pub(crate) mod cell;
pub(crate) mod comparison;
pub(crate) mod data;
mod errors;
pub(crate) mod exchange;
pub(crate) mod graph;
pub(crate) mod log;
pub(crate) mod mutation;
pub(crate) mod pager;
pub(crate) mod plot;
pub(crate) mod problems;
pub(crate) mod progress;
pub(crate) mod result_lines;
mod stream;
pub(crate) mod styles;
pub(crate) mod table;

use crate::args::{Color, Common};
use crate::host::HostFacts;
use std::io::{self, Write};
use stream::Stream;
use styles::Styles;
use yieldtray_source::{Code, Problem};
use yieldtray_workspace::Workspace;

/// The two streams and how each is written.
pub(crate) struct Out {
    stdout: Stream,
    /// Colours of standard output.
    pub(crate) look: Styles,
    /// Colours of standard error.
    pub(crate) error_look: Styles,
    /// The terminal's width; `None` if standard output is not a terminal.
    pub(crate) width: Option<usize>,
    /// Whether data is asked for.
    pub(crate) json: bool,
    /// Whether only what went wrong is said.
    pub(crate) quiet: bool,
    /// Whether somebody looks on.
    pub(crate) terminal: bool,
    /// A warning if git tracks the private configuration, printed last.
    pub(crate) tracked: Option<Problem>,
}

impl Out {
    /// The streams as the options and the surroundings want them.
    pub(crate) fn new(common: &Common, host: &HostFacts) -> Self {
        let coloured = |terminal: bool| match common.color {
            Some(Color::Always) => true,
            Some(Color::Never) => false,
            None | Some(Color::Auto) => terminal && !host.no_color,
        };
        Self {
            stdout: Stream::new(host, common.json),
            look: Styles::new(coloured(host.out_is_terminal)),
            error_look: Styles::new(coloured(host.errors_are_terminal)),
            width: host.width,
            json: common.json,
            quiet: common.quiet,
            terminal: host.out_is_terminal,
            tracked: None,
        }
    }

    /// Says so if git would keep the private configuration.
    pub(crate) fn tracked_remark(&mut self) {
        if let Some(problem) = self.tracked.take() {
            let (message, hint) = (problem.message, problem.hint);
            let _ = self.say(&problems::remark(problem.code.as_str(), &message, hint.as_deref(), self.error_look));
        }
    }

    /// A table on standard output, as wide as the terminal.
    pub(crate) fn table(&mut self, rows: &[Vec<table::Cell>]) -> io::Result<()> {
        table::columns(rows, self.width).iter().try_for_each(|line| writeln!(self.stdout, "{line}"))
    }

    /// Prints after a failure how to generate the same values again, if any were.
    pub(crate) fn seed(&mut self, seed: Option<u64>) -> io::Result<()> {
        match seed.filter(|_| !self.json) {
            Some(seed) => self.say(&self.error_look.faint(&format!("`--seed {seed}` makes up the same values again"))),
            None => Ok(()),
        }
    }

    /// Prints environment and URL on standard error, as the first line.
    pub(crate) fn introduce(&mut self, heading: &cell::Heading) -> io::Result<()> {
        if self.quiet || self.json {
            return Ok(());
        }
        self.say(&heading.text(self.error_look))
    }

    /// How many of something were dropped.
    pub(crate) fn dropped(&mut self, heading: &cell::Heading, count: usize, one: &str, many: &str) -> io::Result<()> {
        if self.json {
            return writeln!(self.stdout, "{}", serde_json::json!({ "dropped": count }));
        }
        if self.quiet {
            return Ok(());
        }
        self.introduce(heading)?;
        self.say(&format!("{} dropped", table::count(count, one, many)))
    }

    /// From now on a closed standard output is not an error: all requests are sent, and the exit code has the result.
    pub(crate) fn outlive_reader(&mut self) {
        self.stdout.outlive_reader();
    }

    /// Standard output.
    pub(crate) fn result(&mut self) -> &mut impl Write {
        &mut self.stdout
    }

    /// A line on standard error, after what standard output has so far.
    pub(crate) fn say(&mut self, line: &str) -> io::Result<()> {
        self.stdout.flush()?;
        self.stdout.end_line()?;
        writeln!(io::stderr(), "{line}")
    }

    /// Writes out what is buffered.
    pub(crate) fn flush(&mut self) -> io::Result<()> {
        self.stdout.flush()
    }

    /// Whether standard error is coloured.
    pub(crate) fn errors_in_colour(&self) -> bool {
        self.error_look.is_coloured()
    }

    /// Problems with their places: text on standard error, or data on standard output.
    pub(crate) fn problems(&mut self, workspace: &Workspace, problems: &[Problem]) -> io::Result<()> {
        if self.json {
            let document = serde_json::json!({ "problems": data::problems(workspace, problems) });
            return writeln!(self.stdout, "{document}");
        }
        let shown: Vec<&Problem> = problems.iter().filter(|problem| problem.is_error() || !self.quiet).collect();
        for problem in shown {
            self.say(&problems::snippet(workspace, problem, self.error_look))?;
        }
        Ok(())
    }

    /// Something the tool refuses, without a place in a text.
    pub(crate) fn refusal(&mut self, code: Option<Code>, message: &str, hint: Option<&str>) -> io::Result<()> {
        let code = code.map(Code::as_str);
        if self.json {
            writeln!(self.stdout, "{}", data::refusal(code, message, hint))?;
            return self.stdout.flush();
        }
        self.say(&problems::plain(code, message, hint, self.error_look))
    }
}

/// Invalid arguments as data: the message of the argument parser, without usage.
pub(crate) fn refused_arguments(said: &str) -> io::Result<()> {
    let (message, rest) = said.split_once("\n\n").unwrap_or((said, ""));
    let message = message.trim_start_matches("error: ").lines().map(str::trim).collect::<Vec<_>>().join(" ");
    let hint = rest.lines().find_map(|line| line.trim().strip_prefix("tip: "));
    writeln!(io::stdout(), "{}", data::refusal(None, &message, hint))
}
