//! Texts that look like secrets in files that others see: long random text, and literals in header
//! fields and values whose names say that they hold one.

use yieldtray_expression::Value;
use yieldtray_http::{credential, is_secret_header};
use yieldtray_source::access::LOCAL_FILE;
use yieldtray_source::entropy::high_entropy_runs;
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{Auth, InstructionKind, Template};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::config::ValueSource;
use yieldtray_workspace::secret::is_secret_name;

const HINT: &str = "use a variable, for example `{{api_key}}`, and define it in `yieldtray.local.toml`";

/// In a request file or a `_common.http`.
pub(super) fn in_requests(workspace: &Workspace, source: SourceId) -> Vec<Problem> {
    let own = workspace.source(source);
    let text = &own.text;
    let (mut problems, mut credentials, mut unmarked) = (Vec::new(), Vec::new(), Vec::new());
    let plain = |span: Span| Template::parse(text, span, false, &mut Vec::new()).is_plain();
    let mut header = |name: Span, value: Span| {
        let literal = credential(value.of(text));
        if is_secret_header(name.of(text)) && plain(value) && literal.len() >= 4 {
            let at = value.part(value.len() - literal.len(), value.len());
            let message = format!("the value of `{}` is in a shared file", name.of(text));
            problems.push(finding(source, at, message));
        }
    };
    own.file.cells.iter().flat_map(|cell| &cell.fields).for_each(|field| header(field.name, field.value));
    let cells = own.file.cells.iter().flat_map(|cell| cell.instructions());
    for line in yieldtray_syntax::instructions(&own.file.preamble).chain(cells) {
        match line.kind {
            InstructionKind::Header { name, value } => header(name, value),
            InstructionKind::Auth(
                Auth::Basic { password: at, .. } | Auth::Digest { password: at, .. } | Auth::Bearer(at),
            ) if plain(at) => {
                credentials.push(at);
            }
            InstructionKind::Yield { name, secret: false, .. } if is_yielded_secret(name.of(text)) => {
                unmarked.push(name)
            }
            _ => {}
        }
    }
    let message = "these credentials are in a shared file";
    problems.extend(credentials.into_iter().map(|at| finding(source, at, message.to_owned())));
    problems.extend(unmarked.into_iter().map(|name| {
        let message = format!("`{}` is yielded without `secret`, so it is shown and logged unmasked", name.of(text));
        let hint = "add `secret` at the end of the line, or rename it if it is not a secret";
        Problem::warning(Code::UnmarkedSecret, name, message).with_hint(hint).in_source(source)
    }));
    let names: Vec<Span> = own.file.cells.iter().map(|cell| cell.title).chain(names_in(workspace, source)).collect();
    for span in high_entropy_runs(text) {
        let is_name = names.iter().any(|name| name.contains(span)) || is_schema_path(text, span);
        if !is_name && !problems.iter().any(|known| known.span.contains(span)) {
            let message = "this looks like a secret in a shared file".to_owned();
            problems.push(finding(source, span, message));
        }
    }
    problems
}

/// The spans of `% name` and of the cells that `% needs` and `% play` name.
fn names_in(workspace: &Workspace, source: SourceId) -> impl Iterator<Item = Span> {
    let cells = workspace.source(source).file.cells.iter().flat_map(|cell| cell.instructions());
    cells.filter_map(|line| match line.kind {
        InstructionKind::Name(name) | InstructionKind::Needs(name) | InstructionKind::Play { name, .. } => Some(name),
        _ => None,
    })
}

/// Whether a text is a part of the path of a schema file, which is named after an operation.
fn is_schema_path(text: &str, span: Span) -> bool {
    let end = text[span.end()..].find(['"', '\'', '\n']).map_or(text.len(), |at| span.end() + at);
    text[span.end()..end].ends_with(".schema.json")
}

/// Whether a yielded value is one that gives access, by the last word of its name: a `token_count` is none.
fn is_yielded_secret(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    ["token", "password", "secret", "api_key", "apikey"].iter().any(|word| name.ends_with(word))
}

/// A literal value in the shared configuration whose name suggests a secret.
pub(super) fn in_configuration(workspace: &Workspace) -> Vec<Problem> {
    let shared = workspace.config.all_entries().filter(|entry| !entry.private);
    let literal = shared.filter_map(|entry| match &entry.source_kind {
        ValueSource::Value(value) => Some((entry, value)),
        _ => None,
    });
    let telling = literal.filter(|(entry, value)| {
        let filled = |value: &Value| value.to_text().is_ok_and(|text| !text.is_empty());
        (entry.secret || is_secret_name(&entry.name)) && filled(value)
            || value.as_text().is_some_and(|text| !high_entropy_runs(text).is_empty())
    });
    let signing = workspace.config.signing.iter().flat_map(|profile| &profile.entries);
    let lines = workspace.config.profiles.iter().flat_map(|profile| &profile.entries).chain(signing);
    let profiles = lines.filter(|line| line.is_secret() && !line.private && !line.span.is_empty()).filter_map(|line| {
        let text = &workspace.source(line.source).text;
        let plain = Template::parse(text, line.span, false, &mut Vec::new()).is_plain();
        let message = format!("the value of `{}` is in a shared file", line.key);
        plain.then(|| finding(line.source, line.span, message))
    });
    telling
        .map(|(entry, _)| {
            let message = format!("`{}` holds a secret, it seems, in a file that others see", entry.name);
            let problem = Problem::error(Code::SecretInFile, entry.span, message);
            let hint =
                format!("move the line to `{LOCAL_FILE}`, or write where it comes from: `{{ from = \"env:…\" }}`");
            problem.with_hint(hint).in_source(entry.source)
        })
        .chain(profiles)
        .collect()
}

fn finding(source: SourceId, span: Span, message: String) -> Problem {
    Problem::error(Code::SecretInFile, span, message).with_hint(HINT).in_source(source)
}
