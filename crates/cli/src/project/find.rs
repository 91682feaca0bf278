//! The cells that places on a command line name.

use super::Project;
use crate::error::CommandError;
use crate::files::request_files;
use crate::output::Out;
use crate::project::locator::Locator;
use anyhow::Context;
use std::io::Read;
use std::path::Path;
use yieldtray_engine::ExitCode;
use yieldtray_source::{Problem, SourceId, closest, join_words};
use yieldtray_workspace::CellId;

impl Project {
    /// The cells that the places name, in order, each once.
    pub(crate) fn find(&mut self, places: &[Locator]) -> Result<Vec<CellId>, CommandError> {
        let mut cells: Vec<CellId> = Vec::new();
        for place in places {
            for cell in self.find_one(place)? {
                // Places rarely overlap; a folder alone names each cell once.
                if places.len() == 1 || !cells.contains(&cell) {
                    cells.push(cell);
                }
            }
        }
        Ok(cells)
    }

    /// Every cell of the workspace's request files.
    pub(crate) fn find_all(&mut self) -> Result<Vec<CellId>, CommandError> {
        let folder = self.root.join(&self.workspace.config.requests);
        if !folder.is_dir() {
            return Err(CommandError::refused_with(
                format!("directory `{}` of the setting `requests` not found", folder.display()),
                "create it, or change `requests` in `yieldtray.toml`",
            ));
        }
        self.cells_below(&folder)
    }

    /// Adds a request that is not in a file.
    pub(crate) fn take_text(&mut self, name: &str, text: String) -> Result<CellId, CommandError> {
        let source = self.workspace.load_text(name, text)?;
        match self.workspace.cells(source).count() {
            1 => Ok(CellId { source, index: 0 }),
            0 => Err(CommandError::refused_with("this text contains no request", "for example `GET /lots`")),
            more => Err(CommandError::refused(format!("this text contains {more} requests, but only one can be sent"))),
        }
    }

    fn find_one(&mut self, place: &Locator) -> Result<Vec<CellId>, CommandError> {
        match place {
            Locator::StandardInput => {
                let mut text = String::new();
                std::io::stdin().read_to_string(&mut text).context("cannot read standard input")?;
                self.take_text("<stdin>", text).map(|cell| vec![cell])
            }
            Locator::Path(path) => {
                let full = self.here.join(path);
                if full.is_dir() {
                    return self.cells_below(&full);
                }
                let source = self.load(path)?;
                Ok(self.workspace.cells(source).collect())
            }
            Locator::Line(path, line) => {
                let source = self.load(path)?;
                self.cell_at(source, *line).map(|cell| vec![cell])
            }
            Locator::Cell(path, name) => {
                let source = self.load(path)?;
                self.cell_named(source, path, name).map(|cell| vec![cell])
            }
            Locator::Name(name) => {
                let all = self.find_all()?;
                self.only_cell_named(&all, name).map(|cell| vec![cell])
            }
        }
    }

    fn note_unreadable(&mut self, problems: impl IntoIterator<Item = Problem>) {
        for problem in problems {
            if !self.unreadable.contains(&problem) {
                self.unreadable.push(problem);
            }
        }
    }

    /// Forgets which files were looked for so far.
    pub(crate) fn forget_files(&mut self) {
        self.looked_at.clear();
        self.unreadable.clear();
    }

    /// Shows which files and folders could not be read.
    pub(crate) fn report_unreadable(&self, out: &mut Out) -> std::io::Result<()> {
        match self.unreadable.is_empty() {
            true => Ok(()),
            false => out.problems(&self.workspace, &self.unreadable),
        }
    }

    /// The exit code that a command has at least, for files that could not be read.
    pub(crate) fn unreadable_code(&self) -> ExitCode {
        ExitCode::invalid_input_if(self.unreadable.iter().any(Problem::is_error))
    }

    fn load(&mut self, path: &str) -> Result<SourceId, CommandError> {
        let full = self.here.join(path);
        let Ok(full) = full.canonicalize() else {
            return Err(CommandError::refused_with(format!("no file `{path}`"), self.similar_file(path)));
        };
        let Ok(inside) = full.strip_prefix(&self.root) else {
            let message = format!("`{path}` is outside the workspace `{}`", self.root.display());
            return Err(CommandError::refused_with(message, "pass paths of one workspace"));
        };
        let source = self.workspace.load(inside)?;
        self.looked_at.push(source);
        Ok(source)
    }

