//! A request that was tried becomes a cell of a file.

use crate::disk;
use crate::failure::Stop;
use anyhow::Context;
use std::path::Path;
use yieldtray_core::problem::SourceId;
use yieldtray_core::syntax::{parse, slug};

/// Where a cell is added, looked at before anything is sent.
pub(crate) struct Append<'f> {
    file: &'f Path,
    before: String,
    cell: String,
    /// The name the cell has there.
    pub(crate) name: String,
}

impl<'f> Append<'f> {
    /// The cell that `text`, a request, makes at the end of `file`, under a name of its own.
    pub(crate) fn prepare(file: &'f Path, text: &str) -> Result<Self, Stop> {
        if file.extension().is_none_or(|extension| extension != "http") {
            let message = format!("`{}` is no request file", file.display());
            return Err(Stop::refused_with(message, "name one that ends in `.http`"));
        }
        let before = match std::fs::read_to_string(file) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
            Err(error) => return Err(Stop::refused(format!("cannot read `{}`: {error}", file.display()))),
        };
        let stem = file.file_stem().unwrap_or_default().to_string_lossy();
        let there = parse(&before, SourceId(0), &stem).file;
        if !before.trim().is_empty()
            && there.cells.first().is_some_and(|cell| !before[cell.span.range()].starts_with("%%"))
        {
            let message = format!("`{}` is one request without a `%%` line", file.display());
            return Err(Stop::refused_with(message, "write a line `%% Title` above it, so that others can follow"));
        }
        let taken = |name: &str| there.cells.iter().any(|cell| *cell.name == *name);
        let own = parse(text, SourceId(0), "request").file;
        let Some(first) = own.cells.first() else {
            return Err(Stop::refused("there is no request in this text"));
        };
        let text = text.trim_end();
        let titled = text.trim_start_matches('\u{feff}').starts_with("%%");
        let (cell, name) = if titled {
            if taken(&first.name) {
                let message = format!("`{}` has a cell named `{}` already", file.display(), first.name);
                return Err(Stop::refused_with(message, "give the request another title"));
            }
            (text.to_owned(), first.name.to_string())
        } else {
            let title = first.request.as_ref().map_or_else(String::new, |request| {
                let method = request.method.map_or("GET", |method| method.of(text));
                let target = request.target.of(text);
                format!("{method} {}", target.split(['?', '#']).next().unwrap_or(target))
            });
            let numbered = (2..).map(|number| format!("{title} {number}"));
            let title = std::iter::once(title.clone()).chain(numbered).find(|title| !taken(&slug(title)));
            let title = title.unwrap_or_default();
            let name = slug(&title);
            (format!("%% {title}\n{text}"), name)
        };
        Ok(Self { file, before, cell, name })
    }

    /// Adds it.
    pub(crate) fn write(&self) -> Result<(), Stop> {
        let before = self.before.trim_end();
        let gap = if before.is_empty() { "" } else { "\n\n" };
        let whole = format!("{before}{gap}{}\n", self.cell);
        disk::replace(self.file, whole.as_bytes())
            .with_context(|| format!("cannot write `{}`", self.file.display()))?;
        Ok(())
    }
}
