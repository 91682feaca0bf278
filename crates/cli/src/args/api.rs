//! The options of `api`.

use super::{LazyArgs, OUTPUT, SELECTION};
use crate::args::time::Since;
use clap::{Args as Group, Subcommand};
use std::path::PathBuf;
use std::str::FromStr;

#[derive(Debug, Group)]
pub(crate) struct Api {
    #[command(subcommand)]
    pub(crate) action: ApiAction,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ApiAction {
    /// Fetch the description from the server, or look for it there
    #[command(after_help = "Examples:
  yieldtray api fetch
  yieldtray api fetch --output openapi.json

Where it comes from is set in `[api]` of yieldtray.toml. Without that it is looked for by the links of the
server (RFC 8631), its API catalog (RFC 9727), and at the usual paths.")]
    Fetch(LazyArgs<ApiFetch>),
    /// List what the API offers, one level at a time
    #[command(after_help = "Examples:
  yieldtray api tree
  yieldtray api tree /lots
  yieldtray api tree Query")]
    Tree(LazyArgs<ApiTree>),
    /// Show an operation, a type or a field
    #[command(after_help = "Examples:
  yieldtray api show 'POST /lots'
  yieldtray api show book-lot
  yieldtray api show Query.lots --api stock")]
    Show(LazyArgs<ApiShow>),
    /// Report what of the API the request files and the log exercise
    #[command(after_help = "Examples:
  yieldtray api coverage
  yieldtray api coverage requests/intake.http --min 60
  yieldtray api coverage --report html=coverage.html --report junit=coverage.xml")]
    Coverage(LazyArgs<ApiCoverage>),
    /// Report where logged responses and the description differ
    #[command(after_help = "Examples:
  yieldtray api drift --since 1d
  yieldtray api drift --strict")]
    Drift(LazyArgs<ApiDrift>),
    /// Compare two descriptions, and mark what breaks clients
    #[command(after_help = "Examples:
  yieldtray api diff old.json openapi.json
  yieldtray api diff openapi.json")]
    Diff(LazyArgs<ApiDiff>),
}

/// Which description, where there are several.
#[derive(Debug, Default, Group)]
pub(crate) struct WhichApi {
    /// The description named so in `[api.NAME]`
    #[arg(long, value_name = "NAME", help_heading = SELECTION)]
    pub(crate) api: Option<String>,
}

#[derive(Debug, Group)]
pub(crate) struct ApiFetch {
    #[command(flatten)]
    pub(crate) which: WhichApi,
    /// Write it to FILE for review, instead of the state of this workspace
    #[arg(short = 'o', long, alias = "out", value_name = "FILE", help_heading = OUTPUT)]
    pub(crate) output: Option<PathBuf>,
}

#[derive(Debug, Group)]
pub(crate) struct ApiTree {
    /// A path, a tag or a GraphQL type [default: the first level]
    #[arg(value_name = "PLACE")]
    pub(crate) place: Option<String>,
    #[command(flatten)]
    pub(crate) which: WhichApi,
}

#[derive(Debug, Group)]
pub(crate) struct ApiShow {
    /// METHOD PATH, an operation id, a schema, TYPE or TYPE.FIELD
    #[arg(value_name = "PLACE", required = true, num_args = 1..=2)]
    pub(crate) place: Vec<String>,
    #[command(flatten)]
    pub(crate) which: WhichApi,
}

#[derive(Debug, Group)]
pub(crate) struct ApiCoverage {
    /// FILE, DIR, FILE#NAME or NAME [default: all requests]
    #[arg(value_name = "WHERE")]
    pub(crate) places: Vec<String>,
    #[command(flatten)]
    pub(crate) which: WhichApi,
    /// Only exchanges of the log since then: 30m, 2h, 3d, or 2026-09-14T06:30
    #[arg(long, value_name = "WHEN", help_heading = SELECTION)]
    pub(crate) since: Option<Since>,
    /// Fail if less than PERCENT of the operations are covered
    #[arg(long, value_name = "PERCENT", value_parser = clap::value_parser!(u8).range(0..=100))]
    pub(crate) min: Option<u8>,
    /// Write a report: html=FILE, junit=FILE or json=FILE (repeatable)
    #[arg(long, value_name = "FORMAT=FILE", help_heading = OUTPUT)]
    pub(crate) report: Vec<CoverageReport>,
}

/// A format of the report of `api coverage`.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum CoverageReportKind {
    Html,
    Junit,
    Json,
}

/// `FORMAT=FILE`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct CoverageReport {
    pub(crate) kind: CoverageReportKind,
    pub(crate) file: PathBuf,
}

impl FromStr for CoverageReport {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let (name, file) = text.split_once('=').unwrap_or((text, ""));
        let kind = match name {
            "html" => CoverageReportKind::Html,
            "junit" => CoverageReportKind::Junit,
            "json" => CoverageReportKind::Json,
            _ => {
                return Err(
                    "expected FORMAT=FILE, for example `html=coverage.html`; formats: html, junit, json".to_owned()
                );
            }
        };
        if file.is_empty() {
            return Err(format!("the file name is missing, for example `{name}=coverage.{name}`"));
        }
        Ok(Self { kind, file: file.into() })
    }
}

#[derive(Debug, Group)]
pub(crate) struct ApiDrift {
    #[command(flatten)]
    pub(crate) which: WhichApi,
    /// Only exchanges of the log since then: 30m, 2h, 3d, or 2026-09-14T06:30
    #[arg(long, value_name = "WHEN", help_heading = SELECTION)]
    pub(crate) since: Option<Since>,
    /// Also fail if documented statuses or members were never received
    #[arg(long)]
    pub(crate) strict: bool,
}

#[derive(Debug, Group)]
pub(crate) struct ApiDiff {
    /// The older description: a file
    #[arg(value_name = "OLD")]
    pub(crate) old: PathBuf,
    /// The newer one: a file [default: that of the workspace]
    #[arg(value_name = "NEW")]
    pub(crate) new: Option<PathBuf>,
    #[command(flatten)]
    pub(crate) which: WhichApi,
}
