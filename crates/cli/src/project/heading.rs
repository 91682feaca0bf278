//! The first line of output: environment, URL, and warnings about connections.

use super::Project;
use crate::output::cell::Heading;
use crate::output::table::count;
use std::borrow::Cow;
use yieldtray_source::{SourceId, Span};
use yieldtray_workspace::{CellId, says_insecure};

impl Project {
    /// Environment and URL, for the first line of output.
    pub(crate) fn heading(&self) -> Heading {
        let environment = self.settings.environment.as_deref().map(|name| {
            let tint = self.workspace.config.environment(name).and_then(|environment| environment.tint);
            (name.to_owned(), tint)
        });
        Heading { environment, base: self.base(), warnings: self.connection_warnings() }
    }

    /// The same for a run of these cells.
    pub(crate) fn heading_of(&self, cells: impl IntoIterator<Item = CellId>) -> Heading {
        let mut heading = self.heading();
        let insecure = cells.into_iter().filter(|cell| says_insecure(&self.workspace, *cell)).count();
        if insecure > 0 {
            let count = count(insecure, "request", "requests");
            heading.warnings.push(format!("certificates are not verified for {count} (`% insecure`)"));
        }
        heading
    }

    /// Settings of a shared configuration that change who is trusted, which must not go unnoticed.
    fn connection_warnings(&self) -> Vec<String> {
        let settings = self.workspace.config.send_settings(self.settings.environment.as_deref());
        let place = |source: SourceId, span: Span| self.workspace.shown_line(source, span.start());
        let mut warnings = Vec::new();
        if let Some(setting) = settings.insecure.as_ref().filter(|setting| setting.value) {
            warnings.push(format!("certificates are not verified ({})", place(setting.source, setting.span)));
        }
        for (what, setting) in [("ca", &settings.ca), ("proxy", &settings.proxy)] {
            if let Some(setting) = setting.as_ref().filter(|setting| !setting.private) {
                let place = place(setting.source, setting.span);
                warnings.push(format!("{what} {} ({place})", without_credentials(&setting.value)));
            }
        }
        warnings
    }

    /// The URL of a cell, as far as it is known without evaluating anything.
    pub(crate) fn target(&self, cell: CellId) -> String {
        let text = &self.workspace.source(cell.source).text;
        let target = self.workspace.cell(cell).request.as_ref().map_or("", |request| request.target.of(text));
        match self.base() {
            Some(base) if target.starts_with('/') => format!("{}{target}", base.trim_end_matches('/')),
            _ => target.to_owned(),
        }
    }

    /// The base URL, if the configuration or the command line gives it.
    pub(crate) fn base(&self) -> Option<String> {
        let outside = self.workspace.outside(&self.settings.variables);
        let entry = || {
            let entry = self.workspace.config.entry(self.settings.environment.as_deref(), "base")?;
            // Nothing is run for a heading, and nothing secret is shown in one.
            let plain = !entry.secret && !entry.source_kind.asks_a_program();
            plain.then(|| entry.value(&outside).ok()).flatten()
        };
        let base = self.settings.set_value("base").map(Cow::Borrowed).or_else(entry)?;
        base.to_text().ok().map(Cow::into_owned)
    }
}

/// The URL of a proxy without its password.
fn without_credentials(address: &str) -> String {
    match (address.find("://"), address.rfind('@')) {
        (Some(scheme), Some(at)) if scheme < at => format!("{}{}", &address[..scheme + 3], &address[at + 1..]),
        _ => address.to_owned(),
    }
}
