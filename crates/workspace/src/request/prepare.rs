//! Prepares the request of a cell.

use super::graphql::GraphQlRequest;
use super::sending::configured;
use super::write::TemplateRenderer;
use super::{auth, destination, target};
use crate::request::encoding::{ContextTracker, SubstitutionContext};
use crate::request::sending;
use crate::scope::{Phase, Resolver};
use crate::{AuthLine, auth_of, says_insecure};
use std::path::PathBuf;
use std::sync::Arc;
use yieldtray_credentials::oauth::Token;
use yieldtray_http::{GRAPHQL_ACCEPT, HeaderFields, HttpVersion, Login, PreparedRequest, Signer, origin_of};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{InstructionKind, RequestLine, Version};

/// Header fields that go out with every request that does not set them.
const DEFAULT_HEADERS: &[(&str, &str)] = &[
    ("Accept", "*/*"),
    ("Accept-Encoding", "gzip, br, zstd"),
    ("User-Agent", concat!("yieldtray/", env!("CARGO_PKG_VERSION"))),
];

/// Additions to the request of a cell.
#[derive(Clone, Copy, Debug, Default)]
pub struct Overrides<'e> {
    /// The token of the cell's OAuth 2.0 profile.
    pub token: Option<&'e Token>,
    /// More header fields; one with an empty value drops those of its name.
    pub headers: &'e [(String, String)],
}

/// A request, and the file for the response body, relative to the root.
pub type PreparedWithSave = (PreparedRequest, Option<PathBuf>);

/// Prepares the request of the resolver's cell. Reports all problems, not only the first; if one of them is an error,
/// there is no request.
pub fn prepare(resolver: &mut Resolver<'_>, extras: Overrides<'_>) -> (Option<PreparedWithSave>, Vec<Problem>) {
    let workspace = resolver.workspace;
    let cell_id = resolver.cell;
    let source = cell_id.source;
    let Some(line) = &workspace.cell(cell_id).request else { return (None, Vec::new()) };
    let text = &workspace.source(source).text;
    let environment = resolver.context.settings.environment.as_deref();
    let mut sending = sending::of_cell(configured(workspace.config.send_settings(environment)), workspace, cell_id);

    let auth_line = auth_of(workspace, cell_id);
    let mut writer = TemplateRenderer { resolver, problems: Vec::new() };
    let graphql = writer.graphql(source);
    let is_get = line.method.is_none_or(|method| method.of(text) == "GET");
    let address = writer.address(source, line, auth_line.as_ref(), graphql.as_ref().filter(|_| is_get));
    let (mut headers, mut dropped) = writer.headers(source);
    // Also dropped are those that go out by themselves.
    dropped.extend(extras.headers.iter().filter(|(_, value)| value.is_empty()).map(|(name, _)| name.clone()));
    let is_dropped = |name: &str| dropped.iter().any(|dropped| dropped.eq_ignore_ascii_case(name));
    headers.retain(|(own, _)| !extras.headers.iter().any(|(name, _)| own.eq_ignore_ascii_case(name)));
    let given = extras.headers.iter().filter(|(_, value)| !value.is_empty());
    headers.extend(given.map(|(name, value)| (name.clone().into(), value.clone().into())));
    let own_accept =
        workspace.cell(cell_id).fields.iter().any(|field| field.name.of(text).eq_ignore_ascii_case("accept"));
    if graphql.is_some() && !own_accept && !is_dropped("accept") {
        // A shared one is meant for other requests.
        headers.retain(|(name, _)| !name.eq_ignore_ascii_case("accept"));
        let subscribes = graphql.as_ref().is_some_and(|graphql| graphql.is_subscription);
        headers.push(("Accept".into(), if subscribes { "text/event-stream" } else { GRAPHQL_ACCEPT }.into()));
    }
    let (body, media) = match &graphql {
        Some(_) if is_get => (None, None),
        Some(graphql) => writer.graphql_body(source, graphql),
        None => writer.body(source, &headers),
    };
    let save = writer.save(source);
    let proof = writer.auth(auth_line.as_ref(), extras.token);
    let signer = writer.signer();
    let mut problems = writer.problems;
    if let Some(address) = &address {
        problems.extend(destination::check(resolver, &address.url, auth_line.as_ref()));
    }

    if let Some(address) = &address {
        let (origin, base) = (origin_of(&address.url), resolver.base_origin());
        let is_base = base.as_ref() == Some(&origin);
        sending.certificate = is_base || destination::is_listed(resolver, &origin);
        // `[send] insecure` is meant for the servers of the environment, `% insecure` for the request it is in.
        // Without a `base` it is unknown which servers these are; the first line of the output shows it anyway.
        sending.insecure &= is_base || base.is_none() || says_insecure(workspace, cell_id);
    }
    // Credentials in the URL are the cell's own: they win over those of an outer line.
    let of_address = address
        .as_ref()
        .and_then(|address| address.credentials.clone())
        .filter(|_| !auth_line.is_some_and(|line| line.is_local));
    let of_address =
        of_address.map(|(user, password)| auth::Credentials::Header(auth::basic(&Login { user, password })));
    let added = auth::add(&mut headers, of_address.or(proof));
    let bound = added.bound.map(|token| token as Arc<dyn Signer>);
    if let Some(media) = media.filter(|_| !has(&headers, "content-type") && !is_dropped("content-type")) {
        headers.push(("Content-Type".into(), media.into()));
    }
    add_defaults(&mut headers, is_dropped);
    if problems.iter().any(Problem::is_error) {
        return (None, problems);
    }
    let prepared = address.map(|address| PreparedRequest {
        method: line.method.map_or("GET", |method| method.of(text)).to_owned(),
        verbatim_target: address.verbatim.filter(|_| sending.verbatim_path),
        url: address.url,
        version: line.version.map(|version| match version {
            Version::Http11 => HttpVersion::Http11,
            Version::Http2 => HttpVersion::Http2,
        }),
        headers,
        body,
        sending,
        digest: added.digest,
        signers: bound.into_iter().chain(signer).collect(),
        conversation: workspace.cell(cell_id).is_conversation(text) || address.conversation,
        secret_body: false,
    });
    (prepared.map(|prepared| (prepared, save)), problems)
}