    /// A hint at the request file whose path or name is similar.
    fn similar_file(&self, path: &str) -> String {
        let folder = self.root.join(&self.workspace.config.requests);
        let files = request_files(&self.root, &folder, false).map(|found| found.files).unwrap_or_default();
        let paths: Vec<String> = files.iter().map(|file| file.display().to_string()).collect();
        let name = |path: &'_ str| path.rsplit('/').next().unwrap_or_default().to_owned();
        let names: Vec<String> = paths.iter().map(|path| name(path)).collect();
        let meant = closest(path, paths.iter().map(String::as_str)).map(str::to_owned).or_else(|| {
            let meant = closest(&name(path), names.iter().map(String::as_str))?;
            paths.iter().find(|path| name(path) == meant).cloned()
        });
        match meant {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => "see `yieldtray list` for the requests".to_owned(),
        }
    }

    fn cells_below(&mut self, folder: &Path) -> Result<Vec<CellId>, CommandError> {
        let mut cells = Vec::new();
        let found = request_files(&self.root, folder, false)?;
        self.note_unreadable(found.passed_over);
        for file in found.files {
            // A file that cannot be read is reported, and does not stop the others.
            match self.workspace.load(&file) {
                Ok(source) => {
                    self.looked_at.push(source);
                    cells.extend(self.workspace.cells(source));
                }
                Err(problem) => self.note_unreadable([problem]),
            }
        }
        Ok(cells)
    }

    fn cell_at(&self, source: SourceId, line: usize) -> Result<CellId, CommandError> {
        let text = &self.workspace.source(source);
        let path = self.workspace.shown_path(source);
        let Some(span) = text.lines().span(&text.text, line) else {
            return Err(CommandError::refused(format!("`{path}` has no line {line}")));
        };
        let at = |cell: &CellId| {
            let own = self.workspace.cell(*cell).span;
            // A byte order mark may precede the first line.
            own.start() < span.end().max(span.start() + 1) && (span.start() < own.end() || own.end() == text.text.len())
        };
        self.workspace.cells(source).filter(at).last().ok_or_else(|| {
            CommandError::refused_with(
                format!("line {line} of `{path}` is before the first request"),
                "use a line at or below a `%%` line",
            )
        })
    }

    fn cell_named(&self, source: SourceId, path: &str, name: &str) -> Result<CellId, CommandError> {
        self.workspace.cell_named(source, name).ok_or_else(|| {
            let names: Vec<&str> = self.workspace.source(source).file.cells.iter().map(|cell| &*cell.name).collect();
            let hint = match closest(name, names.iter().copied()) {
                Some(meant) => format!("did you mean `{meant}`?"),
                None if names.is_empty() => "it contains no requests".to_owned(),
                None => format!("available: {}", join_words(names.iter().take(12))),
            };
            CommandError::refused_with(format!("no request `{name}` in `{path}`"), hint)
        })
    }

    fn only_cell_named(&self, all: &[CellId], name: &str) -> Result<CellId, CommandError> {
        let found: Vec<CellId> = all.iter().copied().filter(|cell| *self.workspace.cell(*cell).name == *name).collect();
        match found.as_slice() {
            [only] => Ok(*only),
            [] => {
                let names = all.iter().map(|cell| &*self.workspace.cell(*cell).name);
                let hint = match closest(name, names) {
                    Some(meant) => format!("did you mean `{meant}`?"),
                    None if !self.unreadable.is_empty() => {
                        "see `yieldtray list` for requests and unreadable files".to_owned()
                    }
                    None => "see `yieldtray list` for the requests".to_owned(),
                };
                Err(CommandError::refused_with(format!("no request, file or directory named `{name}`"), hint))
            }
            several => {
                let places: Vec<String> =
                    several.iter().map(|cell| format!("{}#{name}", self.workspace.shown_path(cell.source))).collect();
                let message = format!("{} requests are named `{name}`", places.len());
                Err(CommandError::refused_with(message, format!("choose one of {}", join_words(places))))
            }
        }
    }
}
