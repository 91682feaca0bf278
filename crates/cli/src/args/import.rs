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
    /// Make requests of commands of curl
    #[command(after_help = "Examples:
  yieldtray import curl \"curl -d bins=24 http://127.0.0.1:4616/lots\"
  yieldtray import curl < commands.sh
  yieldtray import curl commands.sh --into requests/pasted.http --dry")]
    Curl(LazyArgs<ImportCurl>),
    /// Make requests of what a browser recorded (HTTP Archive 1.2)
    #[command(after_help = "Examples:
  yieldtray import har desk.har --only '/api/*' --into requests/desk.http
  yieldtray import har desk.har --method POST --with-checks

Images, fonts, style and scripts are left out. Cookies and credentials become secret values.")]
    Har(LazyArgs<ImportHar>),
    /// Make a workspace of a description of an API (OpenAPI 3.0 and 3.1)
    #[command(after_help = "Examples:
  yieldtray import openapi packhouse.yaml --into requests
  yieldtray import openapi packhouse.yaml --operation bookLot

A file for each tag, with the schemas that answers must fit beside it; servers become environments.
What is there already stays as it is.")]
    Openapi(LazyArgs<ImportOpenapi>),
}

/// Where the requests go.
#[derive(Clone, Debug, Group)]
pub(crate) struct ImportTarget {
    /// Append the requests to FILE.http, secrets to yieldtray.local.toml, instead of printing them
    #[arg(long, value_name = "FILE.http")]
    pub(crate) into: Option<PathBuf>,
    /// Write nothing, but show what would change
    #[arg(long)]
    pub(crate) dry: bool,
}

#[derive(Debug, Group)]
pub(crate) struct ImportCurl {
    /// One command in quotes, a file of them, or - for standard input; behind `--`, the words of one
    #[arg(value_name = "COMMAND|FILE", default_value = "-")]
    pub(crate) given: Vec<String>,
    #[command(flatten)]
    pub(crate) into: ImportTarget,
}

#[derive(Debug, Group)]
pub(crate) struct ImportHar {
    /// The recording, or - for standard input
    #[arg(value_name = "FILE")]
    pub(crate) file: PathBuf,
    /// Only addresses or paths that fit PATTERN, in which * stands for anything (repeatable)
    #[arg(long, value_name = "PATTERN")]
    pub(crate) only: Vec<String>,
    /// Only this method (repeatable)
    #[arg(long, value_name = "METHOD")]
    pub(crate) method: Vec<String>,
    /// Only answers of this media type, as application/json or text/* (repeatable)
    #[arg(long, value_name = "TYPE")]
    pub(crate) media: Vec<String>,
    /// Only what the page of this id or title asked for
    #[arg(long, value_name = "PAGE")]
    pub(crate) page: Option<String>,
    /// Images, fonts, style and scripts too
    #[arg(long)]
    pub(crate) everything: bool,
    /// Add checks that hold for the recorded answers
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
    /// Print the request of one operation: its operationId, or as 'GET /lots'
    #[arg(long, value_name = "OPERATION")]
    pub(crate) operation: Option<String>,
    /// Write nothing, but show what would change
    #[arg(long)]
    pub(crate) dry: bool,
}
