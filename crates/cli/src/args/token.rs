//! Arguments of `token`.

use super::{LazyArgs, NoArgs};
use clap::{Args as Group, Subcommand};

#[derive(Debug, Group)]
pub(crate) struct Token {
    #[command(subcommand)]
    pub(crate) action: Option<TokenAction>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TokenAction {
    /// Obtain a token now, signing in if the profile needs it
    #[command(after_help = "Example:
  yieldtray token get desk -e staging")]
    Get(LazyArgs<Profiles>),
    /// Remove stored tokens without revoking them
    #[command(after_help = "Example:
  yieldtray token drop desk")]
    Drop(LazyArgs<Profiles>),
    /// Revoke stored tokens at their server, and remove them
    #[command(after_help = "Example:
  yieldtray token revoke desk")]
    Revoke(LazyArgs<Profiles>),
    /// Remove all tokens of the environment
    #[command(after_help = "Example:
  yieldtray token clear -e staging")]
    Clear(LazyArgs<NoArgs>),
}

#[derive(Debug, Group)]
pub(crate) struct Profiles {
    /// Profiles of `[oauth2]`
    #[arg(value_name = "PROFILE", required = true)]
    pub(crate) profiles: Vec<String>,
}
