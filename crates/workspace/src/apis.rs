//! The descriptions of the workspace's API, which are opened when somebody first asks for one.

use crate::config::{ApiOrigin, ApiSettings, Config, SourceCache};
use std::fmt;
use std::sync::{Arc, OnceLock};
use yieldtray_description::{Api, ApiKind, Contract, GraphQlSchema};
use yieldtray_source::files::FileSystem;

/// A description of the API.
#[derive(Debug)]
pub struct LoadedApi {
    /// Its name.
    pub name: String,
    /// Whether each response is validated against it.
    pub check: bool,
    /// Whether it is a GraphQL schema, against which documents are validated and not responses.
    pub is_graphql: bool,
    origin: Option<ApiOrigin>,
    /// It, or why it cannot be used.
    pub contract: Result<Contract, String>,
    schema: OnceLock<Option<GraphQlSchema>>,
}

impl LoadedApi {
    /// A description that was opened, or why it was not.
    pub fn new(settings: &ApiSettings, contract: Result<Contract, String>) -> Self {
        let origin = settings.origin.as_ref().map(|origin| origin.value.clone());
        let is_schema = contract.as_ref().is_ok_and(|contract| contract.api().info().kind == ApiKind::GraphQl);
        let is_graphql = is_schema || matches!(origin, Some(ApiOrigin::GraphQl(_)));
        let check = settings.check == Some(true);
        Self { name: settings.name.clone(), check, is_graphql, origin, contract, schema: OnceLock::new() }
    }

    /// The file that it is, relative to the root.
    pub fn file(&self) -> Option<&str> {
        match &self.origin {
            Some(ApiOrigin::File(path)) => Some(path),
            _ => None,
        }
    }

    /// The URL of its GraphQL endpoint as the configuration writes it; `None` if it came from elsewhere.
    pub(crate) fn endpoint(&self) -> Option<&str> {
        match &self.origin {
            Some(ApiOrigin::GraphQl(url)) => Some(url),
            _ => None,
        }
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

/// What descriptions are opened with.
#[derive(Clone, Copy)]
pub struct ApiInputs<'a> {
    /// The configuration, which says where they are.
    pub config: &'a Config,
    /// The files of the workspace.
    pub files: &'a dyn FileSystem,
    /// The values of sources that were asked before.
    pub source_cache: &'a SourceCache,
}

/// Opens the descriptions of a workspace.
pub type ApiLoader = Box<dyn Fn(ApiInputs<'_>) -> Vec<LoadedApi> + Send + Sync>;

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

    pub(crate) fn get(&self, inputs: ApiInputs<'_>) -> &[LoadedApi] {
        self.loaded.get_or_init(|| self.loader.as_ref().map(|load| load(inputs)).unwrap_or_default())
    }
}
