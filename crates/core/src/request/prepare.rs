use super::place::{Place, Surroundings, looks_like_json};
use super::target;
use super::write::Writer;
use super::{Fields, Prepared};
use crate::problem::{Code, Problem, SourceId};
use crate::syntax::{Kind, RequestLine, Span};
use crate::workspace::{Lookup, Stage};
use base64::Engine as _;
use bytes::Bytes;

/// Header fields that go out with every request that does not set them.
const DEFAULT_HEADERS: &[(&str, &str)] = &[
    ("Accept", "*/*"),
    ("Accept-Encoding", "gzip, br, zstd"),
    ("User-Agent", concat!("yieldtray/", env!("CARGO_PKG_VERSION"))),
];

/// Makes the request of the cell that `lookup` looks for. All problems are given, not only the
/// first; with a mistake among them there is no request.
pub fn prepare(lookup: &mut Lookup<'_>) -> (Option<Prepared>, Vec<Problem>) {
    let workspace = lookup.workspace;
    let source = lookup.cell.source;
    let cell = workspace.cell(lookup.cell);
    let Some(line) = &cell.request else { return (None, Vec::new()) };
    let text = &workspace.source(source).text;

    let mut writer = Writer { lookup, problems: Vec::new() };
    let address = writer.address(source, line);
    let mut headers = writer.headers(source);
    let body = writer.body(source, cell.body, &headers);
    let problems = writer.problems;

    if let Some(address) = &address
        && let Some((user, password)) = &address.credentials
        && !has(&headers, "authorization")
    {
        let pair = base64::engine::general_purpose::STANDARD.encode(format!("{user}:{password}"));
        headers.push(("Authorization".into(), format!("Basic {pair}").into()));
    }
    if let Some(body) = &body
        && !has(&headers, "content-type")
        && is_json_document(body)
    {
        headers.push(("Content-Type".into(), "application/json".into()));
    }
    for (name, value) in DEFAULT_HEADERS {
        if !has(&headers, name) {
            headers.push(((*name).into(), (*value).into()));
        }
    }
    if problems.iter().any(Problem::is_mistake) {
        return (None, problems);
    }
    let prepared = address.map(|address| Prepared {
        method: line.method.map_or("GET", |method| method.of(text)).to_owned(),
        url: address.url,
        version: line.version,
        headers,
        body: body.map(Bytes::from),
    });
    (prepared, problems)
}

fn has(headers: &Fields, name: &str) -> bool {
    headers.iter().any(|(own, _)| own.eq_ignore_ascii_case(name))
}

/// A JSON object or array, and nothing after it.
fn is_json_document(body: &str) -> bool {
    looks_like_json(body) && serde_json::from_str::<serde::de::IgnoredAny>(body).is_ok()
}

impl Writer<'_, '_> {
    fn address(&mut self, source: SourceId, line: &RequestLine) -> Option<target::Address> {
        let workspace = self.lookup.workspace;
        let written = line.target.of(&workspace.source(source).text);
        let before = self.problems.len();
        let mut target = self.write(source, line.target, Surroundings::target(), false);
        if written.starts_with('/') {
            let base = match self.lookup.named("base", source, line.target, Stage::Before) {
                Ok(base) => base,
                Err(problems) => {
                    self.problems.extend(problems.into_iter().map(about_base));
                    return None;
                }
            };
            match Place::TargetStart.write(&base, false) {
                Ok(base) => target.insert_str(0, base.trim_end_matches('/')),
                Err(_) => {
                    let message = format!("`base` is {}, but must be an address", base.kind().words());
                    self.problems.push(Problem::mistake(Code::UnfitValue, line.target, message).in_source(source));
                    return None;
                }
            }
        }
        if self.problems[before..].iter().any(Problem::is_mistake) {
            return None;
        }
        let mut problems = Vec::new();
        let address = target::address(&target, !written.contains("{{"), line.target, &mut problems);
        self.problems.extend(problems.into_iter().map(|problem| problem.in_source(source)));
        address
    }

    /// The shared headers, the nearest of a name, then the cell's own.
    fn headers(&mut self, source: SourceId) -> Fields {
        let workspace = self.lookup.workspace;
        let cell = workspace.cell(self.lookup.cell);
        let text = &workspace.source(source).text;
        let own = cell.instructions().map(|instruction| (source, instruction));
        let mut shared: Vec<(SourceId, Span, Span)> = Vec::new();
        for (home, instruction) in workspace.preambles(source).chain(own) {
            let Kind::Header { name, value } = instruction.kind else { continue };
            let word = name.of(&workspace.source(home).text);
            shared.retain(|(old, name, _)| !name.of(&workspace.source(*old).text).eq_ignore_ascii_case(word));
            // An empty value drops what the outer ones give.
            if !value.is_empty() {
                shared.push((home, name, value));
            }
        }
        shared.retain(|(home, name, _)| {
            let word = name.of(&workspace.source(*home).text);
            !cell.fields.iter().any(|field| field.name.of(text).eq_ignore_ascii_case(word))
        });
        let own = cell.fields.iter().map(|field| (source, field.name, field.value));
        shared
            .into_iter()
            .chain(own)
            .map(|(home, name, value)| {
                let value = self.write(home, value, Surroundings::Same(Place::Header), false);
                (name.of(&workspace.source(home).text).to_owned().into(), value.into())
            })
            .collect()
    }

    fn body(&mut self, source: SourceId, body: Span, headers: &Fields) -> Option<String> {
        if body.is_empty() {
            return None;
        }
        let media = headers.iter().find(|(name, _)| name.eq_ignore_ascii_case("content-type"));
        let around =
            Surroundings::body(media.map(|(_, value)| &**value), body.of(&self.lookup.workspace.source(source).text));
        Some(self.write(source, body, around, true))
    }
}

/// A path has no address of its own: what is missing is `base`, which the line does not name.
fn about_base(mut problem: Problem) -> Problem {
    if problem.message.contains("`base`") {
        problem.message = format!("a path needs an address before it: {}", problem.message);
    }
    problem
}
