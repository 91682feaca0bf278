//! How requests go out, from what the configuration says.

use crate::error::CommandError;
use crate::files::{anywhere, is_outside};
use crate::project::Project;
use std::path::{Path, PathBuf};
use yieldtray_source::{Code, Problem};
use yieldtray_transport::{Options, Proxy};
use yieldtray_workspace::config::Setting;

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
        proxy: match settings.proxy.as_ref().map(|proxy| proxy.value.as_str()) {
            None => Proxy::Surroundings,
            Some("none") => Proxy::Off,
            Some(address) => Proxy::Address(address.to_owned()),
        },
        no_proxy: settings.no_proxy.clone(),
        ca: path("ca", &settings.ca)?,
        certificate: certificate.map(|chain| (chain.clone(), key.unwrap_or(chain))),
        socket: path("socket", &settings.socket)?,
        ..usual
    };
    options.check_files().map_err(CommandError::refused)?;
    Ok(options)
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
