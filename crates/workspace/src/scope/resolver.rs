//! Finding the value of a name that a cell uses.

use super::binding::{Binding, defining_line};
use super::{EvalCache, EvalContext};
use crate::{CellId, Workspace};
use std::borrow::Cow;
use url::Url;
use yieldtray_http::origin_of;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::InstructionKind;

/// Finds the values one cell sees. First found wins: `--set`, the cell's own `let` and `ask`, the
/// tray, the environment, the file's `let`, `_common.http` (the nearest first), `[values]`.
pub struct Resolver<'a> {
    /// Where it looks.
    pub context: EvalContext<'a>,
    /// The files and the configuration.
    pub workspace: &'a Workspace,
    /// The cell that looks.
    pub cell: CellId,
    /// The cells it directly needs.
    pub needs: &'a [CellId],
    /// The values evaluated so far.
    pub cache: &'a mut EvalCache,
    /// The `let`s being worked out now, to notice those that need each other.
    pub(super) stack: Vec<(String, SourceId, Span)>,
}

impl<'a> Resolver<'a> {
    /// A look-up for `cell`, which directly needs `needs`.
    pub fn new(context: EvalContext<'a>, cell: CellId, needs: &'a [CellId], cache: &'a mut EvalCache) -> Self {
        Self { context, workspace: context.workspace, cell, needs, cache, stack: Vec::new() }
    }

    /// Every binding of `name` that the cell can see, the one that wins first.
    pub fn candidates<'n>(&self, name: &'n str) -> impl Iterator<Item = Binding<'a>> + use<'a, 'n> {
        let EvalContext { workspace, settings, tray, .. } = self.context;
        let (cell, needs, place) = (self.cell, self.needs, self.cache.place());
        let source = cell.source;
        let set = settings.set_value(name).into_iter().map(Binding::Set);
        let own = move || defining_line(workspace, name, source, &workspace.cell(cell).items);
        let yielded = move || tray.get_at(name, source, needs, place).map(Binding::Captured);
        let environment = settings.environment.as_deref().and_then(|chosen| workspace.config.environment(chosen));
        let entries = environment.into_iter().flat_map(move |environment| {
            let named = environment.values.iter().filter(move |entry| entry.name == name);
            named.map(move |entry| Binding::Entry(entry, Some(environment)))
        });
        let inherited = &workspace.source(source).inherited;
        let preambles = [source].into_iter().chain(inherited.iter().rev().copied());
        let shared = preambles
            .filter_map(move |origin| defining_line(workspace, name, origin, &workspace.source(origin).file.preamble));
        let everywhere = workspace.config.values.iter().filter(move |entry| entry.name == name);
        set.chain(std::iter::once_with(own).flatten())
            .chain(std::iter::once_with(yielded).flatten())
            .chain(entries)
            .chain(shared)
            .chain(everywhere.map(|entry| Binding::Entry(entry, None)))
    }

    /// Every name that has a value for this cell, for suggestions.
    pub fn names(&self) -> Vec<&'a str> {
        let workspace = self.workspace;
        let entries = workspace.config.entries_for(self.context.settings.environment.as_deref());
        let own = workspace.cell(self.cell).instructions().map(|instruction| (self.cell.source, instruction));
        let declared = workspace.preambles(self.cell.source).chain(own).filter_map(|(source, instruction)| {
            let text = &workspace.source(source).text;
            match instruction.kind {
                InstructionKind::Let { name, .. }
                | InstructionKind::Ask { name, .. }
                | InstructionKind::Yield { name, .. } => Some(name.of(text)),
                _ => None,
            }
        });
        let set = self.context.settings.set.iter().map(|(name, _)| name.as_str());
        entries.map(|entry| entry.name.as_str()).chain(declared).chain(set).collect()
    }

    /// The origin of `base`, as the command line or a configuration gives it: what a request file or a response
    /// says decides nothing about secrets.
    pub(crate) fn base_origin(&self) -> Option<String> {
        let EvalContext { workspace, settings, .. } = self.context;
        let entry = || {
            let entry = workspace.config.entry(settings.environment.as_deref(), "base")?;
            entry.value(&self.context.outside()).ok()
        };
        let base = settings.set_value("base").map(Cow::Borrowed).or_else(entry)?;
        let base = base.to_text().ok()?;
        Url::parse(&base).ok().filter(Url::has_host).map(|url| origin_of(&url))
    }
}
