//! Requests from elsewhere on their way into files: everything is worked out before anything is written.

use crate::append::{expect_request_file, expect_titles};
use crate::args::{Common, ImportTarget};
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::{Out, table};
use crate::project::gitignore::ensure_gitignore;
use crate::project::locator::Locator;
use crate::project::{Project, here, root_for};
use crate::styles::Styles;
use anyhow::Context;
use serde_json::json;
use similar::{ChangeTag, TextDiff};
use std::borrow::Cow;
use std::io::Write;
use std::path::{Path, PathBuf};
use yieldtray_engine::ExitCode;
use yieldtray_interchange::draft::{CellFileBuilder, ImportedRequest, SecretExtractor};
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE, check_writable};
use yieldtray_source::escape::escape_line;
use yieldtray_source::join_words;
use yieldtray_syntax::{Auth, InstructionKind};
use yieldtray_workspace::config::{add_secrets, redact_values};

/// Requests on their way.
pub(crate) struct ImportWriter {
    _lock: Option<std::fs::File>,
    pub(crate) project: Project,
    pub(crate) extractor: SecretExtractor,
    targets: Vec<Target>,
    /// Files that are written beside the requests: relative to the root, what was and what will be in them.
    extra_files: Vec<Change>,
    /// Existing files that stay unchanged.
    kept: usize,
    /// Unsupported parts, for `--json`.
    pub(crate) notes: Vec<String>,
    dry_run: bool,
}

/// A file that gets requests, or standard output.
struct Target {
    /// Relative to the root.
    file: Option<PathBuf>,
    before: String,
    /// The names of the cells that were there before.
    existing: Vec<String>,
    /// The head of a new file.
    head: String,
    builder: CellFileBuilder,
}

impl ImportWriter {
    /// For standard output, or the file that `--into` names.
    pub(crate) fn open(
        common: &Common,
        into: &ImportTarget,
        host: &HostFacts,
        out: &mut Out,
    ) -> Result<Self, CommandError> {
        let mut writer = Self::begin(common, into.into.as_deref(), into.dry_run, host, out)?;
        match &into.into {
            Some(file) => writer.file(file)?,
            None => writer.print(),
        };
        Ok(writer)
    }

    /// For files of the workspace that holds `near`, each of which is named later.
    pub(crate) fn begin(
        common: &Common,
        near: Option<&Path>,
        dry_run: bool,
        host: &HostFacts,
        out: &mut Out,
    ) -> Result<Self, CommandError> {
        let folder = near.and_then(Path::parent).filter(|folder| !folder.as_os_str().is_empty());
        let places: Vec<Locator> =
            folder.map(|folder| Locator::Path(folder.display().to_string())).into_iter().collect();
        // From reading to writing, so that no other import is lost.
        let lock = match dry_run {
            true => None,
            false => files::lock(&root_for(&here(common)?, &places)).context("cannot change files here")?,
        };
        let project = Project::open_any(common, host, out, &places)?;
        let extractor = SecretExtractor::of(&project.workspace);
        Ok(Self {
            _lock: lock,
            project,
            extractor,
            targets: Vec::new(),
            extra_files: Vec::new(),
            kept: 0,
            notes: Vec::new(),
            dry_run,
        })
    }

    /// Requests that are printed; gives the place to add them to.
    pub(crate) fn print(&mut self) -> usize {
        let builder = CellFileBuilder::new([], "bodies");
        self.targets.push(Target {
            file: None,
            before: String::new(),
            existing: Vec::new(),
            head: String::new(),
            builder,
        });
        self.targets.len() - 1
    }

