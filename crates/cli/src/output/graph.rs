//! The dependency graph: as text, in the language of Graphviz, or as a Mermaid flowchart.

use crate::args::GraphFormat;
use serde_json::json;
use std::collections::BTreeMap;
use std::fmt::Write;
use yieldtray_workspace::plan::{Edge, Graph};
use yieldtray_workspace::{CellId, Workspace};

/// The whole graph as text.
pub(crate) fn graph(workspace: &Workspace, graph: &Graph, format: GraphFormat) -> String {
    match format {
        GraphFormat::Text => text(workspace, graph),
        GraphFormat::Dot => dot(workspace, graph),
        GraphFormat::Mermaid => mermaid(workspace, graph),
    }
}

/// The whole graph as data.
pub(crate) fn data(workspace: &Workspace, graph: &Graph) -> serde_json::Value {
    let cell = |cell: CellId| json!({ "file": workspace.shown_path(cell.source), "name": &*workspace.cell(cell).name });
    let edge = |edge: &Edge| json!({ "from": cell(edge.from), "to": cell(edge.to), "values": edge.names, "declared": edge.declared });
    let cells = graph.cells.iter().map(|own| cell(*own));
    json!({ "requests": cells.collect::<Vec<_>>(), "edges": graph.edges.iter().map(edge).collect::<Vec<_>>() })
}

/// A cell's name, with its file where the graph spans several.
fn name(workspace: &Workspace, graph: &Graph, cell: CellId) -> String {
    let own = &workspace.cell(cell).name;
    match graph.cells.iter().any(|other| other.source != cell.source) {
        true => format!("{}#{own}", workspace.shown_path(cell.source)),
        false => own.to_string(),
    }
}

/// A line a cell, and under it what it gets from whom.
fn text(workspace: &Workspace, graph: &Graph) -> String {
    let mut out = String::new();
    for cell in &graph.cells {
        let _ = writeln!(out, "{}", name(workspace, graph, *cell));
        for edge in graph.edges.iter().filter(|edge| edge.to == *cell) {
            let from = name(workspace, graph, edge.from);
            let _ = match (edge.names.as_slice(), edge.declared) {
                ([], _) => writeln!(out, "  after {from}"),
                (names, true) => writeln!(out, "  {} from {from}", names.join(", ")),
                (names, false) => writeln!(out, "  {} from {from} (undeclared)", names.join(", ")),
            };
        }
    }
    out
}

fn dot(workspace: &Workspace, graph: &Graph) -> String {
    let quoted = |text: &str| format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""));
    let mut out = String::from("digraph requests {\n  rankdir=LR;\n  node [shape=box];\n");
    for (file, cells) in by_file(workspace, graph) {
        let _ = writeln!(out, "  subgraph {} {{\n    label={};", quoted(&format!("cluster_{file}")), quoted(&file));
        for (number, cell) in cells {
            let _ = writeln!(out, "    n{number} [label={}];", quoted(&workspace.cell(cell).name));
        }
        out.push_str("  }\n");
    }
    for edge in &graph.edges {
        let (from, to) = ends(graph, edge);
        let style = if edge.declared { "" } else { ", style=dashed" };
        let _ = writeln!(out, "  n{from} -> n{to} [label={}{style}];", quoted(&edge.names.join(", ")));
    }
    out.push_str("}\n");
    out
}

fn mermaid(workspace: &Workspace, graph: &Graph) -> String {
    // The characters that mean something there are written as entities.
    let quoted = |text: &str| format!("\"{}\"", text.replace('#', "#35;").replace('"', "#quot;"));
    let mut out = String::from("flowchart LR\n");
    for (index, (file, cells)) in by_file(workspace, graph).into_iter().enumerate() {
        let _ = writeln!(out, "  subgraph f{index}[{}]", quoted(&file));
        for (number, cell) in cells {
            let _ = writeln!(out, "    n{number}[{}]", quoted(&workspace.cell(cell).name));
        }
        out.push_str("  end\n");
    }
    for edge in &graph.edges {
        let (from, to) = ends(graph, edge);
        let arrow = if edge.declared { "-->" } else { "-.->" };
        let _ = match edge.names.is_empty() {
            true => writeln!(out, "  n{from} {arrow} n{to}"),
            false => writeln!(out, "  n{from} {arrow}|{}| n{to}", quoted(&edge.names.join(", "))),
        };
    }
    out
}

fn by_file(workspace: &Workspace, graph: &Graph) -> BTreeMap<String, Vec<(usize, CellId)>> {
    let mut files: BTreeMap<String, Vec<(usize, CellId)>> = BTreeMap::new();
    for (number, cell) in graph.cells.iter().enumerate() {
        files.entry(workspace.shown_path(cell.source)).or_default().push((number, *cell));
    }
    files
}

fn ends(graph: &Graph, edge: &Edge) -> (usize, usize) {
    let number = |cell: CellId| graph.cells.iter().position(|own| *own == cell).unwrap_or_default();
    (number(edge.from), number(edge.to))
}
