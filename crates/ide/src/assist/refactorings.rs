//! Refactorings: edits that do not change what a file does.

use super::actions::{Action, Change};
use super::fixes::{after_mark, below, free_name, toml_text};
use super::{IdeContext, cell_at};
use yieldtray_http::body_shape::BodyShape;
use yieldtray_source::access::CONFIG_FILE;
use yieldtray_source::{Edit, SourceId, Span};
use yieldtray_syntax::{InstructionKind, Template};
use yieldtray_workspace::CellId;
use yieldtray_workspace::suggest::checks_for;

/// The actions for the selection.
pub fn actions(view: IdeContext<'_>, source: SourceId, range: Span) -> Vec<Action> {
    let mut found = Vec::new();
    found.extend(lift_base(view, source, range));
    found.extend(lift_literal(view, source, range));
    if let Some(cell) = cell_at(view.workspace(), source, range.start()) {
        found.extend(add_checks(view, cell));
    }
    found
}

/// Extracts the URL that the targets of the file share into the value `base`.
fn lift_base(view: IdeContext<'_>, source: SourceId, range: Span) -> Option<Action> {
    let workspace = view.workspace();
    let text = view.text(source);
    let own = workspace.source(source);
    let cell = cell_at(workspace, source, range.start())?;
    let target = workspace.cell(cell).request.as_ref()?.target.of(text);
    let origin = origin(target)?;
    let targets = own.file.cells.iter().filter_map(|cell| cell.request.as_ref()).map(|line| line.target);
    let same: Vec<Span> = targets.filter(|target| has_origin(target.of(text), origin)).collect();
    let given = workspace.config.all_entries().any(|entry| entry.name == "base")
        || workspace.preambles(source).any(|(home_source, line)| matches!(line.kind, InstructionKind::Let { name, .. } if name.of(&workspace.source(home_source).text) == "base"));
    if given {
        return None;
    }
    let mut edits: Vec<Edit> = same
        .iter()
        .map(|target| {
            // A path that is joined to `base` begins with a slash.
            let path = &target.of(text)[origin.len()..];
            let slash = if path.starts_with('/') { "" } else { "/" };
            Edit::replace(target.part(0, origin.len()), slash)
        })
        .collect();
    let environment = view.context.settings.environment.as_deref();
    let changes = match environment {
        Some(name) => {
            let line = format!("base = {}", toml_text(origin));
            vec![Change::Edit(source, edits), below(view, CONFIG_FILE, &format!("[environments.{name}.values]"), &line)]
        }
        None => {
            let at = own.file.cells.first().map_or(0, |cell| cell.span.start());
            let quoted = serde_json::Value::from(origin);
            edits.insert(0, Edit::insert(after_mark(text, at), format!("% let base = {quoted}\n\n")));
            vec![Change::Edit(source, edits)]
        }
    };
    let times = if same.len() == 1 { String::new() } else { format!(" ({} requests)", same.len()) };
    Some(Action { title: format!("Extract `{origin}` to `base`{times}"), is_fix: false, changes })
}

/// Scheme and authority of a URL that is written out.
fn origin(target: &str) -> Option<&str> {
    let rest = target.strip_prefix("http://").or_else(|| target.strip_prefix("https://"))?;
    let authority = rest.split(['/', '?', '#']).next()?;
    let end = target.len() - rest.len() + authority.len();
    (!authority.is_empty() && !authority.contains(['{', '@'])).then(|| &target[..end])
}

fn has_origin(target: &str, origin: &str) -> bool {
    target.strip_prefix(origin).is_some_and(|rest| rest.is_empty() || rest.starts_with(['/', '?', '#']))
}

