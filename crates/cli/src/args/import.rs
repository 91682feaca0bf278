//! Options of `import`.

use super::LazyArgs;
use clap::{Args as Group, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Group)]
pub(crate) struct Import {
    #[command(subcommand)]
    pub(crate) from: ImportFrom,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ImportFrom {
    /// Import curl commands
    #[command(after_help = "Examples:
  yieldtray import curl \"curl -d bins=24 http://127.0.0.1:4616/lots\"
  yieldtray import curl < commands.sh
  yieldtray import curl commands.sh --into requests/pasted.http --dry-run")]
    Curl(LazyArgs<ImportCurl>),
    /// Import a recording of a browser (HTTP Archive 1.2)
    #[command(after_help = "Examples:
  yieldtray import har desk.har --only '/api/*' --into requests/desk.http
  yieldtray import har desk.har --method POST --with-checks

Images, fonts, styles and scripts are skipped. Cookies and credentials become secret variables.")]
    Har(LazyArgs<ImportHar>),
    /// Import an API description (OpenAPI 3.0 and 3.1)
    #[command(after_help = "Examples:
  yieldtray import openapi packhouse.yaml --into requests
  yieldtray import openapi packhouse.yaml --operation bookLot

Writes one file for each tag with the schemas of its responses; servers become environments.
Existing requests and variables are not changed.")]
    Openapi(LazyArgs<ImportOpenapi>),
}

/// Where the requests go.
#[derive(Clone, Debug, Group)]
pub(crate) struct ImportTarget {
    /// Append the requests to FILE.http, secrets to yieldtray.local.toml, instead of printing them
    #[arg(long, value_name = "FILE.http")]
    pub(crate) into: Option<PathBuf>,
    /// Write nothing; show what would change
    #[arg(short = 'n', long, alias = "dry")]
    pub(crate) dry_run: bool,
}

#[derive(Debug, Group)]
pub(crate) struct ImportCurl {
    /// A command in quotes, a file, - for stdin, or a command after `--`
    #[arg(value_name = "COMMAND|FILE", default_value = "-")]
    pub(crate) given: Vec<String>,
    #[command(flatten)]
    pub(crate) into: ImportTarget,
}

#[derive(Debug, Group)]
pub(crate) struct ImportHar {
    /// The recording, or - for stdin
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// Only URLs or paths that match PATTERN; `*` matches anything (repeatable)
    #[arg(long, value_name = "PATTERN")]
    pub(crate) only: Vec<String>,
    /// Only this method (repeatable)
    #[arg(long, value_name = "METHOD")]
    pub(crate) method: Vec<String>,
    /// Only responses of this media type, for example application/json or text/* (repeatable)
    #[arg(long, value_name = "TYPE")]
    pub(crate) media: Vec<String>,
    /// Only requests of the page with this id or title
    #[arg(long, value_name = "PAGE")]
    pub(crate) page: Option<String>,
    /// Include images, fonts, styles and scripts
    #[arg(long)]
    pub(crate) everything: bool,
    /// Add checks for the recorded responses
    #[arg(long)]
    pub(crate) with_checks: bool,
    #[command(flatten)]
    pub(crate) into: ImportTarget,
}

#[derive(Debug, Group)]
pub(crate) struct ImportOpenapi {
    /// The description, JSON or YAML
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// Write a request file for each tag into DIR
    #[arg(long, value_name = "DIR", required_unless_present = "operation", conflicts_with = "operation")]
    pub(crate) into: Option<PathBuf>,
    /// Print the request of one operation: its operationId, or 'GET /lots'
    #[arg(long, value_name = "OPERATION")]
    pub(crate) operation: Option<String>,
    /// Write nothing; show what would change
    #[arg(short = 'n', long, alias = "dry")]
    pub(crate) dry_run: bool,
}
