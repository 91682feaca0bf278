//! URLs of `[api]`, with the variables that they name.

use super::DescriptionContext;
use crate::error::CommandError;
use url::Url;
use yieldtray_workspace::ApiInputs;
use yieldtray_workspace::config::{ApiSettings, ExternalSources};

/// A text of `[api]` with the values of the variables that it names.
///
/// # Errors
/// If a placeholder is not a variable of the configuration, or a secret: credentials belong to a request.
pub(crate) fn expand(context: DescriptionContext<'_>, text: &str) -> Result<String, CommandError> {
    let (mut expanded, mut rest) = (String::with_capacity(text.len()), text);
    while let Some((before, after)) = rest.split_once("{{") {
        let Some((name, behind)) = after.split_once("}}") else { break };
        expanded.push_str(before);
        expanded.push_str(value(context, name.trim(), text)?.trim_end_matches('/'));
        rest = behind;
    }
    expanded.push_str(rest);
    Ok(expanded)
}

fn value(context: DescriptionContext<'_>, name: &str, text: &str) -> Result<String, CommandError> {
    let ApiInputs { config, files, source_cache } = context.inputs;
    if config.is_secret(name) || context.settings.is_set_secret(name) {
        let message = format!("`{text}` uses the secret `{name}`");
        let hint = "use `request = \"FILE#NAME\"` to fetch a description with credentials";
        return Err(CommandError::refused_with(message, hint));
    }
    let environment = context.environment();
    let found = match context.settings.set_value(name) {
        Some(value) => value.to_text().ok().map(|text| text.into_owned()),
        None => match config.entry(environment, name) {
            Some(entry) => {
                let outside = ExternalSources { variables: &context.settings.variables, files, cache: source_cache };
                let value = entry.value(&outside);
                value.ok().and_then(|value| value.to_text().ok().map(|text| text.into_owned()))
            }
            None => None,
        },
    };
    found.ok_or_else(|| {
        let place = environment.map(|name| format!(" in {name}")).unwrap_or_default();
        let message = format!("`{text}` uses `{name}`, which has no value{place}");
        CommandError::refused_with(message, format!("define `{name}` in yieldtray.toml, or pass `--set {name}=…`"))
    })
}

/// The URL that the paths of a description are joined to.
///
/// # Errors
/// If it has no value, or is no URL.
pub(crate) fn base_url(context: DescriptionContext<'_>, settings: &ApiSettings) -> Result<Url, CommandError> {
    let text = settings.base.as_ref().map_or("{{base}}", |base| base.value.as_str());
    let expanded = expand(context, text)?;
    let with_scheme = if expanded.contains("://") { expanded } else { format!("http://{expanded}") };
    Url::parse(&with_scheme).map_err(|error| {
        CommandError::refused_with(format!("`{with_scheme}` is not a URL: {error}"), "set `base` of `[api]` to a URL")
    })
}
