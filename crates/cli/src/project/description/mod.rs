//! The descriptions of the workspace's API: where they come from, and what is kept of them in the state.

mod kept;
mod place;

use crate::error::CommandError;
pub(crate) use kept::{FetchedFrom, keep, touch};
use kept::{KeptIndex, index_file};
pub(crate) use place::{base_url, expand};
use std::path::{Path, PathBuf};
use yieldtray_description::{Api, Contract};
use yieldtray_source::{closest, join_words};
use yieldtray_workspace::config::{ApiOrigin, ApiSettings, DEFAULT_API};
use yieldtray_workspace::scope::EvalSettings;
use yieldtray_workspace::{ApiInputs, ApiLoader, LoadedApi};

/// The workspace whose descriptions are asked for, and what was chosen in it.
#[derive(Clone, Copy)]
pub(crate) struct DescriptionContext<'a> {
    pub(crate) root: &'a Path,
    pub(crate) inputs: ApiInputs<'a>,
    pub(crate) settings: &'a EvalSettings,
}

impl DescriptionContext<'_> {
    fn environment(&self) -> Option<&str> {
        self.settings.environment.as_deref()
    }
}

/// What opens the descriptions of a workspace when they are first asked for.
pub(crate) fn loader(root: PathBuf, settings: EvalSettings) -> ApiLoader {
    Box::new(move |inputs| {
        let context = DescriptionContext { root: &root, inputs, settings: &settings };
        let described = self::settings(context).into_iter().filter_map(|own| {
            let contract = open(context, own.clone()).and_then(|opened| {
                let base = base_url(context, &opened.settings)?;
                Ok(Contract::new(own.name.clone(), opened.api, base))
            });
            match contract {
                // One that nobody configured is there once it was fetched.
                Err(_) if own.place.is_none() => None,
                contract => Some(LoadedApi::new(&own, contract.map_err(|error| error.one_line()))),
            }
        });
        described.collect()
    })
}

/// A description that is open.
pub(crate) struct OpenDescription {
    pub(crate) settings: ApiSettings,
    pub(crate) api: Api,
    /// Where and when it was fetched; `None` for a file of the workspace.
    pub(crate) fetched: Option<FetchedFrom>,
}

/// The settings of the descriptions in the chosen environment. Without any, one is looked for at the server.
pub(crate) fn settings(context: DescriptionContext<'_>) -> Vec<ApiSettings> {
    let found = context.inputs.config.apis_for(context.environment());
    if !found.is_empty() {
        return found;
    }
    vec![ApiSettings::named(DEFAULT_API, None)]
}

/// The settings of the description of that name, else the first.
///
/// # Errors
/// If none has that name.
pub(crate) fn chosen(context: DescriptionContext<'_>, name: Option<&str>) -> Result<ApiSettings, CommandError> {
    let mut all = settings(context);
    let Some(name) = name else { return Ok(all.swap_remove(0)) };
    let names: Vec<String> = all.iter().map(|own| own.name.clone()).collect();
    all.into_iter().find(|own| own.name == name).ok_or_else(|| {
        let hint = match closest(name, names.iter().map(String::as_str)) {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => format!("available: {}", join_words(&names)),
        };
        CommandError::refused_with(format!("no description named `{name}`"), hint)
    })
}

/// Opens a description: a file of the workspace, or what was fetched before.
///
/// # Errors
/// If it cannot be read, or was not fetched yet.
pub(crate) fn open(context: DescriptionContext<'_>, settings: ApiSettings) -> Result<OpenDescription, CommandError> {
    if let Some(ApiOrigin::File(path)) = settings.origin.as_ref().map(|origin| &origin.value) {
        let api = index_file(context, &settings.name, path)?;
        return Ok(OpenDescription { settings, api, fetched: None });
    }
    match KeptIndex::open(context, &settings.name)? {
        Some(KeptIndex { api, from }) => Ok(OpenDescription { settings, api, fetched: Some(from) }),
        None => {
            let named = if settings.name == DEFAULT_API { String::new() } else { format!(" --api {}", settings.name) };
            let environment = context.environment();
            let place = environment.map(|name| format!(" in {name}")).unwrap_or_default();
            let message = format!("the API has no description yet{place}");
            let hint = format!("run `yieldtray api fetch{named}`, or set `file` in `[api]` of yieldtray.toml");
            Err(CommandError::refused_with(message, hint))
        }
    }
}
