//! The requests of files as operations of an API, as far as their text shows.

use crate::project::Project;
use std::collections::BTreeMap;
use yieldtray_description::{ApiKind, Contract, Exercise, Matched};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::{CellId, Workspace};

/// The operations that these cells are.
pub(super) fn exercises(project: &Project, cells: &[CellId], contract: &Contract) -> Vec<Exercise> {
    cells.iter().filter_map(|cell| exercise(&project.workspace, *cell, contract)).collect()
}

/// The requests of files by the operation that they are: `POST /lots`.
pub(super) fn by_operation(project: &mut Project, contract: &Contract) -> BTreeMap<String, Vec<String>> {
    let mut found: BTreeMap<String, Vec<String>> = BTreeMap::new();
    if contract.api().info().kind != ApiKind::OpenApi {
        return found;
    }
    let cells = project.find_all().unwrap_or_default();
    for exercise in exercises(project, &cells, contract) {
        if let Some(Matched::Operation(path)) = contract.matched_path(&exercise.method, &exercise.path) {
            found.entry(format!("{} {path}", exercise.method)).or_default().push(exercise.request);
        }
    }
    found
}

fn exercise(workspace: &Workspace, cell: CellId, contract: &Contract) -> Option<Exercise> {
    let own = workspace.cell(cell);
    let line = own.request.as_ref()?;
    let text = &workspace.source(cell.source).text;
    let target = line.target.of(text);
    let path = contract.path_of_target(target)?;
    let method = line.method.map_or("GET", |method| method.of(text));
    // Descriptions in OpenAPI rarely have what GraphQL requests are sent to.
    if own.is_graphql() && !matches!(contract.matched_path(method, &path), Some(Matched::Operation(_))) {
        return None;
    }
    let query = target.split_once('?').map_or("", |(_, query)| query);
    let mut names: Vec<String> =
        query.split('&').filter_map(|pair| pair.split('=').next()).map(str::to_owned).collect();
    let mut headers: Vec<String> = own.fields.iter().map(|field| field.name.of(text).to_ascii_lowercase()).collect();
    for (origin, instruction) in workspace.preambles(cell.source) {
        if let InstructionKind::Header { name, .. } = instruction.kind {
            headers.push(name.of(&workspace.source(origin).text).to_ascii_lowercase());
        }
    }
    for instruction in own.instructions() {
        if let InstructionKind::Query { name, .. } = instruction.kind {
            names.push(name.of(text).to_owned());
        }
    }
    names.retain(|name| !name.is_empty());
    Some(Exercise {
        request: format!("{}#{}", workspace.shown_path(cell.source), own.name),
        method: method.to_owned(),
        path,
        query: names,
        headers,
    })
}
