//! Options of `export`.

use clap::{Args as Group, ValueEnum};

#[derive(Debug, Group)]
pub(crate) struct Export {
    /// The request; a file is written as one chain where the target can say that
    #[arg(value_name = "WHERE", required_unless_present = "targets")]
    pub(crate) place: Option<String>,
    /// The language or format
    #[arg(long = "as", value_name = "TARGET", required_unless_present = "targets")]
    pub(crate) target: Option<String>,
    /// Whether values stand in it, or `off`: keep their names as variables
    #[arg(long, value_name = "ON|OFF", default_value = "on")]
    pub(crate) with_values: OnOff,
    /// List the targets
    #[arg(long, conflicts_with_all = ["place", "target"])]
    pub(crate) targets: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum OnOff {
    On,
    Off,
}
