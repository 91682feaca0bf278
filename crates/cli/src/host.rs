//! Facts about the host.

use std::io::IsTerminal;

/// Facts about the host, read once, so that decisions depend on values only.
#[derive(Clone, Debug)]
pub(crate) struct HostFacts {
    /// Whether standard output is a terminal.
    pub(crate) out_is_terminal: bool,
    /// Whether standard error is a terminal.
    pub(crate) errors_are_terminal: bool,
    /// The terminal's width in columns, if there is one.
    pub(crate) width: Option<usize>,
    /// Its height in lines.
    pub(crate) height: Option<usize>,
    /// `PAGER`.
    pub(crate) pager: Option<String>,
    /// Whether `NO_COLOR` is set to something.
    pub(crate) no_color: bool,
    /// Whether somebody can be asked: both ends of a conversation are a terminal.
    pub(crate) can_ask: bool,
    /// `YIELDTRAY_ENV`.
    pub(crate) environment: Option<String>,
    /// `YIELDTRAY_ALLOW`.
    pub(crate) allow: Option<String>,
}

impl HostFacts {
    /// Looks around.
    pub(crate) fn detect() -> Self {
        let out_is_terminal = std::io::stdout().is_terminal();
        let size = terminal_size::terminal_size();
        let width = size.map(|(width, _)| usize::from(width.0));
        Self {
            out_is_terminal,
            errors_are_terminal: std::io::stderr().is_terminal(),
            can_ask: std::io::stderr().is_terminal() && std::io::stdin().is_terminal(),
            width: width.filter(|_| out_is_terminal),
            height: size.map(|(_, height)| usize::from(height.0)),
            pager: std::env::var("PAGER").ok(),
            no_color: std::env::var_os("NO_COLOR").is_some_and(|value| !value.is_empty()),
            environment: std::env::var("YIELDTRAY_ENV").ok().filter(|name| !name.is_empty()),
            allow: std::env::var("YIELDTRAY_ALLOW").ok().filter(|named| !named.is_empty()),
        }
    }
}
