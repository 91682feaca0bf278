//! Hover.

use super::docs::{INSTRUCTIONS, instruction_help, language_help};
use super::inlay_hints::{describe, masker, row};
use super::{IdeContext, Occurrence, Referent, occurrence_at};
use yieldtray_expression::function;
use yieldtray_http::{METHODS, field};
use yieldtray_source::{SourceId, Span};
use yieldtray_workspace::scope::{ValueState, across};
use yieldtray_workspace::{CellId, Workspace};

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
    let Occurrence { span, what } = occurrence_at(view, source, offset).or_else(|| title(view, source, offset))?;
    let name = span.of(view.text(source));
    let text = match what {
        Referent::Value { .. } => value(view, source, offset, name)?,
        Referent::Language => language_help(name)?,
        Referent::Function => function_help(view.workspace(), name)?,
        Referent::Header => {
            let known = field(name)?;
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
        _ => return None,
    };
    Some(HoverInfo { span, text })
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
