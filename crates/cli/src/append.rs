//! A request that was tried becomes a cell of a file.

use crate::error::CommandError;
use crate::files;
use anyhow::Context;
use std::path::Path;
use yieldtray_source::SourceId;
use yieldtray_source::names::{first_free, slug};
use yieldtray_syntax::{RequestFile, parse};

/// Where a cell is added, looked at before anything is sent.
pub(crate) struct Append<'f> {
    file: &'f Path,
    text: String,
}

/// A cell behind what a file holds.
struct Behind {
    before: String,
    cell: String,
    /// The name the cell has there.
    name: String,
}

impl<'f> Append<'f> {
    /// The cell that `text`, a request, makes at the end of `file`, if it can be added there as it is now.
    pub(crate) fn prepare(file: &'f Path, text: &str) -> Result<Self, CommandError> {
        expect_request_file(file)?;
        let append = Self { file, text: text.to_owned() };
        append.behind().map(|_| append)
    }

    /// The cell under a name of its own, behind what the file holds now.
    fn behind(&self) -> Result<Behind, CommandError> {
        let (file, text) = (self.file, self.text.as_str());
        let before = match files::read_text(file) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
            Err(error) => return Err(CommandError::refused(format!("cannot read `{}`: {error}", file.display()))),
        };
        let stem = file.file_stem().unwrap_or_default().to_string_lossy();
        let there = parse(&before, SourceId(0), &stem).file;
        expect_titles(file, &before, &there)?;
        let taken = |name: &str| there.cells.iter().any(|cell| *cell.name == *name);
        let own = parse(text, SourceId(0), "request").file;
        let Some(first) = own.cells.first() else {
            return Err(CommandError::refused("this text contains no request"));
        };
        let text = text.trim_end();
        let titled = text.trim_start_matches('\u{feff}').starts_with("%%");
        let (cell, name) = if titled {
            if taken(&first.name) {
                let message = format!("`{}` already contains a request named `{}`", file.display(), first.name);
                return Err(CommandError::refused_with(message, "use another title"));
            }
            (text.to_owned(), first.name.to_string())
        } else {
            let title = first.request.as_ref().map_or_else(String::new, |request| {
                let method = request.method.map_or("GET", |method| method.of(text));
                let target = request.target.of(text);
                format!("{method} {}", target.split(['?', '#']).next().unwrap_or(target))
            });
            let title = first_free(&title, " ", |title| !taken(&slug(title)));
            let name = slug(&title);
            (format!("%% {title}\n{text}"), name)
        };
        Ok(Behind { before, cell, name })
    }

    /// Appends the request and returns its name in the file. The file is read again, since others may have changed it
    /// while the response was awaited.
    pub(crate) fn write(self) -> Result<String, CommandError> {
        let folder = self.file.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
        let cannot_write = || format!("cannot write `{}`", self.file.display());
        let _lock = files::lock(&files::root_of(folder)).with_context(cannot_write)?;
        let Behind { before, cell, name } = self.behind()?;
        let before = before.trim_end();
        let gap = if before.is_empty() { "" } else { "\n\n" };
        files::replace(self.file, format!("{before}{gap}{cell}\n").as_bytes()).with_context(cannot_write)?;
        Ok(name)
    }
}

/// Refuses a file that is not one of requests by its name.
pub(crate) fn expect_request_file(file: &Path) -> Result<(), CommandError> {
    if file.extension().is_some_and(|extension| extension == "http") {
        return Ok(());
    }
    let message = format!("`{}` is not a request file", file.display());
    Err(CommandError::refused_with(message, "use a file name that ends in `.http`"))
}

/// Refuses a file whose only request has no title: behind it, another one would be its body.
pub(crate) fn expect_titles(file: &Path, text: &str, there: &RequestFile) -> Result<(), CommandError> {
    if text.trim().is_empty() || there.cells.first().is_none_or(|cell| text[cell.span.range()].starts_with("%%")) {
        return Ok(());
    }
    let message = format!("`{}` contains a single request without a `%%` line", file.display());
    Err(CommandError::refused_with(message, "add a line `%% Title` above it first"))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The file with the request appended, and its name there; or why it cannot be appended.
    fn appended(before: Option<&str>, text: &str) -> Result<(String, String), String> {
        let folder = tempfile::tempdir().expect("a folder");
        let file = folder.path().join("lots.http");
        if let Some(before) = before {
            std::fs::write(&file, before).expect("a file");
        }
        let append = Append::prepare(&file, text).map_err(|error| match error {
            CommandError::Refused { message, .. } => message.replace(&file.display().to_string(), "FILE"),
            other => format!("{other:?}"),
        })?;
        let name = append.write().expect("it is written");
        Ok((std::fs::read_to_string(&file).expect("a file"), name))
    }

    #[test]
    fn a_request_gets_a_name_of_its_own() {
        for (before, text, after, name) in [
            (None, "GET /lots", "%% GET /lots\nGET /lots\n", "get-lots"),
            (Some("\n\n"), "/lots\n\n", "%% GET /lots\n/lots\n", "get-lots"),
            (
                Some("%% GET /lots\nGET /lots\n"),
                "GET /lots?page=2",
                "%% GET /lots\nGET /lots\n\n%% GET /lots 2\nGET /lots?page=2\n",
                "get-lots-2",
            ),
            (
                Some("# Lots\n\n% tag lots\n"),
                "%% Open lots\nGET /lots?state=open\n\n% check status == 200\n",
                "# Lots\n\n% tag lots\n\n%% Open lots\nGET /lots?state=open\n\n% check status == 200\n",
                "open-lots",
            ),
        ] {
            let done = appended(before, text).unwrap_or_else(|why| panic!("{text}: {why}"));
            assert_eq!(done, (after.to_owned(), name.to_owned()), "{text}");
        }
    }

    #[test]
    fn what_would_not_be_found_again_is_refused() {
        for (before, text, why) in [
            (
                Some("%% Open lots\n/lots\n"),
                "%% Open lots\nGET /lots",
                "`FILE` already contains a request named `open-lots`",
            ),
            (Some("GET /lots\n"), "GET /growers", "`FILE` contains a single request without a `%%` line"),
            (None, "# only a comment\n", "this text contains no request"),
        ] {
            assert_eq!(appended(before, text), Err(why.to_owned()), "{text}");
        }
        let other = Append::prepare(Path::new("lots.txt"), "GET /lots").err();
        assert!(
            matches!(other, Some(CommandError::Refused { message, .. }) if message == "`lots.txt` is not a request file")
        );
    }
}