    /// Requests that are appended to a file; gives the place to add them to.
    pub(crate) fn file(&mut self, file: &Path) -> Result<usize, CommandError> {
        expect_request_file(file)?;
        let path = self.below_root(file)?;
        let workspace = &mut self.project.workspace;
        let source = workspace.load_or_create(&path)?;
        let own = workspace.source(source);
        let before = own.text.clone();
        expect_titles(file, &before, &own.file)?;
        let existing: Vec<String> = own.file.cells.iter().map(|cell| cell.name.to_string()).collect();
        let (mut headers, mut auth) = (Vec::new(), false);
        for (home, line) in workspace.preambles(source) {
            match line.kind {
                InstructionKind::Header { name, value } if !value.is_empty() => {
                    headers.push(name.of(&workspace.source(home).text).to_owned());
                }
                InstructionKind::Auth(kind) => auth = kind != Auth::None,
                _ => {}
            }
        }
        let stem = path.file_stem().unwrap_or_default().to_string_lossy();
        let builder = CellFileBuilder::new(existing.clone(), format!("{stem}-bodies")).below(headers, auth);
        self.targets.push(Target { file: Some(path), before, existing, head: String::new(), builder });
        Ok(self.targets.len() - 1)
    }

    /// A path of the command line, from the workspace's root.
    fn below_root(&self, file: &Path) -> Result<PathBuf, CommandError> {
        let full = self.project.here.join(file);
        let folder = full.parent().unwrap_or(&full);
        let outside = || {
            let message = format!("`{}` is outside the workspace", file.display());
            CommandError::refused_with(message, "use a path inside the workspace")
        };
        // New folders are created below existing ones.
        let existing = folder.ancestors().find(|folder| folder.is_dir()).unwrap_or(folder);
        let real = existing.canonicalize().map_err(|_| outside())?;
        let rest = full.strip_prefix(existing).map_err(|_| outside())?;
        let path = real.join(rest);
        if rest.components().any(|part| part.as_os_str() == "..") {
            return Err(outside());
        }
        let inside = path.strip_prefix(&self.project.root).map(Path::to_owned).map_err(|_| outside())?;
        // An import writes into hidden folders no more than a response does.
        check_writable(&inside.with_extension("")).map_err(|why| {
            let message = format!("cannot import to `{}`: {why}", file.display());
            CommandError::refused_with(message, "choose a file that is neither hidden nor a configuration file")
        })?;
        Ok(inside)
    }

    /// The head of a new file.
    pub(crate) fn begin_with(&mut self, target: usize, head: &str) {
        let target = &mut self.targets[target];
        if target.before.trim().is_empty() {
            target.head = head.to_owned();
        }
    }

    /// Whether a place is a new file or standard output.
    pub(crate) fn is_new(&self, target: usize) -> bool {
        self.targets[target].before.trim().is_empty()
    }

    /// Adds a request.
    pub(crate) fn add(&mut self, target: usize, draft: ImportedRequest) {
        self.targets[target].builder.add(draft, &mut self.extractor);
    }

    /// Adds a request without secrets: its values were generated.
    pub(crate) fn add_as_is(&mut self, target: usize, draft: ImportedRequest) {
        self.targets[target].builder.add(draft, &mut SecretExtractor::nothing());
    }

    /// The same, unless a request of that name is there.
    pub(crate) fn add_once(&mut self, target: usize, draft: ImportedRequest) {
        match self.targets[target].existing.contains(&draft.cell_name()) {
            true => self.kept += 1,
            false => self.add_as_is(target, draft),
        }
    }

    /// Adds a file of text; one that is there stays as it is.
    pub(crate) fn add_file(&mut self, file: &Path, text: String) -> Result<(), CommandError> {
        let file = self.below_root(file)?;
        match self.project.root.join(&file).exists() {
            true => self.kept += 1,
            false => self.extra_files.push(Change { file, before: String::new(), after: text.into_bytes() }),
        }
        Ok(())
    }

    /// Changes the shared configuration.
    pub(crate) fn configure(
        &mut self,
        change: impl FnOnce(&str) -> Result<String, CommandError>,
    ) -> Result<(), CommandError> {
        let before = self.read(Path::new(CONFIG_FILE))?;
        let after = change(&before)?;
        if after != before {
            self.extra_files.push(Change { file: CONFIG_FILE.into(), before, after: after.into_bytes() });
        }
        Ok(())
    }

