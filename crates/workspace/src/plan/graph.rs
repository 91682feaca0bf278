//! The dependency graph of cells.

use super::plan::needs_of;
use crate::scope::{EvalCache, EvalContext, EvalSettings, Resolver, yields};
use crate::{CellId, Workspace};
use yieldtray_expression::Engine;

/// The dependency graph: which cell captures which value for which other cell.
#[derive(Clone, Debug, Default)]
pub struct Graph {
    /// The cells, in order.
    pub cells: Vec<CellId>,
    /// The ways between them.
    pub edges: Vec<Edge>,
}

/// One cell needs another, or uses what it yields.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edge {
    /// The cell that comes first.
    pub from: CellId,
    /// The cell that comes after it.
    pub to: CellId,
    /// The values that go along.
    pub names: Vec<String>,
    /// Whether `% needs` says so.
    pub declared: bool,
}

impl Graph {
    /// The graph of `cells`; a cell they need that is not among them is added.
    pub fn new(workspace: &mut Workspace, engine: &Engine, cells: &[CellId]) -> Self {
        let mut graph = Self { cells: cells.to_vec(), edges: Vec::new() };
        let mut at = 0;
        while at < graph.cells.len() {
            let cell = graph.cells[at];
            at += 1;
            let needs: Vec<CellId> = needs_of(workspace, cell);
            let used = names_used(workspace, engine, cell, &needs);
            let own = workspace.cells(cell.source).filter(|other| *other != cell && !needs.contains(other));
            for from in needs.iter().copied().chain(own) {
                let names: Vec<String> = yields(workspace, from)
                    .filter(|name| used.iter().any(|used| used == name))
                    .map(str::to_owned)
                    .collect();
                let declared = needs.contains(&from);
                if declared || !names.is_empty() {
                    graph.edges.push(Edge { from, to: cell, names, declared });
                    if !graph.cells.contains(&from) {
                        graph.cells.push(from);
                    }
                }
            }
        }
        graph
    }
}

/// The names a cell uses that it does not give itself.
fn names_used(workspace: &Workspace, engine: &Engine, cell: CellId, needs: &[CellId]) -> Vec<String> {
    let (settings, mut cache) = (EvalSettings::default(), EvalCache::default());
    let context = EvalContext::static_of(workspace, engine, &settings);
    let resolver = Resolver::new(context, cell, needs, &mut cache);
    resolver.unresolved_names().into_iter().map(|used| used.name).collect()
}
