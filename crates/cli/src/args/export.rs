//! Options of `export`.

use clap::{Args as Group, ValueEnum};

#[derive(Debug, Group)]
pub(crate) struct Export {
    /// The request; a file is exported as one chain where the target supports it
    #[arg(value_name = "WHERE", required_unless_present = "targets")]
    pub(crate) place: Option<String>,
    /// The language or format
    #[arg(long = "as", value_name = "TARGET", required_unless_present = "targets")]
    pub(crate) target: Option<String>,
    /// Keep variables as variables of the target instead of inserting their values
    #[arg(long)]
    pub(crate) keep_variables: bool,
    /// The former form of --keep-variables
    #[arg(long, value_name = "ON|OFF", default_value = "on", hide = true)]
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
