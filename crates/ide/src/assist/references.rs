//! Definitions, references and renaming.

use super::{IdeContext, Occurrence, Referent, in_configuration, in_requests, needs, occurrence};
use std::collections::BTreeSet;
use thiserror::Error;
use yieldtray_source::names::is_value_name;
use yieldtray_source::{Edit, SourceId, Span};
use yieldtray_syntax::{InstructionKind, is_language_name};
use yieldtray_workspace::{CellId, Workspace};

/// The name at byte `at` of a text.
pub fn occurrence_at(view: IdeContext<'_>, source: SourceId, at: usize) -> Option<Occurrence> {
    let is_configuration = view.workspace().configurations().any(|config| config == source);
    let found = match is_configuration {
        true => occurrences(view, source),
        false => occurrence::near(view.workspace(), view.context.engine, source, at),
    };
    // At the border of two names, the one that begins there.
    let touching = found.into_iter().filter(|found| found.span.start() <= at && at <= found.span.end());
    touching.max_by_key(|found| (found.span.start(), std::cmp::Reverse(found.span.len())))
}

/// Every name of a text, a configuration or a request file.
pub(super) fn occurrences(view: IdeContext<'_>, source: SourceId) -> Vec<Occurrence> {
    let workspace = view.workspace();
    match workspace.configurations().any(|config| config == source) {
        true => in_configuration(workspace, view.context.engine, source),
        false => in_requests(workspace, view.context.engine, source),
    }
}

/// The definitions of the name at byte `at`, in order of precedence.
pub fn definition(view: IdeContext<'_>, source: SourceId, offset: usize) -> Vec<(SourceId, Span)> {
    let workspace = view.workspace();
    let Some(Occurrence { span, what }) = occurrence_at(view, source, offset) else { return Vec::new() };
    let name = span.of(view.text(source));
    match what {
        Referent::Value { .. } => {
            let mut places = super::inlay_hints::places(view, source, offset, name);
            // A value of the response does not exist yet, but its line does.
            let given = definitions_in(view, files_sharing(view, source, name), name);
            places.extend(
                given
                    .into_iter()
                    .filter(|place| !places.iter().any(|(file, span)| *file == place.0 && span.contains(place.1)))
                    .collect::<Vec<_>>(),
            );
            places
        }
        Referent::Cell { cell: Some(cell), .. } => vec![(cell.source, name_place(workspace, cell))],
        Referent::Label { .. } => {
            labels(view, source, name).into_iter().filter(|found| found.2).map(|found| (found.0, found.1)).collect()
        }
        Referent::File => {
            workspace.loaded_relative(source, name).map(|file| (file, Span::empty(0))).into_iter().collect()
        }
        Referent::Profile { .. } => {
            let profile = workspace.config.profile(name);
            profile
                .and_then(|profile| profile.entries.first())
                .map(|entry| (entry.source, entry.span))
                .into_iter()
                .collect()
        }
        Referent::Signing => {
            let profile = workspace.config.signing_profile(name);
            profile.map(|profile| (profile.source, profile.span)).into_iter().collect()
        }
        Referent::Function => {
            let own = workspace.config.functions.iter().find(|function| function.name == name);
            own.map(|function| (function.source, function.span)).into_iter().collect()
        }
        _ => Vec::new(),
    }
}

/// The references to the name at byte `at`, with its definitions if `given`.
pub fn references(view: IdeContext<'_>, source: SourceId, offset: usize, given: bool) -> Vec<(SourceId, Span)> {
    let Some(found) = occurrence_at(view, source, offset) else { return Vec::new() };
    let places = everywhere(view, source, found);
    places.into_iter().filter(|place| given || !place.2).map(|(file, span, _)| (file, span)).collect()
}

/// The edits of a renaming by text, or why there are none.
pub type Rename = Result<Vec<(SourceId, Vec<Edit>)>, RenameError>;

/// Why a name cannot be changed.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RenameError {
    /// There is no name at this place.
    #[error("no symbol at this position")]
    NoName,
    /// Names of this kind are not changed.
    #[error("only variables, requests and labels can be renamed")]
    OtherKind,
    /// The new name does not have the form of a value's name.
    #[error("`{0}` is not a valid variable name: use letters, digits and `_`, not starting with a digit")]
    ValueName(String),
    /// The new name is a name of the language.
    #[error("`{0}` is reserved and cannot be a variable name")]
    LanguageName(String),
    /// The value is a column of a table.
    #[error("`{0}` is a column of a table: rename it there")]
    Column(String),
    /// Another value has the new name.
    #[error("a variable `{0}` already exists")]
    ValueExists(String),
    /// The new name does not have the form of a cell's name.
    #[error("`{0}` is not a valid request name: use letters, digits, `-`, `_` and `.`")]
    CellName(String),
    /// Another cell of the file has the new name.
    #[error("a request `{0}` already exists in this file")]
    CellExists(String),
    /// The new name does not have the form of a label.
    #[error("`{0}` is not a valid label: use letters, digits, `-`, `_` and `.`")]
    Label(String),
    /// The value is defined outside of the texts.
    #[error("`{0}` is not defined in an editable file")]
    NotDefinedHere(String),
}

