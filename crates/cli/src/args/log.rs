//! The options of `log`, and of looking at an exchange.

use super::{LazyArgs, OUTPUT, Part, SAFETY, SELECTION};
use crate::args::time::{Since, StatusRange};
use clap::{Args as Group, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, Group)]
pub(crate) struct Log {
    #[command(subcommand)]
    pub(crate) action: Option<LogAction>,
    #[command(flatten)]
    pub(crate) filter: LogFilter,
    /// At most N exchanges, newest first
    #[arg(short = 'n', long, alias = "most", value_name = "N", default_value_t = 30)]
    pub(crate) limit: usize,
}

/// Which exchanges; with `--env`, those of that environment.
#[derive(Debug, Group)]
pub(crate) struct LogFilter {
    /// Only requests of this name, or FILE#NAME; `*` matches anything
    #[arg(long, value_name = "NAME", help_heading = SELECTION)]
    pub(crate) name: Option<String>,
    /// Only these status codes: 404, 4xx or 400-409
    #[arg(long, value_name = "STATUS", help_heading = SELECTION)]
    pub(crate) status: Option<StatusRange>,
    /// Only exchanges since then: 30m, 2h, 3d, or 2026-09-14T06:30
    #[arg(long, value_name = "WHEN", help_heading = SELECTION)]
    pub(crate) since: Option<Since>,
    /// Only exchanges that did not pass
    #[arg(long, help_heading = SELECTION)]
    pub(crate) failed: bool,
    /// Only exchanges with this text in the URL or a body, at the start of a word
    #[arg(long, value_name = "TEXT", help_heading = SELECTION)]
    pub(crate) grep: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum LogAction {
    /// Show a past exchange
    #[command(after_help = "Examples:
  yieldtray log show
  yieldtray log show 41 --pick body.id")]
    Show(LazyArgs<LogShow>),
    /// Send a past request again, and show what differs
    #[command(
        alias = "again",
        after_help = "Examples:
  yieldtray log resend 41
  yieldtray log resend 41 --exactly"
    )]
    Resend(LazyArgs<LogResend>),
    /// Compare two past responses, or those of two environments; exit with 1 if they differ
    #[command(after_help = "Examples:
  yieldtray log compare 41 44
  yieldtray log compare 44 --ignore 'body.lots[*].weighed_at'
  yieldtray log compare -e local -e staging list-growers --shape")]
    Compare(LazyArgs<LogCompare>),
    /// Remove exchanges by number
    #[command(after_help = "Example:
  yieldtray log drop 41 44")]
    Drop(LazyArgs<LogDrop>),
    /// Remove all exchanges, or those of an environment
    #[command(after_help = "Example:
  yieldtray log clear --older-than 7d")]
    Clear(LazyArgs<LogClear>),
    /// Write exchanges as an HTTP Archive, for the network panel of a browser
    #[command(after_help = "Example:
  yieldtray log export har --since 1d --output morning.har")]
    Export(LazyArgs<LogExport>),
    /// Plot response time and size of a request over time
    #[command(after_help = "Examples:
  yieldtray log trend list-growers
  yieldtray log trend requests/intake.http#book-lot --output book-lot.svg")]
    Trend(LazyArgs<LogTrend>),
}

#[derive(Debug, Group)]
pub(crate) struct LogShow {
    /// Its number [default: the last one]
    #[arg(value_name = "NUMBER", value_parser = number, allow_negative_numbers = true)]
    pub(crate) number: Option<i64>,
    #[command(flatten)]
    pub(crate) display: DisplayArgs,
}

/// The parts of an exchange to print.
#[derive(Debug, Default, Group)]
pub(crate) struct DisplayArgs {
    /// Print head, body, sent, timeline, cookies or all (comma-separated)
    #[arg(long, value_name = "PARTS", value_delimiter = ',', hide_possible_values = true, help_heading = OUTPUT)]
    pub(crate) show: Vec<Part>,
    /// Print only the value of a CEL expression or a JSONPath
    #[arg(long, value_name = "EXPR", conflicts_with_all = ["show", "json"], help_heading = OUTPUT)]
    pub(crate) pick: Option<String>,
    /// Do not pipe long bodies through PAGER
    #[arg(long, help_heading = OUTPUT)]
    pub(crate) no_pager: bool,
}

