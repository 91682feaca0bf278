//! Fixes for problems.

use super::actions::{Action, Change};
use super::complete::relative;
use super::{IdeContext, cell_at, line_at};
use std::path::PathBuf;
use thiserror::Error;
use yieldtray_interchange::curl::CurlError;
use yieldtray_interchange::draft::RequestError;
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_source::{Code, Edit, Problem, SourceId, Span};
use yieldtray_syntax::Cell;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::yields;

/// The ways to mend a problem, the likeliest first.
pub fn fixes(view: IdeContext<'_>, problem: &Problem) -> Vec<Action> {
    let Some(source) = problem.source else { return Vec::new() };
    let text = view.text(source);
    let word = problem.span.of(text);
    let mut found = Vec::new();
    let mut add = |title: String, edits: Vec<Edit>| {
        found.push(Action { title, is_fix: true, changes: vec![Change::Edit(source, edits)] });
    };
    if let Some(meant) = &problem.replacement {
        let title = match meant.as_str() {
            "" => format!("Remove `{word}`"),
            meant if word.is_empty() => format!("Insert `{}`", meant.trim()),
            meant => format!("Change to `{meant}`"),
        };
        add(title, vec![Edit::replace(problem.span, meant.as_str())]);
    }
    match problem.code {
        Code::UnclosedPlaceholder => {
            if let Some(mark) = fix_unclosed(text, problem.span) {
                add(format!("Change to `{mark}`"), vec![Edit::replace(problem.span, mark)]);
            }
        }
        Code::UnusedYield | Code::UnusedVariable | Code::UnusedSuppression | Code::ShadowedVariable => {
            add("Remove the line".to_owned(), vec![Edit::replace(whole_line(text, problem.span.start()), "")]);
        }
        Code::UnknownVariable | Code::MissingValue | Code::YieldedLater => {
            found.extend(fix_missing_need(view, problem));
            found.extend(fix_undeclared(view, problem));
        }
        Code::ShellCommand => found.extend(fix_shell_command(view, problem)),
        Code::SecretInFile => found.extend(fix_secret(view, problem)),
        Code::PlainCredentials if word.starts_with("http://") => {
            let at = problem.span.part("http".len(), "http".len());
            add("Use https".to_owned(), vec![Edit::replace(at, "s")]);
        }
        _ => {}
    }
    if !problem.is_error() {
        found.extend(suppress(view, problem));
    }
    found
}

/// The cells that send what a command sends, in its place.
fn fix_shell_command(view: IdeContext<'_>, problem: &Problem) -> Option<Action> {
    let source = problem.source?;
    let text = view.text(source);
    let mut drafts = yieldtray_interchange::curl::read(problem.span.of(text)).ok()?;
    // The cell it was pasted into has its title already.
    let cell = cell_at(view.workspace(), source, problem.span.start()).filter(|cell| {
        let own = view.workspace().cell(*cell);
        own.span.of(text).starts_with("%%") && own.span.contains(problem.span)
    });
    if let (Some(cell), Some(first)) = (cell, drafts.first_mut()) {
        first.title = view.workspace().title(cell).to_owned();
    }
    let (cells, count, mut changes) = lifted(view, source, drafts, cell)?;
    let all = match cells.split_once('\n').filter(|_| cell.is_some()) {
        Some((_, rest)) => rest,
        None => &cells,
    };
    changes.insert(0, Change::Edit(source, vec![Edit::replace(problem.span, all.trim_end())]));
    let title = if count == 1 { "Convert this command to a request" } else { "Convert this command to requests" };
    Some(Action { title: title.to_owned(), is_fix: true, changes })
}