/// Renames the name at byte `at` everywhere.
pub fn rename(view: IdeContext<'_>, source: SourceId, offset: usize, new: &str) -> Rename {
    let workspace = view.workspace();
    let found = occurrence_at(view, source, offset).ok_or(RenameError::NoName)?;
    let old = found.span.of(view.text(source));
    match found.what {
        Referent::Value { .. } if !is_value_name(new) => {
            return Err(RenameError::ValueName(new.to_owned()));
        }
        Referent::Value { .. } if is_language_name(new) => {
            return Err(RenameError::LanguageName(new.to_owned()));
        }
        Referent::Value { .. } => {
            let files = files_sharing(view, source, old);
            let mut cells = files.iter().flat_map(|file| workspace.cells(*file));
            if cells.any(|cell| workspace.columns(cell).iter().any(|column| column == old)) {
                return Err(RenameError::Column(old.to_owned()));
            }
            if !definitions_in(view, files, new).is_empty() {
                return Err(RenameError::ValueExists(new.to_owned()));
            }
        }
        Referent::Cell { cell: Some(cell), .. } => {
            if new.is_empty() || !new.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.')) {
                return Err(RenameError::CellName(new.to_owned()));
            }
            if workspace.cell_named(cell.source, new).is_some() {
                return Err(RenameError::CellExists(new.to_owned()));
            }
        }
        Referent::Label { .. } => {
            if new.is_empty() || !new.chars().all(|c| c.is_alphanumeric() || matches!(c, '-' | '_' | '.')) {
                return Err(RenameError::Label(new.to_owned()));
            }
        }
        _ => return Err(RenameError::OtherKind),
    }
    let mut edits: Vec<(SourceId, Vec<Edit>)> = Vec::new();
    for (file, span, given) in everywhere(view, source, found) {
        let edit = match found.what {
            // A title stays what it is; the name gets a line of its own below it.
            Referent::Cell { cell: Some(cell), .. } if given && is_title(workspace, cell, span) => {
                let text = view.text(file);
                let line = super::line_at(text, span.start());
                let end = if text[line.end()..].starts_with("\r\n") { "\r\n" } else { "\n" };
                Edit::insert(line.end(), format!("{end}% name {new}"))
            }
            _ => Edit::replace(span, new),
        };
        match edits.iter_mut().find(|(known, _)| *known == file) {
            Some((_, list)) => list.push(edit),
            None => edits.push((file, vec![edit])),
        }
    }
    if edits.is_empty() { Err(RenameError::NotDefinedHere(old.to_owned())) } else { Ok(edits) }
}

fn is_title(workspace: &Workspace, cell: CellId, span: Span) -> bool {
    workspace.cell(cell).title == span
}

/// A place that names something, and whether it is the one that gives it the name.
type Place = (SourceId, Span, bool);

fn everywhere(view: IdeContext<'_>, source: SourceId, found: Occurrence) -> Vec<Place> {
    let workspace = view.workspace();
    let name = found.span.of(view.text(source));
    match found.what {
        Referent::Value { .. } => {
            let files = files_sharing(view, source, name);
            let named = files.into_iter().flat_map(|file| {
                let text = view.text(file);
                let own = occurrences(view, file).into_iter().filter(move |other| other.span.of(text) == name);
                own.filter_map(move |other| match other.what {
                    Referent::Value { given, .. } => Some((file, other.span, given)),
                    _ => None,
                })
            });
            named.collect()
        }
        Referent::Cell { cell: Some(cell), .. } => {
            let named = workspace.loaded().flat_map(|file| {
                in_requests(workspace, view.context.engine, file).into_iter().filter_map(move |other| {
                    match other.what {
                        Referent::Cell { given, cell: Some(other_cell) } if other_cell == cell => {
                            Some((file, other.span, given))
                        }
                        _ => None,
                    }
                })
            });
            named.collect()
        }
        Referent::Label { .. } => labels(view, source, name),
        Referent::Function | Referent::Profile { .. } | Referent::Signing | Referent::Header => {
            let files = workspace.loaded().chain(workspace.configurations());
            let alike = |other: &Occurrence| std::mem::discriminant(&other.what) == std::mem::discriminant(&found.what);
            let named = files.flat_map(|file| {
                let text = view.text(file);
                let own = occurrences(view, file).into_iter().filter(move |other| alike(other));
                own.filter(move |other| other.span.of(text).eq_ignore_ascii_case(name))
                    .map(move |other| (file, other.span, false))
            });
            named.collect()
        }
        Referent::Language
        | Referent::Member
        | Referent::Local
        | Referent::File
        | Referent::Method
        | Referent::Instruction
        | Referent::Cell { cell: None, .. } => Vec::new(),
    }
}

