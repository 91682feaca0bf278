//! The options of `log`, and of looking at an exchange.

use super::{LazyArgs, Part};
use crate::args::time::{Since, StatusRange};
use clap::{Args as Group, Subcommand, ValueEnum};
use std::path::PathBuf;

#[derive(Debug, Group)]
pub(crate) struct Log {
    #[command(subcommand)]
    pub(crate) action: Option<LogAction>,
    #[command(flatten)]
    pub(crate) filter: LogFilter,
    /// So many at most, the newest first
    #[arg(long, value_name = "N", default_value_t = 30)]
    pub(crate) most: usize,
}

/// Which exchanges; with `--env`, those of that environment.
#[derive(Debug, Group)]
pub(crate) struct LogFilter {
    /// Only cells of this name, or FILE.http#NAME; `*` stands for any characters
    #[arg(long, value_name = "NAME")]
    pub(crate) name: Option<String>,
    /// Only these statuses: 404, 4xx or 400-409
    #[arg(long, value_name = "STATUS")]
    pub(crate) status: Option<StatusRange>,
    /// Only what was sent since then: 30m, 2h, 3d, or a date and time as in 2026-09-14T06:30
    #[arg(long, value_name = "WHEN")]
    pub(crate) since: Option<Since>,
    /// Only what did not pass
    #[arg(long)]
    pub(crate) failed: bool,
    /// Only what has this text in its address or a body, at the beginning of a word
    #[arg(long, value_name = "TEXT")]
    pub(crate) grep: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum LogAction {
    /// Look at a past exchange as `send` shows one
    #[command(after_help = "Examples:
  yieldtray log show
  yieldtray log show 41 --pick body.id")]
    Show(LazyArgs<LogShow>),
    /// Send a past request once more, and say what differs from then
    #[command(after_help = "Examples:
  yieldtray log again 41
  yieldtray log again 41 --exactly")]
    Again(LazyArgs<LogAgain>),
    /// Compare two past answers, one with the one before it, or those of two environments; exit 1 if they differ
    #[command(after_help = "Examples:
  yieldtray log compare 41 44
  yieldtray log compare 44 --ignore 'body.lots[*].weighed_at'
  yieldtray log compare -e bench -e live list-growers --shape")]
    Compare(LazyArgs<LogCompare>),
    /// Drop exchanges by number
    #[command(after_help = "Example: yieldtray log drop 41 44")]
    Drop(LazyArgs<LogDrop>),
    /// Drop all exchanges; with `--env`, those of that environment
    #[command(after_help = "Example: yieldtray log clear --older-than 7d")]
    Clear(LazyArgs<LogClear>),
    /// Write exchanges as an HTTP Archive, which a browser's network panel opens
    #[command(after_help = "Example: yieldtray log export har --since 1d --out morning.har")]
    Export(LazyArgs<LogExport>),
    /// Draw how the time and size of one request went on
    #[command(after_help = "Examples:
  yieldtray log trend list-growers
  yieldtray log trend requests/intake.http#book-lot --out book-lot.svg")]
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

/// What to print of an exchange.
#[derive(Debug, Default, Group)]
pub(crate) struct DisplayArgs {
    /// What to print of the exchange: head, body, sent, timeline, cookies, all (comma-separated)
    #[arg(long, value_name = "PARTS", value_delimiter = ',')]
    pub(crate) show: Vec<Part>,
    /// Print one expression of the response and nothing else: text bare, the rest as JSON; what starts
    /// with `$` is a JSONPath into the body
    #[arg(long, value_name = "EXPR", conflicts_with_all = ["show", "json"])]
    pub(crate) pick: Option<String>,
    /// Print long bodies here, not through PAGER
    #[arg(long)]
    pub(crate) no_pager: bool,
}

#[derive(Debug, Group)]
pub(crate) struct LogAgain {
    /// Its number
    #[arg(value_name = "NUMBER", value_parser = number, allow_negative_numbers = true)]
    pub(crate) number: i64,
    /// As it was sent then, not as its file makes it now; secrets are those of now
    #[arg(long)]
    pub(crate) exactly: bool,
    #[command(flatten)]
    pub(crate) display: DisplayArgs,
    #[command(flatten)]
    pub(crate) comparing: CompareArgs,
    /// Send to a guarded environment without asking
    #[arg(long)]
    pub(crate) yes: bool,
}

/// What counts as a difference.
#[derive(Debug, Group)]
pub(crate) struct CompareArgs {
    /// Leave a part out: status, headers, headers.NAME, body, body.MEMBER or a JSONPath (repeatable)
    #[arg(long, value_name = "PART")]
    pub(crate) ignore: Vec<String>,
    /// Compare structure and types, not values
    #[arg(long)]
    pub(crate) shape: bool,
}

#[derive(Debug, Group)]
pub(crate) struct LogCompare {
    /// Two numbers, or one, for that and the one before it [default: the last one]; with two environments
    /// the request to send to both
    #[arg(value_name = "NUMBER|WHERE", num_args = 0..=2)]
    pub(crate) what: Vec<String>,
    #[command(flatten)]
    pub(crate) comparing: CompareArgs,
    /// Send to a guarded environment without asking
    #[arg(long)]
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
    /// Only those from before then: 2h, 7d, or a date
    #[arg(long, value_name = "WHEN")]
    pub(crate) older_than: Option<Since>,
}

#[derive(Debug, Group)]
pub(crate) struct LogExport {
    /// The format
    #[arg(value_name = "FORMAT")]
    pub(crate) format: ExportFormat,
    /// Only these, by number [default: all that the filters leave]
    #[arg(value_name = "NUMBER", value_parser = number, allow_negative_numbers = true)]
    pub(crate) numbers: Vec<i64>,
    #[command(flatten)]
    pub(crate) filter: LogFilter,
    /// The file to write [default: standard output]
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum ExportFormat {
    /// HTTP Archive 1.2
    Har,
}

#[derive(Debug, Group)]
pub(crate) struct LogTrend {
    /// The request: its name, or FILE.http#NAME
    #[arg(value_name = "NAME")]
    pub(crate) name: String,
    /// Only what was sent since then
    #[arg(long, value_name = "WHEN")]
    pub(crate) since: Option<Since>,
    /// Write the plot to FILE.svg, or a page to FILE.html, instead
    #[arg(long, value_name = "FILE")]
    pub(crate) out: Option<PathBuf>,
}

/// The number of an exchange.
fn number(text: &str) -> Result<i64, String> {
    let number = text.parse().ok().filter(|number| *number > 0);
    number.ok_or_else(|| "write the number of an exchange, as `yieldtray log` shows it".to_owned())
}

#[cfg(test)]
mod tests {
    use crate::args::Args;
    use clap::CommandFactory;

    #[test]
    fn what_is_no_number_of_an_exchange_is_refused_with_words() {
        for line in ["log show last", "log show -1", "log again 0", "log drop 41 4x", "log export har 1.5"] {
            let arguments = ["yieldtray"].into_iter().chain(line.split(' '));
            let error = Args::command().try_get_matches_from(arguments).expect_err(line).to_string();
            assert!(error.contains("write the number of an exchange, as `yieldtray log` shows it"), "{line}: {error}");
        }
    }
}