/// Why copied commands cannot be imported.
#[derive(Clone, Debug, PartialEq, Error)]
pub enum ImportError {
    /// A command cannot be read.
    #[error(transparent)]
    Curl(#[from] CurlError),
    /// A request cannot be written as a cell.
    #[error(transparent)]
    Request(#[from] RequestError),
    /// No request is left.
    #[error("it contains no request")]
    NoRequest,
}

/// The cells of commands that somebody copied, at the end of a file.
///
/// # Errors
/// If one of them cannot be written as a cell, or there is none.
pub fn import_commands(view: IdeContext<'_>, source: SourceId, commands: &str) -> Result<Action, ImportError> {
    let drafts = yieldtray_interchange::curl::read(commands)?;
    yieldtray_interchange::draft::cells(&drafts)?;
    let (cells, _, mut changes) = lifted(view, source, drafts, None).ok_or(ImportError::NoRequest)?;
    let text = view.text(source);
    let kept = text.trim_end().len();
    let gap = if kept == 0 { "" } else { "\n\n" };
    let edit = Edit::replace(Span::new(kept, text.len()), format!("{gap}{cells}"));
    changes.insert(0, Change::Edit(source, vec![edit]));
    Ok(Action { title: "Import".to_owned(), is_fix: false, changes })
}

/// Drafts as cells for a file, how many they are, and where their secrets go. `own` is the cell they come into.
fn lifted(
    view: IdeContext<'_>,
    source: SourceId,
    drafts: Vec<yieldtray_interchange::draft::ImportedRequest>,
    own: Option<CellId>,
) -> Option<(String, usize, Vec<Change>)> {
    let workspace = view.workspace();
    let others = workspace.cells(source).filter(|cell| Some(*cell) != own);
    let names: Vec<String> = others.map(|cell| workspace.cell(cell).name.to_string()).collect();
    let (mut builder, mut extractor) = (
        yieldtray_interchange::draft::CellFileBuilder::new(names, "bodies"),
        yieldtray_interchange::draft::SecretExtractor::of(workspace),
    );
    drafts.into_iter().for_each(|draft| builder.add(draft, &mut extractor));
    if builder.count == 0 || !builder.refused.is_empty() {
        return None;
    }
    let secrets = extractor.found.iter();
    let lines = secrets.map(|(name, secret)| format!("{name} = {{ value = {}, secret = true }}", toml_text(secret)));
    let lines: Vec<String> = lines.collect();
    let changes = match lines.is_empty() {
        true => Vec::new(),
        false => vec![below(view, LOCAL_FILE, "[values]", &lines.join("\n"))],
    };
    Some((builder.text(), builder.count, changes))
}

/// `{{name}}` of what was begun.
fn fix_unclosed(text: &str, open: Span) -> Option<String> {
    let name = open.of(text).strip_prefix("{{")?.trim();
    (!name.is_empty()).then(|| format!("{{{{{name}}}}}"))
}

/// The line of `at` with its end.
fn whole_line(text: &str, at: usize) -> Span {
    let line = line_at(text, at);
    let end = text[line.end()..].find('\n').map_or(text.len(), |end| line.end() + end + 1);
    Span::new(line.start(), end)
}

/// `% needs`, where another cell yields the value.
fn fix_missing_need(view: IdeContext<'_>, problem: &Problem) -> Option<Action> {
    let workspace = view.workspace();
    let source = problem.source?;
    let text = view.text(source);
    let name = problem.span.of(text);
    let cell = cell_at(workspace, source, problem.span.start())?;
    let files = [source].into_iter().chain(workspace.loaded().filter(|file| *file != source));
    let defines = |other: &CellId| *other != cell && yields(workspace, *other).any(|own| own == name);
    let other = files.flat_map(|file| workspace.cells(file)).find(defines)?;
    let own = &workspace.cell(other).name;
    let path = match other.source == source {
        true => String::new(),
        false => format!("{}#", relative(&workspace.shown_path(source), &workspace.shown_path(other.source))),
    };
    let line = format!("% needs {path}{own}");
    let title = format!("Add `{line}`");
    Some(Action {
        title,
        is_fix: true,
        changes: vec![Change::Edit(source, vec![below_title(text, workspace.cell(cell).span.start(), &line)])],
    })
}

/// A line put in below a cell's `%%` line, or at the head of a file without one.
pub(super) fn below_title(text: &str, start: usize, line: &str) -> Edit {
    let first = whole_line(text, start);
    let end = if first.of(text).ends_with("\r\n") { "\r\n" } else { "\n" };
    match first.of(text).starts_with("%%") {
        true if first.of(text).ends_with('\n') => Edit::insert(first.end(), format!("{line}{end}")),
        true => Edit::insert(first.end(), format!("\n{line}{end}")),
        false => Edit::insert(after_mark(text, start), format!("{line}{end}")),
    }
}

/// A value of that name in the chosen environment, or for this file.
fn fix_undeclared(view: IdeContext<'_>, problem: &Problem) -> Vec<Action> {
    let source = problem.source.expect("reason");
    let text = view.text(source);
    let name = problem.span.of(text);
    if !yieldtray_source::names::is_value_name(name) {
        return Vec::new();
    }
    let mut found = Vec::new();
    if let Some(environment) = view.context.settings.environment.as_deref() {
        let header = format!("[environments.{environment}.values]");
        let title = format!("Define `{name}` in environment `{environment}`");
        found.push(Action {
            title,
            is_fix: true,
            changes: vec![below(view, CONFIG_FILE, &header, &format!("{name} = \"\""))],
        });
    }
    let at = view.workspace().source(source).file.cells.first().map_or(text.len(), |cell| cell.span.start());
    let edit = Edit::insert(after_mark(text, at), format!("% let {name} = \"\"\n\n"));
    found.push(Action {
        title: format!("Define `{name}` in this file"),
        is_fix: true,
        changes: vec![Change::Edit(source, vec![edit])],
    });
    found
}

/// A line below a table's header of a configuration; the table is made if it is not there.
pub(super) fn below(view: IdeContext<'_>, file: &str, header: &str, line: &str) -> Change {
    let workspace = view.workspace();
    let own = workspace.configurations().find(|id| workspace.shown_path(*id) == file);
    let Some(own) = own else {
        return Change::Create(PathBuf::from(file), format!("{header}\n{line}\n"));
    };
    let text = view.text(own);
    let mut at = 0;
    for own_line in text.split_inclusive('\n') {
        at += own_line.len();
        if own_line.trim() == header {
            let end = if own_line.ends_with('\n') { "" } else { "\n" };
            return Change::Edit(own, vec![Edit::insert(at, format!("{end}{line}\n"))]);
        }
    }
    let gap = if text.is_empty() {
        ""
    } else if text.ends_with('\n') {
        "\n"
    } else {
        "\n\n"
    };
    Change::Edit(own, vec![Edit::insert(text.len(), format!("{gap}{header}\n{line}\n"))])
}

/// A secret of a request file as a value of the private configuration.
fn fix_secret(view: IdeContext<'_>, problem: &Problem) -> Option<Action> {
    let source = problem.source?;
    let workspace = view.workspace();
    let text = view.text(source);
    let literal = problem.span.of(text);
    let is_config = workspace.configurations().any(|config| config == source);
    if is_config {
        return fix_moved_line(view, problem);
    }
    let cell = cell_at(workspace, source, problem.span.start());
    let header = cell.and_then(|cell| {
        workspace
            .cell(cell)
            .fields
            .iter()
            .find(|field| field.span.contains(problem.span))
            .map(|field| field.name.of(text))
    });
    let base = header.map_or_else(
        || "secret".to_owned(),
        |name| name.to_lowercase().replace(|c: char| !c.is_ascii_alphanumeric(), "_"),
    );
    let name = free_name(view, &base);
    let quoted = toml_text(literal);
    let environment = view.context.settings.environment.as_deref();
    let table = environment.map_or_else(|| "[values]".to_owned(), |name| format!("[environments.{name}.values]"));
    let line = format!("{name} = {{ value = {quoted}, secret = true }}");
    let changes = vec![
        Change::Edit(source, vec![Edit::replace(problem.span, format!("{{{{{name}}}}}"))]),
        below(view, LOCAL_FILE, &table, &line),
    ];
    Some(Action { title: format!("Move it to `{LOCAL_FILE}` as `{name}`"), is_fix: true, changes })
}

/// A line of the shared configuration to the private one.
fn fix_moved_line(view: IdeContext<'_>, problem: &Problem) -> Option<Action> {
    let source = problem.source?;
    let text = view.text(source);
    let line = whole_line(text, problem.span.start());
    let header = text[..line.start()].lines().rev().find(|line| line.trim_start().starts_with('['))?.trim().to_owned();
    let changes = vec![
        Change::Edit(source, vec![Edit::replace(line, "")]),
        below(view, LOCAL_FILE, &header, line.of(text).trim_end()),
    ];
    Some(Action { title: format!("Move the line to `{LOCAL_FILE}`"), is_fix: true, changes })
}

/// A name that no value has yet.
pub(super) fn free_name(view: IdeContext<'_>, base: &str) -> String {
    let workspace = view.workspace();
    let base = if yieldtray_source::names::is_value_name(base) && !yieldtray_syntax::is_language_name(base) {
        base.to_owned()
    } else {
        format!("my_{base}")
    };
    let fix_shell_command = |name: &str| {
        workspace.config.all_entries().any(|entry| entry.name == name)
            || workspace.loaded().any(|file| view.text(file).contains(&format!("{name} =")))
    };
    yieldtray_source::names::first_free(&base, "_", |name| !fix_shell_command(name))
}

/// Text as TOML writes it.
pub(super) fn toml_text(text: &str) -> String {
    // The escapes of JSON texts are also those of TOML.
    serde_json::Value::from(text).to_string()
}

/// A comment that accepts a finding: above the line, or in the head of the cell where it would be body text.
fn suppress(view: IdeContext<'_>, problem: &Problem) -> Option<Action> {
    let source = problem.source?;
    let (workspace, text) = (view.workspace(), view.text(source));
    let code = problem.code.as_str();
    let comment = format!("# allow {code}: reason");
    let cell = cell_at(workspace, source, problem.span.start()).map(|cell| workspace.cell(cell));
    let below = |cell: &&Cell| cell.request.as_ref().is_some_and(|line| line.span.end() < problem.span.start());
    let edit = match cell.filter(below) {
        // With a blank line below it, it applies to the whole cell.
        Some(cell) => below_title(text, cell.span.start(), &format!("{comment}\n")),
        None => Edit::insert(after_mark(text, line_at(text, problem.span.start()).start()), format!("{comment}\n")),
    };
    let title = format!("Suppress `{code}` here, with a reason");
    Some(Action { title, is_fix: false, changes: vec![Change::Edit(source, vec![edit])] })
}

/// The place behind a byte order mark, which stays the first thing there is.
pub(super) fn after_mark(text: &str, at: usize) -> usize {
    if at == 0 && text.starts_with('\u{feff}') { '\u{feff}'.len_utf8() } else { at }
}
