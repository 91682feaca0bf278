//! Finds the cells that provide missing values.

use super::plan::{Plan, Step, needs_of};
use crate::scope::{EvalCache, EvalContext, EvalSettings, Resolver, Tray, yields};
use crate::{CellId, Workspace};
use yieldtray_expression::Engine;

/// A cell that captures a value which another cell is missing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Prerequisite {
    /// The cell that would be sent first.
    pub cell: CellId,
    /// The cell with the missing value.
    pub to: CellId,
    /// The missing names that it captures.
    pub names: Vec<String>,
}

/// The cells to send before `cell`, in order, so that all its values are defined: those that capture undefined values,
/// and their own prerequisites. The provider of a value is a needed cell, or the only cell of the file that captures
/// it.
pub fn prerequisites(
    workspace: &mut Workspace,
    engine: &Engine,
    settings: &EvalSettings,
    tray: &Tray,
    cell: CellId,
) -> Vec<Prerequisite> {
    let mut chainer = PrerequisiteFinder { workspace, engine, settings, tray, links: Vec::new(), path: Vec::new() };
    chainer.visit(cell);
    chainer.links
}

struct PrerequisiteFinder<'c> {
    workspace: &'c mut Workspace,
    engine: &'c Engine,
    settings: &'c EvalSettings,
    tray: &'c Tray,
    links: Vec<Prerequisite>,
    /// The cells whose prerequisites are being collected. A cycle ends here: its cells report the missing values
    /// themselves.
    path: Vec<CellId>,
}

impl PrerequisiteFinder<'_> {
    fn visit(&mut self, cell: CellId) {
        self.path.push(cell);
        let needs = needs_of(self.workspace, cell);
        let mut links: Vec<Prerequisite> = Vec::new();
        for name in self.missing_names(cell, &needs) {
            let Some(from) = self.provider(cell, &needs, &name) else { continue };
            match links.iter_mut().find(|link| link.cell == from) {
                Some(link) => link.names.push(name),
                None => links.push(Prerequisite { cell: from, to: cell, names: vec![name] }),
            }
        }
        // In the order of the files.
        links.sort_by_key(|link| (link.cell.source != cell.source, link.cell.source, link.cell.index));
        for link in links {
            let known = self.links.iter().any(|known| known.cell == link.cell);
            if !known && !self.path.contains(&link.cell) {
                self.visit(link.cell);
                self.links.push(link);
            }
        }
        self.path.pop();
    }

    fn missing_names(&self, cell: CellId, needs: &[CellId]) -> Vec<String> {
        let mut cache = EvalCache::default();
        let context =
            EvalContext { tray: self.tray, ..EvalContext::static_of(self.workspace, self.engine, self.settings) };
        let resolver = Resolver::new(context, cell, needs, &mut cache);
        resolver.unresolved_names().into_iter().map(|used| used.name).collect()
    }

    fn provider(&self, cell: CellId, needs: &[CellId], name: &str) -> Option<CellId> {
        let gives = |other: &CellId| *other != cell && yields(self.workspace, *other).any(|own| own == name);
        if let Some(need) = needs.iter().find(|need| gives(need)) {
            return Some(*need);
        }
        let mut own = self.workspace.cells(cell.source).filter(gives);
        own.next().filter(|_| own.next().is_none())
    }
}

impl Plan {
    /// The plan of one cell and of those that a chain sends before it; with `pull_in`, also of all that
    /// `% needs` names.
    pub fn chained(workspace: &mut Workspace, links: &[Prerequisite], cell: CellId, pull_in: bool) -> Self {
        let order: Vec<CellId> = links.iter().map(|link| link.cell).chain([cell]).collect();
        let mut plan = Plan::new(workspace, &order, pull_in);
        for Step { cell, needs, .. } in &mut plan.steps {
            let found = links.iter().filter(|link| link.to == *cell).map(|link| link.cell);
            needs.extend(found.filter(|from| !needs.contains(from)).collect::<Vec<_>>());
        }
        plan
    }
}
