//! Arguments of `secret`.

use super::{LazyArgs, NoArgs};
use clap::{Args as Group, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Group)]
pub(crate) struct Secret {
    #[command(subcommand)]
    pub(crate) action: SecretAction,
}

#[derive(Debug, Subcommand)]
pub(crate) enum SecretAction {
    /// Store a secret in the keyring of this system
    #[command(after_help = "Examples:
  yieldtray secret store packhouse-pin
  pass show packhouse | yieldtray secret store packhouse-pin --from -

A configuration uses it as `pin = { from = \"keyring:packhouse-pin\" }`.")]
    Store(LazyArgs<SecretStore>),
    /// Remove a secret from the keyring of this system
    #[command(after_help = "Example:
  yieldtray secret remove packhouse-pin")]
    Remove(LazyArgs<SecretName>),
    /// Encrypt a value for the team, into a file that is committed
    #[command(after_help = "Examples:
  yieldtray secret seal clerk_password
  yieldtray secret seal clerk_password --file staging.secrets.toml --from -

A configuration uses it as `clerk_password = { from = \"sealed:secrets.toml\" }`.")]
    Seal(LazyArgs<SecretSeal>),
    /// Encrypt all values again, after the recipients in the file have changed
    #[command(after_help = "Example:
  yieldtray secret reseal")]
    Reseal(LazyArgs<SecretFile>),
    /// Print the recipient that others encrypt for you with; the first time, make it
    #[command(after_help = "Example:
  yieldtray secret identity")]
    Identity(LazyArgs<NoArgs>),
}

#[derive(Debug, Group)]
pub(crate) struct SecretName {
    /// Its name in the keyring
    #[arg(value_name = "NAME")]
    pub(crate) name: String,
}

#[derive(Debug, Group)]
pub(crate) struct SecretStore {
    /// Its name in the keyring
    #[arg(value_name = "NAME")]
    pub(crate) name: String,
    /// Read it from a file instead of asking; `-` reads stdin
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
}

#[derive(Debug, Group)]
pub(crate) struct SecretFile {
    /// The file of encrypted values, relative to the workspace root
    #[arg(long, value_name = "FILE", default_value = "secrets.toml")]
    pub(crate) file: PathBuf,
}

#[derive(Debug, Group)]
pub(crate) struct SecretSeal {
    /// The variable
    #[arg(value_name = "NAME")]
    pub(crate) name: String,
    /// The file of encrypted values, relative to the workspace root
    #[arg(long, value_name = "FILE", default_value = "secrets.toml")]
    pub(crate) file: PathBuf,
    /// Read it from a file instead of asking; `-` reads stdin
    #[arg(long, value_name = "FILE")]
    pub(crate) from: Option<PathBuf>,
}
