//! Slips in what HTTP itself has words for, and credentials that anybody on the way can read.

use yieldtray_http::{FIELDS, METHODS, field, is_secret_header};
use yieldtray_source::{Code, Problem, SourceId, Span, closest};
use yieldtray_syntax::{Auth, InstructionKind};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::config::ValueSource;

/// Methods and header fields that are a letter away from known ones.
pub(super) fn slips(workspace: &Workspace, source: SourceId) -> Vec<Problem> {
    let own = workspace.source(source);
    let text = &own.text;
    let mut problems = Vec::new();
    let mut names: Vec<Span> = own.file.cells.iter().flat_map(|cell| &cell.fields).map(|field| field.name).collect();
    names.extend(headers_of_lines(workspace, source));
    for name in names {
        let word = name.of(text);
        if field(word).is_some() || word.len() < 4 {
            continue;
        }
        if let Some(meant) = closest(word, FIELDS.iter().map(|field| field.name)) {
            let message = format!("unknown header `{word}`");
            problems
                .push(Problem::warning(Code::MisspelledHeader, name, message).did_you_mean(meant).in_source(source));
        }
    }
    let methods = own.file.cells.iter().filter_map(|cell| cell.request.as_ref()?.method);
    for method in methods {
        let word = method.of(text);
        let known = || METHODS.iter().map(|(name, _)| *name);
        // A known one in another case is reported where the request line is parsed.
        if known().any(|name| name.eq_ignore_ascii_case(word)) {
            continue;
        }
        if let Some(meant) = closest(word, known()) {
            let message = format!("unknown method `{word}`");
            problems
                .push(Problem::warning(Code::MisspelledMethod, method, message).did_you_mean(meant).in_source(source));
        }
    }
    problems
}

fn headers_of_lines(workspace: &Workspace, source: SourceId) -> Vec<Span> {
    let file = &workspace.source(source).file;
    let lines = file.cells.iter().flat_map(|cell| cell.instructions());
    let names = yieldtray_syntax::instructions(&file.preamble).chain(lines).filter_map(|line| match line.kind {
        InstructionKind::Header { name, .. } => Some(name),
        _ => None,
    });
    names.collect()
}

/// Cells with credentials whose URL is plain http to another machine.
pub(super) fn plain_credentials(workspace: &Workspace, source: SourceId) -> Vec<Problem> {
    let own = workspace.source(source);
    let text = &own.text;
    let shared =
        workspace.preambles(source).any(|(origin, line)| has_credentials(&workspace.source(origin).text, line.kind));
    let mut problems = Vec::new();
    for cell in &own.file.cells {
        let own_lines = cell.instructions().any(|line| has_credentials(text, line.kind));
        let fields = cell.fields.iter().any(|field| is_secret_header(field.name.of(text)));
        let Some(request) = cell.request.as_ref().filter(|_| shared || own_lines || fields) else { continue };
        if is_open(request.target.of(text)) {
            let message = "credentials are sent to this URL without encryption";
            let problem = Problem::warning(Code::PlainCredentials, request.target, message);
            problems.push(problem.with_hint("use https, or change the credentials after each use").in_source(source));
        }
    }
    problems
}

/// The same for URLs in the configuration, reported at the value.
pub(super) fn plain_bases(workspace: &Workspace, credentials: bool) -> Vec<Problem> {
    let bases = workspace.config.all_entries().filter(|entry| entry.name == "base" && credentials);
    let open = bases.filter(|entry| match &entry.source_kind {
        ValueSource::Value(value) => value.as_text().is_some_and(is_open),
        _ => false,
    });
    open.map(|entry| {
        let message = "credentials are sent to this URL without encryption";
        let problem = Problem::warning(Code::PlainCredentials, entry.span, message);
        problem.with_hint("use https, or change the credentials after each use").in_source(entry.source)
    })
    .collect()
}

/// Whether any request of a file has credentials.
pub(super) fn uses_credentials(workspace: &Workspace, source: SourceId) -> bool {
    let own = workspace.source(source);
    let text = &own.text;
    let lines = own.file.cells.iter().flat_map(|cell| cell.instructions());
    let fields = own.file.cells.iter().flat_map(|cell| &cell.fields);
    lines.into_iter().any(|line| has_credentials(text, line.kind))
        || fields.into_iter().any(|field| is_secret_header(field.name.of(text)))
        || workspace.preambles(source).any(|(origin, line)| has_credentials(&workspace.source(origin).text, line.kind))
}

fn has_credentials(text: &str, kind: InstructionKind) -> bool {
    match kind {
        InstructionKind::Auth(auth) => !matches!(auth, Auth::None),
        InstructionKind::Header { name, value } => !value.is_empty() && is_secret_header(name.of(text)),
        _ => false,
    }
}

/// True for a plain http URL to another machine.
fn is_open(address: &str) -> bool {
    let Some(rest) = address.strip_prefix("http://") else { return false };
    let authority = rest.split(['/', '?', '#']).next().unwrap_or_default();
    let host = authority.rsplit_once('@').map_or(authority, |(_, host)| host);
    let name = host.split(':').next().unwrap_or_default();
    // A name without a dot is one of the own network.
    let here = name.ends_with(".localhost") || name.starts_with("127.") || !name.contains('.');
    !here && !name.contains("{{") && !name.is_empty()
}
