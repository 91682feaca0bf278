//! `api fetch`: asks the server for its description.

use super::discover::{self, Candidate};
use crate::args::{ApiFetch, Common, Needs};
use crate::clock;
use crate::error::CommandError;
use crate::files;
use crate::host::HostFacts;
use crate::output::{Out, body, table};
use crate::project::Project;
use crate::project::description::{self, FetchedFrom, expand};
use crate::project::locator::Locator;
use crate::prompt::Terminal;
use crate::run::send_one::{SendParams, SendPlan};
use crate::run::service::RunService;
use serde_json::json;
use std::io::Write;
use url::Url;
use yieldtray_description::{Api, INTROSPECTION_QUERY, index};
use yieldtray_engine::ExitCode;
use yieldtray_http::{Exchange, GRAPHQL_ACCEPT};
use yieldtray_interchange::draft::{Body, ImportedRequest};
use yieldtray_source::escape::escape_line;
use yieldtray_workspace::CellId;
use yieldtray_workspace::config::{ApiOrigin, ApiSettings};

/// What a description may be sent as.
const ACCEPT: &str = "application/json, application/yaml, application/vnd.oai.openapi+json, */*;q=0.5";

/// Fetches a description into the state, or into a file.
pub(super) fn fetch(
    common: &Common,
    args: &ApiFetch,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let mut project = Project::open_to_evaluate(common, host, out, &[])?;
    if !project.trust.allows() {
        let message = "`api fetch` sends requests that no request file has, and this workspace is not allowed to";
        return Err(CommandError::refused_with(message, "run `yieldtray allow` once, or pass `--allow` for this run"));
    }
    let settings = description::chosen(project.description_context(), args.which.api.as_deref())?;
    let before =
        description::open(project.description_context(), settings.clone()).ok().and_then(|opened| opened.fetched);
    let etag = before.as_ref().filter(|_| args.output.is_none()).and_then(|before| before.etag.clone());
    let mut sender = Sender { project: &mut project, host, out };
    let found = find(&mut sender, &settings, before.as_ref().map(|before| before.from.as_str()), etag.as_deref())?;
    let Some(Found { from, answer, index }) = found else {
        if let Some(mut before) = before {
            before.at = clock::now();
            tell_unchanged(&project, &settings, &before, out)?;
        }
        return Ok(ExitCode::Success);
    };
    let kept = FetchedFrom {
        from,
        at: clock::now(),
        etag: answer.header("etag").map(|etag| etag.into_owned()),
        bytes: answer.body.len() as u64,
        modified: None,
    };
    let api = Api::open(Box::new(index.clone())).map_err(super::damaged)?;
    let written = match &args.output {
        Some(file) => {
            let written = files::replace(&project.path_from_here(file), &answer.body);
            written.map_err(|error| CommandError::refused(format!("cannot write `{}`: {error}", file.display())))?;
            format!(", written to {}", file.display())
        }
        None => {
            description::keep(project.description_context(), &settings.name, &index, &kept)?;
            String::new()
        }
    };
    if out.settings.json {
        let document = json!({
            "name": settings.name,
            "from": kept.from,
            "kind": api.info().kind,
            "title": api.info().title,
            "version": api.info().version,
            "operations": api.info().operations,
            "bytes": kept.bytes,
            "changed": true,
            "notes": api.info().notes,
        });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    if !out.settings.quiet {
        let styles = out.settings.error_styles;
        for note in api.info().notes.iter().take(10) {
            out.say(&format!("{} {}", styles.warn("note"), escape_line(note)))?;
        }
        let count = table::count(api.info().operations, "operation", "operations");
        let title = escape_line(&api.info().title).into_owned();
        let size = body::size(kept.bytes);
        out.say(&format!(
            "fetched {} from {}: {}, {count}{written}",
            size,
            escape_line(&kept.from),
            styles.strong(&title)
        ))?;
        if written.is_empty() {
            let named = args.which.api.as_deref().map(|name| format!(" --api {name}")).unwrap_or_default();
            out.say(&styles.dim(&format!("next: yieldtray api tree{named}")))?;
        }
    }
    Ok(ExitCode::Success)
}

fn tell_unchanged(
    project: &Project,
    settings: &ApiSettings,
    before: &FetchedFrom,
    out: &mut Out,
) -> Result<(), CommandError> {
    description::touch(project.description_context(), &settings.name, before)?;
    if out.settings.json {
        let document = json!({ "name": settings.name, "from": before.from, "bytes": before.bytes, "changed": false });
        writeln!(out.result(), "{document}")?;
        return Ok(());
    }
    if !out.settings.quiet {
        out.say(&format!("{} has not changed", escape_line(&before.from)))?;
    }
    Ok(())
}

/// A description that was fetched.
struct Found {
    from: String,
    answer: Exchange,
    index: Vec<u8>,
}

/// Gets the description from where the configuration says, or looks for it; `None` if it is the one that is known already
/// (RFC 9110 15.4.5).
fn find(
    sender: &mut Sender<'_>,
    settings: &ApiSettings,
    before: Option<&str>,
    etag: Option<&str>,
) -> Result<Option<Found>, CommandError> {
    let origin = settings.origin.as_ref().map(|origin| origin.value.clone());
    let (from, answer) = match origin {
        Some(ApiOrigin::File(path)) => {
            let message = format!("the description is the file `{path}`: there is nothing to fetch");
            return Err(CommandError::refused(message));
        }
        Some(ApiOrigin::Url(text)) => {
            let url = expand(sender.project.description_context(), &text)?;
            let answer = sender.send(&get(&url, ACCEPT, etag))?;
            (url, answer)
        }
        Some(ApiOrigin::GraphQl(text)) => {
            let url = expand(sender.project.description_context(), &text)?;
            let answer = sender.send(&introspection(&url))?;
            (url, answer)
        }
        Some(ApiOrigin::Request(place)) => {
            let answer = sender.send_request(&place)?;
            (place, answer)
        }
        None => match before.zip(etag) {
            // Where it was found before it is probably still.
            Some((url, etag)) if is_below_base(sender, settings, url) => {
                let answer = sender.send(&get(url, ACCEPT, Some(etag)))?;
                match answer.status {
                    304 => return Ok(None),
                    _ => return discovered(sender, settings),
                }
            }
            _ => return discovered(sender, settings),
        },
    };
    if answer.status == 304 {
        return Ok(None);
    }
    if !(200..300).contains(&answer.status) {
        let message = format!("{from} responded {} {}, not with a description", answer.status, answer.reason);
        return Err(CommandError::refused_with(message, "set `[api]` of yieldtray.toml to where it is"));
    }
    if !answer.is_body_complete() {
        let hint = "raise `body_limit` in `[send]`, or save it as a file and set `file` in `[api]`";
        return Err(CommandError::refused_with(format!("the description at {from} is too large"), hint));
    }
    match read(&answer) {
        Ok(index) => Ok(Some(Found { from, answer, index })),
        Err(why) => Err(CommandError::refused(format!("{from} is not a description: {why}"))),
    }
}

/// Whether a URL is one of the server that is asked now.
fn is_below_base(sender: &Sender<'_>, settings: &ApiSettings, url: &str) -> bool {
    let base = description::base_url(sender.project.description_context(), settings);
    base.is_ok_and(|base| Url::parse(url).is_ok_and(|url| url.origin() == base.origin()))
}

/// Looks for a description where servers have one.
fn discovered(sender: &mut Sender<'_>, settings: &ApiSettings) -> Result<Option<Found>, CommandError> {
    let base = description::base_url(sender.project.description_context(), settings)?;
    let mut tried = Vec::new();
    let mut open = discover::first(&base, settings.paths.as_deref());
    while let Some(candidate) = open.pop_front() {
        let (url, request) = match &candidate {
            Candidate::GraphQl(url) => (url, introspection(url.as_str())),
            Candidate::Links(url) | Candidate::Catalog(url) => (url, get(url.as_str(), "*/*", None)),
            Candidate::Description(url) => (url, get(url.as_str(), ACCEPT, None)),
        };
        let answer = sender.send(&request)?;
        let found = (200..300).contains(&answer.status);
        match candidate {
            Candidate::Links(_) | Candidate::Catalog(_) => {
                // What a server links to is looked at next.
                for url in discover::linked(&candidate, &answer, &base).into_iter().rev() {
                    open.push_front(Candidate::Description(url));
                }
            }
            _ if found && answer.is_body_complete() => {
                if let Ok(index) = read(&answer) {
                    return Ok(Some(Found { from: url.to_string(), answer, index }));
                }
            }
            _ => {}
        }
        tried.push(url.path().to_owned());
    }
    let message = format!("no description found at {base}; tried {}", tried.join(", "));
    Err(CommandError::refused_with(message, "set `url`, `graphql`, `file` or `request` in `[api]` of yieldtray.toml"))
}

fn read(answer: &Exchange) -> Result<Vec<u8>, String> {
    let outside =
        |path: &str| Err::<Vec<u8>, _>(format!("`{path}` is not fetched: save the files and set `file` in `[api]`"));
    index(&answer.body, outside).map_err(|error| error.to_string())
}

/// A request for what is at a URL, unless it still has the entity tag (RFC 9110 13.1.2).
fn get(url: &str, accept: &str, etag: Option<&str>) -> ImportedRequest {
    let mut headers = vec![("Accept".into(), accept.into())];
    headers.extend(etag.map(|etag| ("If-None-Match".into(), etag.into())));
    ImportedRequest { target: url.into(), headers, ..ImportedRequest::default() }
}

/// The request that asks a GraphQL endpoint for its schema.
fn introspection(url: &str) -> ImportedRequest {
    let body = json!({ "query": INTROSPECTION_QUERY }).to_string();
    ImportedRequest {
        method: Some("POST".into()),
        target: url.into(),
        headers: vec![("Content-Type".into(), "application/json".into()), ("Accept".into(), GRAPHQL_ACCEPT.into())],
        body: Body::Text(body.into()),
        ..ImportedRequest::default()
    }
}

/// Sends requests of the command itself, and one of a file.
struct Sender<'a> {
    project: &'a mut Project,
    host: &'a HostFacts,
    out: &'a mut Out,
}