#[derive(Debug, Group)]
pub(crate) struct LogResend {
    /// Its number
    #[arg(value_name = "NUMBER", value_parser = number, allow_negative_numbers = true)]
    pub(crate) number: i64,
    /// Send the logged request, not the current one of its file; secrets are the current ones
    #[arg(long)]
    pub(crate) exactly: bool,
    #[command(flatten)]
    pub(crate) display: DisplayArgs,
    #[command(flatten)]
    pub(crate) comparing: CompareArgs,
    /// Send to a guarded environment without asking
    #[arg(long, help_heading = SAFETY)]
    pub(crate) yes: bool,
}

/// The differences to ignore.
#[derive(Debug, Group)]
pub(crate) struct CompareArgs {
    /// Ignore status, headers, headers.NAME, body, body.MEMBER or a JSONPath (repeatable)
    #[arg(long, value_name = "PART", help_heading = OUTPUT)]
    pub(crate) ignore: Vec<String>,
    /// Compare structure and types, not values
    #[arg(long, help_heading = OUTPUT)]
    pub(crate) shape: bool,
}

#[derive(Debug, Group)]
pub(crate) struct LogCompare {
    /// Two numbers; one, to compare with the one before [default: the last]; or a request to send to
    /// two environments
    #[arg(value_name = "NUMBER|WHERE", num_args = 0..=2)]
    pub(crate) what: Vec<String>,
    #[command(flatten)]
    pub(crate) comparing: CompareArgs,
    /// Send to a guarded environment without asking
    #[arg(long, help_heading = SAFETY)]
    pub(crate) yes: bool,
}

#[derive(Debug, Group)]
pub(crate) struct LogDrop {
    /// The numbers
    #[arg(value_name = "NUMBER", required = true, value_parser = number, allow_negative_numbers = true)]
    pub(crate) numbers: Vec<i64>,
}

#[derive(Debug, Group)]
pub(crate) struct LogClear {
    /// Only exchanges before then: 2h, 7d, or a date
    #[arg(long, value_name = "WHEN")]
    pub(crate) older_than: Option<Since>,
}

#[derive(Debug, Group)]
pub(crate) struct LogExport {
    /// The format: har
    #[arg(value_name = "FORMAT", hide_possible_values = true)]
    pub(crate) format: ExportFormat,
    /// Only these, by number [default: all that match the selection]
    #[arg(value_name = "NUMBER", value_parser = number, allow_negative_numbers = true)]
    pub(crate) numbers: Vec<i64>,
    #[command(flatten)]
    pub(crate) filter: LogFilter,
    /// The file to write [default: standard output]
    #[arg(short = 'o', long, alias = "out", value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportFormat {
    Har,
}

#[derive(Debug, Group)]
pub(crate) struct LogTrend {
    /// The request: its name, or FILE#NAME
    #[arg(value_name = "NAME")]
    pub(crate) name: String,
    /// Only exchanges since then
    #[arg(long, value_name = "WHEN")]
    pub(crate) since: Option<Since>,
    /// Write the plot to FILE.svg, or a page to FILE.html
    #[arg(short = 'o', long, alias = "out", value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

/// The number of an exchange.
fn number(text: &str) -> Result<i64, String> {
    let number = text.parse().ok().filter(|number| *number > 0);
    number.ok_or_else(|| "expected the number of an exchange, see `yieldtray log`".to_owned())
}

#[cfg(test)]
mod tests {
    use crate::args::Args;
    use clap::CommandFactory;

    #[test]
    fn what_is_no_number_of_an_exchange_is_refused_with_words() {
        for line in ["log show last", "log show -1", "log resend 0", "log drop 41 4x", "log export har 1.5"] {
            let arguments = ["yieldtray"].into_iter().chain(line.split(' '));
            let error = Args::command().try_get_matches_from(arguments).expect_err(line).to_string();
            assert!(error.contains("expected the number of an exchange, see `yieldtray log`"), "{line}: {error}");
        }
    }
}
