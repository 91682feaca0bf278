//! Hover.

use super::docs::{INSTRUCTIONS, instruction_help, language_help};
use super::graphql_cursor::{Cursor, word_around};
use super::inlay_hints::{describe, masker, row};
use super::{IdeContext, Occurrence, Referent, occurrence_at};
use crate::described::Described;
use yieldtray_expression::function;
use yieldtray_http::{METHODS, field};
use yieldtray_source::{SourceId, Span};
use yieldtray_workspace::scope::{ValueState, across};
use yieldtray_workspace::{CellId, Workspace, graphql_api_of, graphql_document};

/// Help about a position.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct HoverInfo {
    /// The text it is about.
    pub span: Span,
    /// Markdown.
    pub text: String,
}

/// Help about byte `offset`: for a value, where it comes from and its values in the other environments; for a header
/// field, instruction, function or method, its meaning; for a cell, its last response.
pub fn hover(view: IdeContext<'_>, source: SourceId, offset: usize) -> Option<HoverInfo> {
    let found = occurrence_at(view, source, offset).or_else(|| title(view, source, offset));
    let Some(Occurrence { span, what }) = found else { return described(view, source, offset) };
    let name = span.of(view.text(source));
    let text = match what {
        Referent::Value { .. } => value(view, source, offset, name)?,
        Referent::Language => language_help(name)?,
        Referent::Function => function_help(view.workspace(), name)?,
        Referent::Header => {
            let Some(known) = field(name) else { return described(view, source, offset) };
            format!("`{}`: {}\n\n{}", known.name, known.meaning, known.defined)
        }
        Referent::Method => {
            let (name, help) = METHODS.iter().find(|(known, _)| *known == name)?;
            format!("`{name}` {help}")
        }
        Referent::Instruction => instruction_help(INSTRUCTIONS.iter().find(|known| known.word == name)?.word)?,
        Referent::Cell { cell: Some(id), .. } => cell(view, id),
        Referent::Profile { .. } => {
            let profile = view.workspace().config.profile(name)?;
            format!("the OAuth 2.0 profile `{}` (RFC 6749)", profile.name)
        }
        Referent::Signing => {
            let profile = view.workspace().config.signing_profile(name)?;
            format!("the signature profile `{}` (RFC 9421)", profile.name)
        }
        _ => return None,
    };
    Some(HoverInfo { span, text })
}

/// What the description of the API says of a position: an operation, a parameter, a member of a body, a GraphQL field.
fn described(view: IdeContext<'_>, source: SourceId, offset: usize) -> Option<HoverInfo> {
    let workspace = view.workspace();
    let cell = super::cell_at(workspace, source, offset)?;
    let own = workspace.cell(cell);
    let text = view.text(source);
    let touches = |span: Span| span.start() <= offset && offset <= span.end();
    if own.is_graphql() {
        return graphql(view, cell, offset);
    }
    let described = Described::of(workspace, cell)?;
    let operation = &described.operation;
    for (name, span) in described.query.iter().chain(&described.headers) {
        if !touches(*span) {
            continue;
        }
        if let Some(own) =
            operation.parameters.iter().find(|own| own.name.eq_ignore_ascii_case(name) && own.place != "path")
        {
            let required = if own.required { ", required" } else { "" };
            let kind = own.schema.as_ref().map(|schema| described.api.describe_schema(schema)).unwrap_or_default();
            let about = own.description.as_deref().map(|about| format!("\n\n{about}")).unwrap_or_default();
            return Some(HoverInfo {
                span: *span,
                text: format!("`{}`: {} parameter{required} · {kind}{about}", own.name, own.place),
            });
        }
    }
    if let Some(line) = own.request.as_ref().filter(|line| touches(line.target)) {
        let summary = operation.summary.summary.as_deref().unwrap_or_default();
        let mut text = format!("**{}** {summary}", code(&operation.summary.title()));
        if operation.summary.deprecated {
            text.push_str("\n\n**deprecated**");
        }
        text.extend(operation.description.as_deref().map(|about| format!("\n\n{about}")));
        text.push_str("\n\n| status | |\n| --- | --- |\n");
        for response in &operation.responses {
            let about = response.description.as_deref().unwrap_or_default().replace(['|', '\n'], " ");
            text.push_str(&format!("| {} | {about} |\n", response.status));
        }
        return Some(HoverInfo { span: line.target, text });
    }
    // A name in a JSON body: the member of that name.
    if own.body.contains(Span::empty(offset)) {
        let before = text[own.body.start()..offset].rfind('"')? + own.body.start();
        let end = text[offset..].find('"')? + offset;
        let span = Span::new(before + 1, end);
        let name = span.of(text);
        let members =
            operation.body_schemas().iter().flat_map(|schema| described.api.members(schema)).collect::<Vec<_>>();
        let member = members.iter().find(|member| member.path.rsplit('.').next() == Some(name))?;
        let required = if member.required { ", required" } else { "" };
        let about = member.description.as_deref().map(|about| format!("\n\n{about}")).unwrap_or_default();
        return Some(HoverInfo { span, text: format!("`{}`: {}{required}{about}", member.path, member.type_words) });
    }
    None
}