impl Sender<'_> {
    /// Sends a request that says nothing but what it is: servers name URLs and entity tags, in which `{{ }}` would be
    /// evaluated.
    fn send(&mut self, request: &ImportedRequest) -> Result<Exchange, CommandError> {
        let text = request.cell();
        let text = text.map_err(|error| CommandError::refused(format!("cannot fetch the description: {error}")))?;
        let cell = self.project.take_text("<description>", text)?;
        self.send_cell(cell, Needs::Never)
    }

    fn send_request(&mut self, place: &str) -> Result<Exchange, CommandError> {
        // Paths of a configuration count from its folder.
        let root = self.project.root.clone();
        let locator = match Locator::parse(place, |path| root.join(path).exists()) {
            Locator::Cell(file, name) => Locator::Cell(root.join(file).to_string_lossy().into_owned(), name),
            Locator::Path(path) => Locator::Path(root.join(path).to_string_lossy().into_owned()),
            other => other,
        };
        let found = self.project.find(&[locator]);
        match found?.as_slice() {
            [cell] => self.send_cell(*cell, Needs::Send),
            cells => {
                let message = format!("`request = \"{place}\"` in `[api]` names {} requests", cells.len());
                Err(CommandError::refused_with(message, "name one: `requests/api.http#describe`"))
            }
        }
    }

    fn send_cell(&mut self, cell: CellId, needs: Needs) -> Result<Exchange, CommandError> {
        let prompter = Terminal::of(self.host);
        let plan = SendPlan::of(self.project, cell, needs, &prompter, self.out)?;
        let service = RunService::new(self.project, &prompter);
        let done = service.send_one(plan, cell, SendParams { no_log: true, ..SendParams::default() }, false, None)?;
        if let Some(answer) = &done.answer {
            return Ok(answer.clone());
        }
        let report = done.report.as_ref();
        self.out.problems(&self.project.workspace, report.map_or(&[], |report| report.problems.as_slice()))?;
        let failure = report.and_then(|report| report.failure.as_ref());
        let message = failure.map_or("the request was not sent".to_owned(), |failure| failure.message.clone());
        let hint = failure.and_then(|failure| failure.hint.clone());
        Err(CommandError::Refused { code: None, message: format!("cannot fetch the description: {message}"), hint })
    }
}
