//! Arguments of the commands for what is stored of responses: `tray`, `cookies` and `token`.

use super::{LazyArgs, Names, NoArgs};
use clap::{Args as Group, Subcommand};

#[derive(Debug, Group)]
pub(crate) struct Tray {
    #[command(subcommand)]
    pub(crate) action: Option<TrayAction>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum TrayAction {
    /// Remove values by name
    #[command(after_help = "Example:
  yieldtray tray drop token lot_id")]
    Drop(LazyArgs<Names>),
    /// Remove all values of the environment
    #[command(after_help = "Example:
  yieldtray tray clear -e staging")]
    Clear(LazyArgs<NoArgs>),
}

#[derive(Debug, Group)]
pub(crate) struct Cookies {
    #[command(subcommand)]
    pub(crate) action: Option<CookiesAction>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum CookiesAction {
    /// Remove cookies by name
    #[command(after_help = "Example:
  yieldtray cookies drop packhouse_session")]
    Drop(LazyArgs<Names>),
    /// Remove all cookies of the environment
    #[command(after_help = "Example:
  yieldtray cookies clear -e staging")]
    Clear(LazyArgs<NoArgs>),
}

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