/// The texts in which `name` is the same value as in `source`. A name that only cells and preambles of files give
/// is the same in those files that take it from each other; one that the configuration or a `_common.http` gives
/// is the same everywhere.
fn files_sharing(view: IdeContext<'_>, source: SourceId, name: &str) -> Vec<SourceId> {
    let workspace = view.workspace();
    let all = || {
        let mut all: Vec<SourceId> = workspace.configurations().chain(workspace.loaded()).collect();
        let inherited: BTreeSet<SourceId> =
            workspace.loaded().flat_map(|file| workspace.source(file).inherited.clone()).collect();
        all.extend(inherited);
        all.push(source);
        all.sort_unstable();
        all.dedup();
        all
    };
    let is_request_file = workspace.loaded().any(|file| file == source);
    let inherited = workspace.source(source).inherited.iter();
    let shared = workspace.config.all_entries().any(|entry| entry.name == name)
        || inherited.into_iter().any(|common| gives(workspace, *common, name));
    if !is_request_file || shared {
        return all();
    }
    // From file to file, as far as the value goes.
    let mut files = vec![source];
    let mut at = 0;
    while let Some(file) = files.get(at).copied() {
        at += 1;
        for other in workspace.loaded() {
            let tied =
                !files.contains(&other) && (takes(workspace, other, file, name) || takes(workspace, file, other, name));
            if tied {
                files.push(other);
            }
        }
    }
    files
}

/// Whether a file's own lines give the name.
fn gives(workspace: &Workspace, source: SourceId, name: &str) -> bool {
    let own = workspace.source(source);
    let cells = own.file.cells.iter().flat_map(|cell| cell.instructions());
    yieldtray_syntax::instructions(&own.file.preamble).chain(cells).any(|line| match line.kind {
        InstructionKind::Let { name: cell_name, .. }
        | InstructionKind::Ask { name: cell_name, .. }
        | InstructionKind::Yield { name: cell_name, .. } => cell_name.of(&own.text) == name,
        _ => false,
    })
}

/// Whether a cell of `file` needs a cell of `other` that yields the name, or plays one with it.
fn takes(workspace: &Workspace, file: SourceId, other: SourceId, name: &str) -> bool {
    let text = &workspace.source(file).text;
    workspace.cells(file).any(|cell| {
        let needed = needs(workspace, cell).into_iter().any(|need| {
            need.source == other && yieldtray_workspace::scope::yields(workspace, need).any(|own| own == name)
        });
        let played = workspace.cell(cell).instructions().any(|line| match line.kind {
            InstructionKind::Play { name: played, with: Some(with), .. } => {
                super::named_cell(workspace, file, played.of(text)).is_some_and(|cell| cell.source == other)
                    && InstructionKind::assignments(with, text).iter().any(|(own, _)| own.of(text) == name)
            }
            _ => false,
        });
        needed || played
    })
}

/// The places in `files` that give a value of that name.
fn definitions_in(view: IdeContext<'_>, files: Vec<SourceId>, name: &str) -> Vec<(SourceId, Span)> {
    let given = files.into_iter().flat_map(|file| {
        let text = view.text(file);
        let own = occurrences(view, file).into_iter();
        own.filter(move |found| {
            matches!(found.what, Referent::Value { given: true, .. }) && found.span.of(text) == name
        })
        .map(move |found| (file, found.span))
    });
    given.collect()
}

/// The occurrences of a label: for a shared check in its preamble and in all files below, for a cell's own in that
/// cell.
fn labels(view: IdeContext<'_>, source: SourceId, name: &str) -> Vec<Place> {
    let workspace = view.workspace();
    let in_preamble = |origin: SourceId| {
        let own = workspace.source(origin);
        yieldtray_syntax::instructions(&own.file.preamble)
            .any(|line| matches!(line.kind, InstructionKind::Check { label: Some(label), .. } if label.of(&own.text) == name))
    };
    let homes: Vec<SourceId> = workspace
        .source(source)
        .inherited
        .iter()
        .copied()
        .chain([source])
        .filter(|origin| in_preamble(*origin))
        .collect();
    let is_below = |file: &SourceId| {
        *file == source
            || workspace.source(*file).inherited.iter().any(|common| homes.contains(common) || *common == source)
    };
    let mut files: Vec<SourceId> =
        workspace.loaded().filter(is_below).chain(homes.iter().copied()).chain([source]).collect();
    files.sort_unstable();
    files.dedup();
    let named = files.into_iter().flat_map(|file| {
        let text = view.text(file);
        let own = in_requests(workspace, view.context.engine, file).into_iter();
        own.filter(move |found| found.span.of(text) == name).filter_map(move |found| match found.what {
            Referent::Label { given } => Some((file, found.span, given)),
            _ => None,
        })
    });
    named.collect()
}

/// Where a cell gets its name: its `% name`, its title, or its first line.
pub(super) fn name_place(workspace: &Workspace, cell: CellId) -> Span {
    let own = workspace.cell(cell);
    let named = own.instructions().find_map(|line| match line.kind {
        InstructionKind::Name(name) => Some(name),
        _ => None,
    });
    let first = super::line_at(&workspace.source(cell.source).text, own.span.start());
    named.unwrap_or(if own.title.is_empty() { first } else { own.title })
}
