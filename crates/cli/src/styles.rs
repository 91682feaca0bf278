//! Colors and emphasis.

use anstyle::{AnsiColor, Style};
use yieldtray_workspace::config::EnvironmentColor;

/// Colours, or none. Colour carries meaning, but never alone: the words say the same.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Styles {
    coloured: bool,
}

impl Styles {
    /// With colours or without.
    pub(crate) fn new(coloured: bool) -> Self {
        Self { coloured }
    }

    /// Whether there are colours.
    pub(crate) fn has_color(self) -> bool {
        self.coloured
    }

    /// `text` in `style`.
    pub(crate) fn paint(self, style: Style, text: &str) -> String {
        if self.coloured && !text.is_empty() { format!("{style}{text}{style:#}") } else { text.to_owned() }
    }

    /// For the most important text.
    pub(crate) fn strong(self, text: &str) -> String {
        self.paint(Style::new().bold(), text)
    }

    /// An environment's name in its tint.
    pub(crate) fn environment(self, name: &str, tint: Option<EnvironmentColor>) -> String {
        let style = match tint {
            None => Style::new(),
            Some(EnvironmentColor::Red) => AnsiColor::Red.on_default(),
            Some(EnvironmentColor::Yellow) => AnsiColor::Yellow.on_default(),
            Some(EnvironmentColor::Green) => AnsiColor::Green.on_default(),
            Some(EnvironmentColor::Cyan) => AnsiColor::Cyan.on_default(),
            Some(EnvironmentColor::Blue) => AnsiColor::Blue.on_default(),
            Some(EnvironmentColor::Magenta) => AnsiColor::Magenta.on_default(),
        };
        self.paint(style.bold(), name)
    }

    /// For the least important text.
    pub(crate) fn dim(self, text: &str) -> String {
        self.paint(Style::new().dimmed(), text)
    }

    /// For failures.
    pub(crate) fn bad(self, text: &str) -> String {
        self.paint(AnsiColor::Red.on_default().bold(), text)
    }

    /// For warnings.
    pub(crate) fn warn(self, text: &str) -> String {
        self.paint(AnsiColor::Yellow.on_default(), text)
    }

    /// For success.
    pub(crate) fn good(self, text: &str) -> String {
        self.paint(AnsiColor::Green.on_default(), text)
    }

    /// A name of the user's own.
    pub(crate) fn name(self, text: &str) -> String {
        self.paint(AnsiColor::Cyan.on_default(), text)
    }
}
