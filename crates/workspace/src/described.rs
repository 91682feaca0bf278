//! Which descriptions of the API are about a cell.

use crate::{CellId, LoadedApi, Workspace};
use std::sync::Arc;
use yieldtray_description::{ApiKind, Matched, Operation};
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::InstructionKind;

/// The label of the check that a response is as described.
pub const CONTRACT_LABEL: &str = "contract";

/// How a response to a cell is validated against a description.
#[derive(Clone, Copy, Debug)]
pub struct ContractCheck<'w> {
    /// The description.
    pub api: &'w LoadedApi,
    /// The line that asks for it: an instruction, or the request line.
    pub place: (SourceId, Span),
    /// Whether an instruction asks for it, rather than the configuration.
    pub is_explicit: bool,
}

/// The descriptions that the response to a cell is validated against.
pub fn contract_checks(workspace: &Workspace, cell: CellId) -> Vec<ContractCheck<'_>> {
    let own = workspace.cell(cell);
    let text = &workspace.source(cell.source).text;
    // What a GraphQL request may ask for is in a schema of its own.
    let Some(request) = own.request.as_ref().filter(|_| !own.is_graphql()) else { return Vec::new() };
    let mut asked: Vec<(SourceId, Span, Option<Span>)> = Vec::new();
    let lines = workspace.preambles(cell.source).chain(own.instructions().map(|line| (cell.source, line)));
    for (origin, line) in lines {
        match line.kind {
            InstructionKind::Contract(name) => asked.push((origin, line.span, name)),
            InstructionKind::Waive(list)
                if InstructionKind::list(list, text).any(|label| label.of(text) == CONTRACT_LABEL) =>
            {
                return Vec::new();
            }
            _ => {}
        }
    }
    // Most workspaces have neither: then nothing is opened.
    let is_configured = || {
        let config = &workspace.config;
        let all = config.environments.iter().flat_map(|environment| &environment.apis).chain(&config.apis);
        all.into_iter().any(|api| api.check == Some(true))
    };
    if asked.is_empty() && !is_configured() {
        return Vec::new();
    }
    let mut checks: Vec<ContractCheck<'_>> = Vec::new();
    for api in workspace.apis().iter().filter(|api| !api.is_graphql) {
        let named = asked
            .iter()
            .rev()
            .find(|(origin, _, name)| name.is_none_or(|name| name.of(&workspace.source(*origin).text) == api.name));
        let place = match named {
            Some((origin, span, _)) => (*origin, *span),
            None if api.check => (cell.source, request.span),
            None => continue,
        };
        checks.push(ContractCheck { api, place, is_explicit: named.is_some() });
    }
    checks
}

/// The operation of OpenAPI that a cell's request is, as far as its text shows: the path with stand-ins for values.
pub fn operation_of(workspace: &Workspace, cell: CellId) -> Option<(&LoadedApi, Arc<Operation>)> {
    let own = workspace.cell(cell);
    let line = own.request.as_ref()?;
    let text = &workspace.source(cell.source).text;
    let method = line.method.map_or("GET", |method| method.of(text));
    for api in workspace.apis() {
        let Ok(contract) = &api.contract else { continue };
        if contract.api().info().kind != ApiKind::OpenApi {
            continue;
        }
        let Some(path) = contract.path_of_target(line.target.of(text)) else { continue };
        if let Some(Matched::Operation(path)) = contract.matched_path(method, &path)
            && let Ok(Some(operation)) = contract.api().operation(method, &path)
        {
            return Some((api, operation));
        }
    }
    None
}

/// The GraphQL description of the endpoint that a cell's document is sent to. One that is a file names no endpoint, and
/// is that of every other one of its server.
pub fn graphql_api_of(workspace: &Workspace, cell: CellId) -> Option<&LoadedApi> {
    let line = workspace.cell(cell).request.as_ref()?;
    let target = line.target.of(&workspace.source(cell.source).text);
    let mut of_server = None;
    for api in workspace.apis() {
        let Some(contract) = api.contract.as_ref().ok().filter(|_| api.is_graphql) else { continue };
        let path = contract.path_of_target(target);
        match api.endpoint() {
            Some(url) if url == target || (path.is_some() && contract.path_of_target(url) == path) => return Some(api),
            None if path.is_some() => of_server = of_server.or(Some(api)),
            _ => {}
        }
    }
    of_server
}
