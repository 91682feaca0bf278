//! How requests go out, from what the configuration says.

use crate::error::CommandError;
use crate::files::{anywhere, is_outside};
use crate::project::Project;
use std::borrow::Cow;
use std::path::{Path, PathBuf};
use yieldtray_source::{Code, Problem};
use yieldtray_transport::{ClientCertificate, Options, Proxy};
use yieldtray_workspace::config::{SendSettings, Setting};

/// The options of the transport for the chosen environment; paths count from the workspace's root.
///
/// # Errors
/// For a socket, certificate or key outside a workspace that has not been allowed to use it, and for files of these
/// that cannot be read.
pub(crate) fn options(project: &Project) -> Result<Options, CommandError> {
    let settings = project.workspace.config.send_settings(project.settings.environment.as_deref());
    let usual = Options::default();
    let path = |what: &str, setting: &Option<Setting<String>>| {
        setting.as_ref().map(|setting| allowed_path(project, what, setting)).transpose()
    };
    let certificate = path("certificate", &settings.certificate)?;
    let key = path("key", &settings.key)?;
    let options = Options {
        body_limit: settings.body_limit.unwrap_or(usual.body_limit),
        connect_timeout: settings.connect_timeout,
        keep_header_case: settings.keep_header_case.unwrap_or_default(),
        proxy: match settings.proxy.as_ref().map(|proxy| proxy.value.as_str()) {
            None => Proxy::Surroundings,
            Some("none") => Proxy::Off,
            Some(address) => Proxy::Address(address.to_owned()),
        },
        no_proxy: settings.no_proxy.clone(),
        ca: path("ca", &settings.ca)?,
        certificate: match certificate {
            None => None,
            Some(chain) => {
                let key = key.unwrap_or_else(|| chain.clone());
                Some(ClientCertificate { chain, key, password: password(project, settings)? })
            }
        },
        socket: path("socket", &settings.socket)?,
        ..usual
    };
    options.check_files().map_err(CommandError::refused)?;
    Ok(options)
}

/// The password of the client's key: the value of the variable that `key_password` names.
fn password(project: &Project, settings: &SendSettings) -> Result<Option<String>, CommandError> {
    let Some(setting) = &settings.key_password else { return Ok(None) };
    let name = &setting.value;
    if let Some(value) = project.settings.set_value(name) {
        return Ok(value.to_text().ok().map(Cow::into_owned));
    }
    let config = &project.workspace.config;
    let place = project.workspace.shown_line(setting.source, setting.span.start());
    let refused = |why: &str, hint: String| {
        CommandError::refused_with(format!("`key_password = \"{name}\"` of {place}: {why}"), hint)
    };
    let Some(entry) = config.entry(project.settings.environment.as_deref(), name) else {
        return Err(refused("there is no such variable", format!("define `{name}` in `[values]`, or pass `--set`")));
    };
    let value = entry.value(&project.workspace.outside(&project.settings.variables));
    let value = value.map_err(|error| refused(&error.message, error.hint))?;
    Ok(value.to_text().ok().map(Cow::into_owned))
}

fn allowed_path(project: &Project, what: &str, setting: &Setting<String>) -> Result<PathBuf, CommandError> {
    let path = Path::new(&setting.value);
    let outside = what == "socket" || is_outside(&project.root, path);
    if !outside || project.trust.allows() {
        return Ok(anywhere(&project.root, path));
    }
    let place = project.workspace.shown_line(setting.source, setting.span.start());
    let message = format!(
        "`{what} = \"{}\"` of {place} is outside the workspace, which is not allowed to access it",
        setting.value
    );
    let problem = Problem::error(Code::NotAllowed, setting.span, message);
    Err(problem.with_hint("review the configuration, then run `yieldtray allow`").into())
}