/// Adds the header fields that go out with every request, where nothing else is said.
pub(super) fn add_defaults(headers: &mut HeaderFields, is_dropped: impl Fn(&str) -> bool) {
    for (name, value) in DEFAULT_HEADERS {
        if !has(headers, name) && !is_dropped(name) {
            headers.push(((*name).into(), (*value).into()));
        }
    }
}

fn has(headers: &HeaderFields, name: &str) -> bool {
    headers.iter().any(|(own, _)| own.eq_ignore_ascii_case(name))
}

impl TemplateRenderer<'_, '_> {
    fn address(
        &mut self,
        source: SourceId,
        line: &RequestLine,
        auth: Option<&AuthLine<'_>>,
        graphql: Option<&GraphQlRequest>,
    ) -> Option<target::Address> {
        let workspace = self.resolver.workspace;
        let written = line.target.of(&workspace.source(source).text);
        let before = self.problems.len();
        let mut target = self.write(source, line.target, ContextTracker::target(), false);
        if written.starts_with('/') {
            let base = match self.resolver.value_of("base", source, line.target, Phase::Request) {
                Ok(base) => base,
                Err(problems) => {
                    self.problems.extend(problems.into_iter().map(about_base));
                    return None;
                }
            };
            match SubstitutionContext::TargetStart.write(&base, false) {
                Ok(base) if base.is_empty() => {
                    self.problems.push(empty_base(self.resolver, line.target).in_source(source));
                    return None;
                }
                Ok(base) => target.insert_str(0, base.trim_end_matches('/')),
                Err(_) => {
                    let message = format!("`base` is {}, but must be a URL", base.kind().describe());
                    self.problems.push(Problem::error(Code::InvalidValue, line.target, message).in_source(source));
                    return None;
                }
            }
        }
        self.query(source, &mut target);
        if let Some(parameter) = self.key_parameter(auth) {
            target = with_query(&target, &parameter);
        }
        if let Some(graphql) = graphql {
            target = with_query(&target, &graphql.parameters());
        }
        if self.problems[before..].iter().any(Problem::is_error) {
            return None;
        }
        let mut problems = Vec::new();
        let address = target::address(&target, !written.contains("{{"), line.target, &mut problems);
        self.problems.extend(problems.into_iter().map(|problem| problem.in_source(source)));
        address
    }

