//! The descriptions of the workspace's API, which are opened when somebody first asks for one.

use crate::{CellId, Workspace};
use std::fmt;
use std::sync::{Arc, OnceLock};
use yieldtray_description::{Api, ApiKind, Contract, GraphQlSchema, Matched, Operation};
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::InstructionKind;

/// The label of the check that a response is as described.
pub const CONTRACT_LABEL: &str = "contract";

/// A description of the API.
#[derive(Debug)]
pub struct LoadedApi {
    /// Its name.
    pub name: String,
    /// Whether each response is validated against it.
    pub check: bool,
    /// It, or why it cannot be used.
    pub contract: Result<Contract, String>,
    schema: OnceLock<Option<GraphQlSchema>>,
}

impl LoadedApi {
    /// A description that was opened, or why it was not.
    pub fn new(name: String, check: bool, contract: Result<Contract, String>) -> Self {
        Self { name, check, contract, schema: OnceLock::new() }
    }

    /// The description, if it could be opened.
    pub fn api(&self) -> Option<&Arc<Api>> {
        self.contract.as_ref().ok().map(Contract::api)
    }

    /// Its schema, if it is of GraphQL.
    pub fn schema(&self) -> Option<&GraphQlSchema> {
        let schema = self.schema.get_or_init(|| {
            let text = self.api()?.schema_text().ok()??;
            GraphQlSchema::parse(&text).ok()
        });
        schema.as_ref()
    }
}

/// Opens the descriptions of a workspace.
pub type ApiLoader = Box<dyn Fn(&Workspace) -> Vec<LoadedApi> + Send + Sync>;

/// The descriptions, once they are asked for.
#[derive(Default)]
pub(crate) struct Apis {
    loader: Option<ApiLoader>,
    loaded: OnceLock<Vec<LoadedApi>>,
}

impl fmt::Debug for Apis {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Apis")
    }
}

impl Apis {
    pub(crate) fn with(loader: ApiLoader) -> Self {
        Self { loader: Some(loader), loaded: OnceLock::new() }
    }

    pub(crate) fn get(&self, workspace: &Workspace) -> &[LoadedApi] {
        self.loaded.get_or_init(|| self.loader.as_ref().map(|load| load(workspace)).unwrap_or_default())
    }
}

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
    let Some(request) = &own.request else { return Vec::new() };
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
    for api in workspace.apis() {
        let named = asked.iter().rev().find(|(origin, _, name)| {
            name.is_none_or(|name| name.of(&workspace.source(*origin).text) == api.name)
        });
        let place = match named {
            Some((origin, span, _)) => (*origin, *span),
            // What a GraphQL request may ask for is in a schema of its own.
            None if api.check && !own.is_graphql() => (cell.source, request.span),
            None => continue,
        };
        checks.push(ContractCheck { api, place, is_explicit: named.is_some() });
    }
    checks
}

/// The operation of OpenAPI that a cell's request is, as far as its text shows: the path with stand-ins for values.
pub fn operation_of(workspace: &Workspace, cell: CellId) -> Option<(&LoadedApi, Operation)> {
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