/// Extracts the selection into a value of the file, wherever the cell uses it.
fn lift_literal(view: IdeContext<'_>, source: SourceId, range: Span) -> Option<Action> {
    let text = view.text(source);
    let selected = range.of(text);
    if selected.trim().is_empty() || selected.contains(['\n', '{', '}', '%']) {
        return None;
    }
    let cell = cell_at(view.workspace(), source, range.start())?;
    let own = view.workspace().cell(cell);
    let in_target =
        own.request.as_ref().is_some_and(|line| line.target.contains(range) && line.target.start() < range.start());
    let in_field = own.fields.iter().any(|field| field.value.contains(range));
    let in_body = own.body.contains(range);
    if !(in_target || in_field || in_body) || !is_literal(text, own.body, range, in_body) {
        return None;
    }
    // In a body of JSON a text gives way with its quotes, so that the value keeps its kind.
    let quoted = in_body && text[..range.start()].ends_with('"') && text[range.end()..].starts_with('"');
    let is_key = quoted && text[range.end() + 1..].trim_start().starts_with(':');
    if is_key {
        return None;
    }
    let json = in_body && own.body.of(text).trim_start().starts_with(['{', '[']);
    let value = match json && !quoted {
        // A number, true, false, null: the value is just that.
        true => serde_json::from_str::<serde_json::Value>(selected)
            .ok()
            .filter(|value| !value.is_object() && !value.is_array())?
            .to_string(),
        false => serde_json::Value::from(selected).to_string(),
    };
    let name = free_name(view, &suggested(text, range));
    let span = if quoted { Span::new(range.start() - 1, range.end() + 1) } else { range };
    let at = view.workspace().source(source).file.cells.first().map_or(0, |cell| cell.span.start());
    let edits = vec![
        Edit::insert(after_mark(text, at), format!("% let {name} = {value}\n\n")),
        Edit::replace(span, format!("{{{{{name}}}}}")),
    ];
    Some(Action {
        title: format!("Extract `{selected}` to the variable `{name}`"),
        is_fix: false,
        changes: vec![Change::Edit(source, edits)],
    })
}

/// True if the selection is inside a placeholder.
fn is_literal(text: &str, body: Span, range: Span, in_body: bool) -> bool {
    let around = if in_body { body } else { super::line_at(text, range.start()) };
    let template = Template::parse(text, around, in_body, &mut Vec::new());
    template.expressions().all(|expression| expression.end() <= range.start() || range.end() <= expression.start())
}

/// A name for a value that is lifted: the key before it, or the parameter.
fn suggested(text: &str, range: Span) -> String {
    let before = text[super::line_at(text, range.start()).start()..range.start()].trim_end_matches(['"', ' ']);
    let key = before.trim_end_matches([':', '=', ' ']);
    let word = key
        .trim_end_matches('"')
        .rsplit(|c: char| !c.is_ascii_alphanumeric() && c != '_' && c != '-')
        .next()
        .unwrap_or_default();
    let name = word.to_lowercase().replace('-', "_");
    if key.len() < before.len() && yieldtray_source::names::is_value_name(&name) { name } else { "value".to_owned() }
}

/// Checks that hold for the last response: its status, its media type, the fields that exist.
fn add_checks(view: IdeContext<'_>, cell: CellId) -> Option<Action> {
    let exchange = view.past.last(cell)?;
    let text = view.text(cell.source);
    let own = view.workspace().cell(cell);
    let has = |check: &str| {
        own.instructions()
            .any(|line| matches!(line.kind, InstructionKind::Check { expression, .. } if expression.of(text) == check))
    };
    let checks = checks_for(exchange.status, &exchange.media_type(), &BodyShape::of(&exchange));
    let checks: Vec<String> = checks.into_iter().filter(|check| !has(check)).collect();
    if checks.is_empty() || own.plays() {
        return None;
    }
    let end = own.span.start() + own.span.of(text).trim_end().len();
    let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let last_is_line = own.items.last().is_some_and(|item| {
        item.span().end() >= end && own.request.as_ref().is_some_and(|line| line.span.end() < item.span().start())
    });
    let mut added = if last_is_line { line_end.to_owned() } else { line_end.repeat(2) };
    added.push_str(&checks.iter().map(|check| format!("% check {check}")).collect::<Vec<_>>().join(line_end));
    let number = if checks.len() == 1 { "a check".to_owned() } else { format!("{} checks", checks.len()) };
    let edit = Edit::insert(end, added);
    Some(Action {
        title: format!("Add {number} from the last response"),
        is_fix: false,
        changes: vec![Change::Edit(cell.source, vec![edit])],
    })
}
