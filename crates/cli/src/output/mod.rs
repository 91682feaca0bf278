//! Everything a person or a program reads from the tool. Standard output carries the result, standard
//! error what is said about it.

pub(crate) mod answer;
pub(crate) mod body;
pub(crate) mod cell;
pub(crate) mod comparison;
pub(crate) mod data;
mod errors;
pub(crate) mod events;
pub(crate) mod exchange;
pub(crate) mod graph;
pub(crate) mod log;
pub(crate) mod markdown;
pub(crate) mod mutation;
pub(crate) mod pager;
pub(crate) mod plot;
pub(crate) mod problems;
pub(crate) mod progress;
pub(crate) mod result_lines;
mod stream;
pub(crate) mod table;
pub(crate) mod waiting;

use crate::settings::OutputSettings;
use std::io::{self, Write};
use stream::Stream;
use yieldtray_source::{Code, Problem};
use yieldtray_workspace::Workspace;

/// A line and the stream that it belongs to.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Line {
    /// Of the result, on standard output.
    Result(String),
    /// About the result, on standard error.
    Message(String),
}

/// The two streams, and how each is written.
pub(crate) struct Out {
    stdout: Stream,
    /// Colours, width and amount.
    pub(crate) settings: OutputSettings,
    /// A warning that is printed after everything else.
    pub(crate) last_warning: Option<Problem>,
}

impl Out {
    /// The streams of the process.
    pub(crate) fn new(settings: OutputSettings) -> Self {
        Self { stdout: Stream::new(&settings), settings, last_warning: None }
    }

    /// Prints the last warning, if there is one.
    pub(crate) fn print_last_warning(&mut self) {
        if let Some(problem) = self.last_warning.take() {
            let (message, hint) = (problem.message, problem.hint);
            let _ = self.say(&problems::warning(
                problem.code.as_str(),
                &message,
                hint.as_deref(),
                self.settings.error_styles,
            ));
        }
    }

    /// Prints lines, each on its stream.
    pub(crate) fn lines(&mut self, lines: &[Line]) -> io::Result<()> {
        lines.iter().try_for_each(|line| match line {
            Line::Result(line) => writeln!(self.stdout, "{line}"),
            Line::Message(line) => self.say(line),
        })
    }

    /// Prints lines on standard error.
    pub(crate) fn messages(&mut self, lines: &[String]) -> io::Result<()> {
        lines.iter().try_for_each(|line| self.say(line))
    }

    /// A table on standard output, as wide as the terminal.
    pub(crate) fn table(&mut self, rows: &[Vec<table::Cell>]) -> io::Result<()> {
        table::columns(rows, self.settings.width).iter().try_for_each(|line| writeln!(self.stdout, "{line}"))
    }

    /// Prints after a failure how to generate the same values again, if any were.
    pub(crate) fn seed(&mut self, seed: Option<u64>) -> io::Result<()> {
        match seed.filter(|_| !self.settings.json) {
            Some(seed) => {
                self.say(&self.settings.error_styles.dim(&format!("`--seed {seed}` reproduces the generated values")))
            }
            None => Ok(()),
        }
    }

    /// Prints environment and URL on standard error, as the first line.
    pub(crate) fn print_header(&mut self, heading: &cell::Heading) -> io::Result<()> {
        if self.settings.quiet || self.settings.json {
            return Ok(());
        }
        self.say(&heading.text(self.settings.error_styles))
    }

    /// How many of something were dropped.
    pub(crate) fn dropped(&mut self, heading: &cell::Heading, count: usize, one: &str, many: &str) -> io::Result<()> {
        if self.settings.json {
            return writeln!(self.stdout, "{}", serde_json::json!({ "dropped": count }));
        }
        if self.settings.quiet {
            return Ok(());
        }
        self.print_header(heading)?;
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

    /// Problems with their places: text on standard error, or data on standard output.
    pub(crate) fn problems(&mut self, workspace: &Workspace, problems: &[Problem]) -> io::Result<()> {
        if self.settings.json {
            let document = serde_json::json!({ "diagnostics": data::problems(workspace, problems) });
            return writeln!(self.stdout, "{document}");
        }
        let snippets = problems::snippets(workspace, problems, &self.settings);
        self.messages(&snippets)
    }

    /// Something the tool refuses, without a place in a text.
    pub(crate) fn refusal(&mut self, code: Option<Code>, message: &str, hint: Option<&str>) -> io::Result<()> {
        let code = code.map(Code::as_str);
        if self.settings.json {
            writeln!(self.stdout, "{}", data::refusal(code, message, hint))?;
            return self.stdout.flush();
        }
        self.say(&problems::error(code, message, hint, self.settings.error_styles))
    }
}

/// Invalid arguments as data: the message of the argument parser, without usage.
pub(crate) fn refused_arguments(said: &str) -> io::Result<()> {
    let (message, rest) = said.split_once("\n\n").unwrap_or((said, ""));
    let message = message.trim_start_matches("error: ").lines().map(str::trim).collect::<Vec<_>>().join(" ");
    let hint = rest.lines().find_map(|line| line.trim().strip_prefix("tip: "));
    writeln!(io::stdout(), "{}", data::refusal(None, &message, hint))
}
