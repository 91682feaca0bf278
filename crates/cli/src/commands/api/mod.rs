//! `api`: what the server offers, as its description says.

mod coverage;
mod diff;
mod discover;
mod drift;
mod fetch;
mod observe;
mod requests;
mod show;
mod tree;

use crate::args::{Api, ApiAction, Common, LazyArgs};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::data::age;
use crate::project::Project;
use crate::project::description::{self, OpenDescription};
use crate::{clock, output};
use url::Url;
use yieldtray_description::{ApiKind, Contract, IndexError};
use yieldtray_engine::ExitCode;
use yieldtray_source::escape::escape_line;

/// Runs one of the commands below `api`.
pub(super) fn api(common: &Common, args: Api, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    match args.action {
        ApiAction::Fetch(LazyArgs(args)) => fetch::fetch(common, &args, host, out),
        ApiAction::Tree(LazyArgs(args)) => tree::tree(common, &args, host, out),
        ApiAction::Show(LazyArgs(args)) => show::show(common, &args, host, out),
        ApiAction::Coverage(LazyArgs(args)) => coverage::coverage(common, &args, host, out),
        ApiAction::Drift(LazyArgs(args)) => drift::drift(common, &args, host, out),
        ApiAction::Diff(LazyArgs(args)) => diff::diff(common, &args, host, out),
    }
}

/// Opens the project and one of its descriptions.
fn opened(
    common: &Common,
    which: Option<&str>,
    host: &HostFacts,
    out: &mut Out,
) -> Result<(Project, OpenDescription), CommandError> {
    let project = Project::open(common, host, out, &[])?;
    let settings = description::chosen(project.description_context(), which)?;
    let opened = description::open(project.description_context(), settings)?;
    Ok((project, opened))
}

/// A description with the URL of its server. Without one, no request is known to be one of its operations.
fn contract(project: &Project, opened: OpenDescription) -> (Contract, Option<CommandError>) {
    let OpenDescription { settings, api, .. } = opened;
    match description::base_url(project.description_context(), &settings) {
        Ok(base) => (Contract::new(settings.name, api, base), None),
        Err(error) => {
            let nowhere = Url::parse("http://invalid.").unwrap_or_else(|_| unreachable!("this is a URL"));
            (Contract::new(settings.name, api, nowhere), Some(error))
        }
    }
}

/// The same for a command that needs a description in OpenAPI and the URL of its server; prints the title.
fn opened_openapi(
    command: &str,
    common: &Common,
    which: Option<&str>,
    host: &HostFacts,
    out: &mut Out,
) -> Result<(Project, Contract), CommandError> {
    let (project, opened) = opened(common, which, host, out)?;
    if opened.api.info().kind != ApiKind::OpenApi {
        let message = format!("`{command}` needs a description in OpenAPI, but this one is a GraphQL schema");
        return Err(CommandError::refused(message));
    }
    let title = title(&opened, out);
    match contract(&project, opened) {
        (_, Some(error)) => Err(error),
        (contract, None) => {
            print_title(&title, out)?;
            Ok((project, contract))
        }
    }
}

fn print_title(title: &str, out: &mut Out) -> Result<(), CommandError> {
    if out.settings.quiet || out.settings.json {
        return Ok(());
    }
    Ok(out.say(title)?)
}

/// The first line: the title of the description, and where it is from.
fn title(opened: &OpenDescription, out: &Out) -> String {
    let info = opened.api.info();
    let styles = out.settings.error_styles;
    let version = info.version.as_deref().map(|version| format!(" {version}")).unwrap_or_default();
    let origin = match &opened.fetched {
        Some(from) => {
            format!("{} · fetched {}", escape_line(&from.from), age((clock::now() - from.at).max(0)))
        }
        None => match opened.settings.origin.as_ref().map(|origin| origin.value.describe()) {
            Some((_, text)) => text.to_owned(),
            None => String::new(),
        },
    };
    let count = output::table::count(info.operations, "operation", "operations");
    let title = escape_line(&info.title).into_owned();
    let details = [info.kind.as_str(), &count, &origin].into_iter().filter(|part| !part.is_empty());
    let details = details.collect::<Vec<_>>().join(" · ");
    format!("{}{version}  {}", styles.strong(&title), styles.dim(&details))
}

/// An index that cannot be read.
fn damaged(error: IndexError) -> CommandError {
    let message = format!("cannot read the index of the API: {error}");
    CommandError::refused_with(message, "run `yieldtray api fetch` to make it anew")
}