    /// The shared headers, the nearest of a name, then the cell's own; and the names of those that `% header NAME:`
    /// without a value drops.
    fn headers(&mut self, source: SourceId) -> (HeaderFields, Vec<String>) {
        let workspace = self.resolver.workspace;
        let cell = workspace.cell(self.resolver.cell);
        let text = &workspace.source(source).text;
        let own = cell.instructions().map(|instruction| (source, instruction));
        let mut shared: Vec<(SourceId, Span, Span)> = Vec::new();
        let word = |origin: SourceId, name: Span| name.of(&workspace.source(origin).text);
        for (origin, instruction) in workspace.preambles(source).chain(own) {
            let InstructionKind::Header { name, value } = instruction.kind else { continue };
            shared.retain(|(old, known, _)| !word(*old, *known).eq_ignore_ascii_case(word(origin, name)));
            shared.push((origin, name, value));
        }
        // The request's own header fields win.
        shared.retain(|(origin, name, _)| {
            !cell.fields.iter().any(|field| field.name.of(text).eq_ignore_ascii_case(word(*origin, *name)))
        });
        // An empty value drops what the outer ones give.
        let dropped = shared.iter().filter(|(.., value)| value.is_empty());
        let dropped = dropped.map(|(origin, name, _)| word(*origin, *name).to_owned()).collect();
        let given = shared.into_iter().filter(|(.., value)| !value.is_empty());
        let own = cell.fields.iter().map(|field| (source, field.name, field.value));
        let fields = given.chain(own).map(|(origin, name, value)| {
            let value = self.write(origin, value, ContextTracker::Same(SubstitutionContext::Header), false);
            (word(origin, name).to_owned().into(), value.into())
        });
        (fields.collect(), dropped)
    }

    /// `target` with the parameters of `% query` behind its own.
    fn query(&mut self, source: SourceId, target: &mut String) {
        let workspace = self.resolver.workspace;
        let mut added = String::new();
        for line in workspace.cell(self.resolver.cell).instructions() {
            let InstructionKind::Query { name, value } = line.kind else { continue };
            added.push('&');
            added.push_str(&self.write(source, name, ContextTracker::Encoded(SubstitutionContext::Target), false));
            if let Some(value) = value {
                added.push('=');
                added.push_str(&self.write(source, value, ContextTracker::Encoded(SubstitutionContext::Target), false));
            }
        }
        if added.is_empty() {
            return;
        }
        *target = with_query(target, &added[1..]);
    }
}

/// A target with more parameters behind its own.
fn with_query(target: &str, added: &str) -> String {
    let (before, after) = target.split_at(target.find('#').unwrap_or(target.len()));
    match before.split_once('?') {
        None => format!("{before}?{added}{after}"),
        Some((_, query)) if query.is_empty() || query.ends_with('&') => format!("{before}{added}{after}"),
        Some(_) => format!("{before}&{added}{after}"),
    }
}

/// `base` is there but empty, as in an environment that was made like another one.
fn empty_base(resolver: &Resolver<'_>, at: Span) -> Problem {
    let settings = resolver.context.settings;
    let environment = settings.environment.as_deref();
    let message = match environment {
        Some(environment) => {
            format!("a path needs a base URL, but `base` is empty in environment `{environment}`")
        }
        None => "a path needs a base URL, but `base` is empty".to_owned(),
    };
    let problem = Problem::error(Code::MissingValue, at, message);
    let entry = resolver.workspace.config.entry(environment, "base").filter(|_| settings.set_value("base").is_none());
    match entry {
        Some(entry) => {
            let problem = problem.with_hint("for example `base = \"http://127.0.0.1:4616\"`");
            problem.with_related(entry.source, entry.span, "it is empty here")
        }
        None => problem.with_hint("set it to a URL"),
    }
}

/// Mentions the URL that a path is missing, since the line does not name `base`.
fn about_base(mut problem: Problem) -> Problem {
    if problem.missing.as_ref().is_some_and(|missing| missing.name == "base") {
        problem.message = format!("a path needs a base URL: {}", problem.message);
    }
    problem
}