    /// Writes, prints or shows everything, and says what was done.
    pub(crate) fn finish(mut self, out: &mut Out) -> Result<ExitCode, CommandError> {
        let mut changes = std::mem::take(&mut self.extra_files);
        let secrets = self.extractor.secrets();
        let writes = self.targets.iter().any(|target| target.file.is_some());
        if writes && !secrets.is_empty() {
            let before = self.read(Path::new(LOCAL_FILE))?;
            let after = add_secrets(&before, &secrets)
                .map_err(|_| CommandError::refused(format!("cannot add values to `{LOCAL_FILE}`: it is not valid")))?;
            changes.push(Change { file: LOCAL_FILE.into(), before, after: after.into_bytes() });
        }
        for target in &self.targets {
            let Some(file) = &target.file else { continue };
            let folder = file.parent().unwrap_or(Path::new(""));
            for (path, bytes) in &target.builder.files {
                let path = folder.join(path);
                if self.project.root.join(&path).exists() {
                    return Err(CommandError::refused(format!("`{}` already exists", path.display())));
                }
                changes.push(Change { file: path, before: String::new(), after: bytes.clone() });
            }
            if target.builder.count > 0 {
                let (before, after) = (target.before.clone(), target.text().into_bytes());
                changes.push(Change { file: file.clone(), before, after });
            }
        }
        if self.dry_run && !out.settings.json {
            for (index, change) in changes.iter().enumerate() {
                if index > 0 {
                    writeln!(out.result())?;
                }
                change.show(out)?;
            }
        } else if !self.dry_run {
            changes.iter().try_for_each(|change| change.write(&self.project.root))?;
            if changes.iter().any(|change| change.file == Path::new(LOCAL_FILE)) {
                ensure_gitignore(&self.project.root)?;
            }
        }
        self.tell(&changes, out)
    }

    fn read(&self, file: &Path) -> Result<String, CommandError> {
        match files::read_text(&self.project.root.join(file)) {
            Ok(text) => Ok(text),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(String::new()),
            Err(error) => {
                Err(CommandError::refused(format!("cannot read `{}`: {}", file.display(), files::plain(error))))
            }
        }
    }

    fn tell(&self, changes: &[Change], out: &mut Out) -> Result<ExitCode, CommandError> {
        let count: usize = self.targets.iter().map(|target| target.builder.count).sum();
        let refused: Vec<_> = self.targets.iter().flat_map(|target| &target.builder.refused).collect();
        let names: Vec<&str> = self.extractor.found.iter().map(|(name, _)| name.as_str()).collect();
        let files: Vec<String> = changes.iter().map(|change| change.file.display().to_string()).collect();
        let printed = self.targets.iter().filter(|target| target.file.is_none());
        let printed: String = printed.map(Target::text).collect();
        let unkept: usize =
            self.targets.iter().filter(|target| target.file.is_none()).map(|t| t.builder.files.len()).sum();
        if out.settings.json {
            let refused: Vec<_> =
                refused.iter().map(|(title, why)| json!({ "title": title, "why": why.to_string() })).collect();
            let document = json!({
                "requests": count, "text": printed, "files": files, "written": !self.dry_run && !files.is_empty(),
                "secrets": names, "refused": refused, "kept": self.kept, "notes": self.notes,
            });
            writeln!(out.result(), "{document}")?;
            return Ok(ExitCode::Success);
        }
        write!(out.result(), "{printed}")?;
        for (title, why) in refused {
            out.say(&format!("{} {title}: {why}", out.settings.error_styles.bad("skipped")))?;
        }
        if out.settings.quiet {
            return Ok(ExitCode::Success);
        }
        if unkept > 0 {
            let message = format!(
                "{} of binary data, which `--into FILE` writes to files",
                table::count(unkept, "body", "bodies")
            );
            out.say(&out.settings.error_styles.warn(&message))?;
        }
        let styles = out.settings.error_styles;
        if self.kept > 0 {
            let (one, many) = ("item already exists", "items already exist");
            out.say(&styles.dim(&format!("{}, unchanged", table::count(self.kept, one, many))))?;
        }
        if !names.is_empty() {
            let all = table::count(names.len(), "secret", "secrets");
            let names = join_words(names.iter().copied());
            let message = match (files.is_empty(), self.dry_run) {
                (true, _) => {
                    format!("{all} removed from the output: set {names} in `{LOCAL_FILE}`, or use `--into FILE`")
                }
                (false, true) => format!("{all} would be stored in `{LOCAL_FILE}`: {names}"),
                (false, false) => format!("{all} stored in `{LOCAL_FILE}`: {names}"),
            };
            out.say(&styles.warn(&message))?;
        }
        let all = table::count(count, "request", "requests");
        let own: Vec<_> = self.targets.iter().filter(|target| target.builder.count > 0).collect();
        let own: Vec<_> =
            own.iter().filter_map(|target| target.file.as_ref()).map(|file| file.display().to_string()).collect();
        let message = match (own.as_slice(), self.dry_run) {
            ([], _) => all,
            ([file], false) => format!("{all} · appended to {file}"),
            ([file], true) => format!("{all} · nothing was written to {file}"),
            (files, dry_run) => {
                let files = table::count(files.len(), "file", "files");
                format!("{all} in {files}{}", if dry_run { " · nothing was written" } else { "" })
            }
        };
        out.say(&styles.dim(&message))?;
        Ok(ExitCode::Success)
    }
}