/// A field or a type in a GraphQL document.
fn graphql(view: IdeContext<'_>, cell: CellId, offset: usize) -> Option<HoverInfo> {
    let workspace = view.workspace();
    let document = graphql_document(workspace, cell)?.ok()?;
    let at = document.offset_of(cell.source, offset)?;
    let word = word_around(&document.text, at);
    let name = Some(&document.text[word.clone()]).filter(|name| !name.is_empty())?;
    let api = graphql_api_of(workspace, cell)?.api()?;
    let cursor = Cursor::read(api, &document.text, word.end);
    let span = Span::new(offset - (at - word.start), offset + (word.end - at));
    if let Some((owner, field)) = cursor.field.filter(|(_, field)| field.name == name) {
        let about = field.description.as_deref().map(|about| format!("\n\n{about}")).unwrap_or_default();
        let deprecated =
            field.deprecated.as_deref().map(|why| format!("\n\n**deprecated**: {why}")).unwrap_or_default();
        return Some(HoverInfo {
            span,
            text: format!("`{owner}.{}: {}`{about}{deprecated}", field.name, field.type_name),
        });
    }
    let record = api.type_named(name).ok().flatten()?;
    let about = record.description.as_deref().map(|about| format!("\n\n{about}")).unwrap_or_default();
    Some(HoverInfo { span, text: format!("`{} {}`{about}", record.kind, record.name) })
}

/// The title of a cell that has another name.
fn title(view: IdeContext<'_>, source: SourceId, offset: usize) -> Option<Occurrence> {
    let cell = super::cell_at(view.workspace(), source, offset)?;
    let span = view.workspace().cell(cell).title;
    let touches = span.start() <= offset && offset <= span.end() && !span.is_empty();
    touches.then_some(Occurrence { span, what: Referent::Cell { given: true, cell: Some(cell) } })
}

fn value(view: IdeContext<'_>, source: SourceId, offset: usize, name: &str) -> Option<String> {
    let workspace = view.workspace();
    let mut masker = masker(view);
    let row = row(view, source, offset, name, &mut masker);
    let mut text = match row.as_ref().map(|row| &row.value) {
        None => format!("`{name}` has no value yet"),
        Some(ValueState::None(problem)) => format!("`{name}`: {}", masker.mask(&problem.message)),
        Some(value) => format!("`{name}` is {}", code(&describe(value, &masker))),
    };
    if let Some(row) = &row {
        if let Some(origin) = &row.origin {
            text.push_str(&format!("\n\n{}", origin.describe(workspace)));
        }
        for hidden in &row.shadows {
            text.push_str(&format!("  \nshadows one {}", hidden.describe(workspace)));
        }
    }
    let everywhere = across(view.context, &mut masker);
    if let Some(across) = everywhere.iter().find(|across| across.name == name) {
        text.push_str("\n\n| environment | value |\n| --- | --- |\n");
        for (environment, value) in workspace.config.environments.iter().zip(&across.values) {
            let shown = value.as_ref().map_or_else(|| "no value".to_owned(), |value| code(&describe(value, &masker)));
            text.push_str(&format!("| {} | {} |\n", environment.name, shown.replace('|', "\\|")));
        }
    }
    Some(text)
}

/// Text that Markdown leaves as it is.
pub(super) fn code(text: &str) -> String {
    let ticks = if text.contains('`') { "``" } else { "`" };
    let blank = if text.starts_with('`') || text.ends_with('`') { " " } else { "" };
    format!("{ticks}{blank}{text}{blank}{ticks}")
}

fn function_help(workspace: &Workspace, name: &str) -> Option<String> {
    if let Some(own) = workspace.config.functions.iter().find(|own| own.name == name) {
        let help = own.help.as_deref().map(|help| format!("\n\n{help}")).unwrap_or_default();
        return Some(format!("`{}`{help}\n\n{}", own.call(), code(&own.is)));
    }
    let known = function(name)?;
    Some(format!("`{}`: {}\n\n```\n{}\n```", known.call, known.help, known.example))
}

fn cell(view: IdeContext<'_>, id: CellId) -> String {
    let workspace = view.workspace();
    let own = workspace.cell(id);
    let text = view.text(id.source);
    let mut lines = vec![format!("**{}** · `{}`", workspace.title(id), own.name)];
    if let Some(request) = &own.request {
        let method = request.method.map_or("GET", |method| method.of(text));
        lines.push(code(&format!("{method} {}", request.target.of(text))));
    }
    match view.past.last(id) {
        Some(exchange) => {
            let millis = exchange.timings.total.as_secs_f64() * 1e3;
            let line = format!("{} {} {}", exchange.version, exchange.status, exchange.reason);
            lines.push(format!("last response: {}, {millis:.0} ms, {} bytes", code(line.trim_end()), exchange.size));
        }
        None => lines.push("no response yet".to_owned()),
    }
    lines.join("\n\n")
}
