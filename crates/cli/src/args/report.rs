//! Arguments of `report`, and reports that other commands write.

use super::LazyArgs;
use clap::{Args as Group, Subcommand};
use std::path::PathBuf;
use std::str::FromStr;
use yieldtray_report::ReportKind;
use yieldtray_source::{closest, join_words};

#[derive(Debug, Group)]
pub(crate) struct Report {
    #[command(subcommand)]
    pub(crate) action: ReportAction,
}

#[derive(Debug, Subcommand)]
pub(crate) enum ReportAction {
    /// Merge the JSON reports of shards or attempts into one
    #[command(after_help = "Example:
  yieldtray report merge part-*.json --report html=replay.html --report junit=replay.xml

For a request in several reports, the most recent result is used.")]
    Merge(LazyArgs<ReportMerge>),
}

#[derive(Debug, Group)]
pub(crate) struct ReportMerge {
    /// Files written by `replay --report json=FILE`
    #[arg(value_name = "FILE", required = true)]
    pub(crate) files: Vec<PathBuf>,
    /// Write the merged report: html, junit, tap, json or har (repeatable)
    #[arg(long, value_name = "FORMAT=FILE")]
    pub(crate) report: Vec<ReportFile>,
}

/// `FORMAT=FILE`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ReportFile {
    pub(crate) kind: ReportKind,
    pub(crate) file: PathBuf,
}

impl FromStr for ReportFile {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let kinds = || join_words(ReportKind::ALL.map(ReportKind::as_str));
        let (name, file) = text
            .split_once('=')
            .ok_or_else(|| format!("expected FORMAT=FILE, for example `html={text}`; formats: {}", kinds()))?;
        let kind =
            ReportKind::of(name).ok_or_else(|| match closest(name, ReportKind::ALL.map(ReportKind::as_str)) {
                Some(meant) => format!("unknown format `{name}`: did you mean `{meant}`?"),
                None => format!("unknown format `{name}`; available: {}", kinds()),
            })?;
        if file.is_empty() {
            return Err(format!("the file name is missing, for example `{name}=report`"));
        }
        Ok(Self { kind, file: file.into() })
    }
}

/// `sarif=FILE`.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct DiagnosticsFile(pub(crate) PathBuf);

impl FromStr for DiagnosticsFile {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        match text.split_once('=') {
            Some(("sarif", file)) if !file.is_empty() => Ok(Self(file.into())),
            _ => Err("expected FORMAT=FILE, for example `sarif=lint.sarif`".to_owned()),
        }
    }
}