impl Target {
    /// The text of the whole file.
    fn text(&self) -> String {
        let before = if self.before.trim().is_empty() { self.head.trim_end() } else { self.before.trim_end() };
        let gap = if before.is_empty() { "" } else { "\n\n" };
        format!("{before}{gap}{}", self.builder.text())
    }
}

/// The change of a file.
struct Change {
    file: PathBuf,
    before: String,
    after: Vec<u8>,
}

impl Change {
    fn write(&self, root: &Path) -> Result<(), CommandError> {
        let path = root.join(&self.file);
        let write = || {
            std::fs::create_dir_all(path.parent().unwrap_or(root))?;
            match self.file == Path::new(LOCAL_FILE) {
                true => files::replace_private(&path, &self.after),
                false => files::replace(&path, &self.after),
            }
        };
        Ok(write().with_context(|| format!("cannot write `{}`", self.file.display()))?)
    }

    /// The lines that differ. Values of the private configuration stay out of sight.
    fn show(&self, out: &mut Out) -> Result<(), CommandError> {
        let styles: Styles = out.settings.styles;
        writeln!(out.result(), "{}", styles.strong(&self.file.display().to_string()))?;
        let Ok(after) = std::str::from_utf8(&self.after) else {
            writeln!(out.result(), "  {}", styles.dim(&format!("{} bytes", self.after.len())))?;
            return Ok(());
        };
        let (before, after) = match self.file == Path::new(LOCAL_FILE) {
            true => (Cow::Owned(redact_values(&self.before)), Cow::Owned(redact_values(after))),
            false => (Cow::Borrowed(self.before.as_str()), Cow::Borrowed(after)),
        };
        let diff = TextDiff::from_lines(&*before, &*after);
        for group in diff.grouped_ops(2) {
            let from = group.first().map_or(0, |op| op.new_range().start);
            if from > 0 {
                writeln!(out.result(), "{}", styles.dim(&format!("  … line {}", from + 1)))?;
            }
            for change in group.iter().flat_map(|op| diff.iter_changes(op)) {
                let line = escape_line(change.value().trim_end_matches(['\n', '\r']));
                let line = match change.tag() {
                    ChangeTag::Equal => format!("  {line}"),
                    ChangeTag::Delete => styles.bad(&format!("- {line}")),
                    ChangeTag::Insert => styles.good(&format!("+ {line}")),
                };
                writeln!(out.result(), "{line}")?;
            }
        }
        Ok(())
    }
}
