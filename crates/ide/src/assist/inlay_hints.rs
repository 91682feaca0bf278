//! Inlay hints: values of placeholders, as far as they are known without sending anything.

use super::{IdeContext, nearest_cell, needs};
use yieldtray_expression::Value as Worked;
use yieldtray_http::MASK;
use yieldtray_source::names::is_value_name;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::{InstructionKind, Template, is_language_name};
use yieldtray_workspace::scope::{Binding, EvalCache, Phase, Resolver, ValueRow, ValueState, value_row};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// A value, to be shown beside the mark that writes it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hint {
    /// Behind the mark.
    pub at: usize,
    /// The value, masked and short.
    pub text: String,
}

/// Characters of a value that are shown.
const MAX_HINT_CHARS: usize = 40;

/// The values of the placeholders in a part of a text. Generated, prompted, secret and missing values have none.
pub fn hints(view: IdeContext<'_>, source: SourceId, range: Span) -> Vec<Hint> {
    let workspace = view.workspace();
    let text = view.text(source);
    let masker = masker(view);
    let mut hints = Vec::new();
    for cell in workspace.cells(source) {
        let own = workspace.cell(cell);
        if own.span.end() < range.start() || range.end() < own.span.start() {
            continue;
        }
        let needs = needs(workspace, cell);
        let mut cache = EvalCache::default();
        let mut resolver = Resolver::new(view.context, cell, &needs, &mut cache);
        let fields = own.fields.iter().map(|field| field.value);
        let lines = own.instructions().flat_map(|line| line.kind.texts());
        let texts = own.request.iter().map(|line| line.target).chain(fields).chain(lines).map(|span| (span, false));
        for (span, body) in texts.chain([(own.template_body(), true)]) {
            let template = Template::parse(text, span, body, &mut Vec::new());
            for expression in
                template.expressions().filter(|span| range.start() <= span.start() && span.end() <= range.end())
            {
                let end = text[expression.end()..].find("}}").map_or(expression.end(), |at| expression.end() + at + 2);
                if let Some(value) = evaluated(&mut resolver, source, expression) {
                    hints.push(Hint { at: end, text: short(&masker.mask(&value)) });
                }
            }
        }
    }
    hints
}

/// The current value of an expression, if it is not secret, not generated, and needs no command.
fn evaluated(resolver: &mut Resolver<'_>, source: SourceId, expression: Span) -> Option<String> {
    let text = expression.of(&resolver.workspace.source(source).text);
    let names: Vec<String> = match is_value_name(text) {
        true => vec![text.to_owned()],
        false => {
            let compiled = resolver.compile(source, expression).ok()?;
            if compiled.is_made_up() || compiled.reads_files() {
                return None;
            }
            compiled.names().map(str::to_owned).collect()
        }
    };
    let tells = |name: &String| match resolver.candidates(name).next() {
        Some(Binding::Entry(entry, _)) => !entry.secret && !entry.source_kind.asks_a_program(),
        Some(Binding::Captured(captured)) => !captured.secret,
        Some(Binding::Let { source, expression, .. }) => {
            let compiled = resolver.compile(source, expression);
            compiled.is_ok_and(|compiled| !compiled.is_made_up() && !compiled.reads_files())
        }
        Some(Binding::Ask { .. }) => false,
        Some(Binding::Set(_)) => true,
        None => is_language_name(name) && name != "env",
    };
    if !names.iter().all(tells) {
        return None;
    }
    let value = resolver.evaluate(source, expression, Phase::Request).ok()?;
    // A secret further down is still one.
    resolver.cache.secrets.is_empty().then(|| plain(&value))
}

fn plain(value: &Worked) -> String {
    value.as_text().map_or_else(|| value.show(), str::to_owned)
}

/// The first characters of a value, on one line.
pub(super) fn short(value: &str) -> String {
    let line: String = value.chars().map(|c| if c.is_control() { ' ' } else { c }).take(MAX_HINT_CHARS + 1).collect();
    if line.chars().count() > MAX_HINT_CHARS {
        format!("{}…", line.chars().take(MAX_HINT_CHARS).collect::<String>())
    } else {
        line
    }
}

/// Knows the secrets that can be known without running anything.
pub(super) fn masker(view: IdeContext<'_>) -> Masker {
    let mut masker = Masker::default();
    let outside = view.context.outside();
    let config = &view.workspace().config;
    let everywhere = config.environments.iter().map(|environment| Some(environment.name.as_str())).chain([None]);
    for environment in everywhere {
        masker.learn(config.secrets(environment, &outside));
    }
    masker.learn(
        view.context.tray.iter().filter(|(_, yielded)| yielded.secret).map(|(_, yielded)| yielded.value.clone()),
    );
    masker
}

/// The binding of a name for the cell at byte `at`.
pub(super) fn row(
    view: IdeContext<'_>,
    source: SourceId,
    at: usize,
    name: &str,
    masker: &mut Masker,
) -> Option<ValueRow> {
    let cell = cell_for(view.workspace(), source, at)?;
    let needs = needs(view.workspace(), cell);
    value_row(view.context, cell, &needs, name, masker)
}

/// A cell to which byte `at` applies: for a configuration or a `_common.http`, any.
pub(super) fn cell_for(workspace: &Workspace, source: SourceId, at: usize) -> Option<CellId> {
    let own = nearest_cell(workspace, source, at);
    let below = || workspace.loaded().find(|file| workspace.source(*file).inherited.contains(&source));
    let any = || workspace.loaded().next();
    own.or_else(|| workspace.cells(below().or_else(any)?).next())
}

/// Every place that gives a name to the cell at byte `at`, the one that holds first.
pub(super) fn places(view: IdeContext<'_>, source: SourceId, at: usize, name: &str) -> Vec<(SourceId, Span)> {
    let workspace = view.workspace();
    let Some(cell) = cell_for(workspace, source, at) else { return Vec::new() };
    let needs = needs(workspace, cell);
    let mut cache = EvalCache::default();
    let resolver = Resolver::new(view.context, cell, &needs, &mut cache);
    let place = |found: Binding<'_>| match found {
        Binding::Set(_) => None,
        Binding::Let { source, name, .. } | Binding::Ask { source, name, .. } => Some((source, name)),
        Binding::Entry(entry, _) => Some((entry.source, entry.span)),
        Binding::Captured(captured) => {
            let text = &workspace.source(captured.source).text;
            let mut lines = workspace.cell(captured.cell?).instructions();
            let name = lines.find_map(|line| match line.kind {
                InstructionKind::Yield { name: own, .. } if own.of(text) == name => Some(own),
                _ => None,
            })?;
            Some((captured.source, name))
        }
    };
    resolver.candidates(name).filter_map(place).collect()
}

/// A value of a survey in a few words, masked.
pub(super) fn describe(value: &ValueState, masker: &Masker) -> String {
    match value {
        ValueState::Known(value) => short(&masker.mask(&value.show())),
        ValueState::Secret(_) => MASK.to_owned(),
        ValueState::MadeUp(_) => "generated each time".to_owned(),
        ValueState::Asked(question) => format!("prompted: {}", short(question)),
        ValueState::NotRun(command) => format!("from {}", short(command)),
        ValueState::None(_) => "no value".to_owned(),
    }
}
