//! `api tree`: one level of what the API offers.

use super::{contract, damaged, opened, print_title, requests, title};
use crate::args::{ApiTree, Common};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::output::table::{self, Cell};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;
use yieldtray_description::{ApiKind, Level, OperationSummary, Place};
use yieldtray_engine::ExitCode;
use yieldtray_source::escape::escape_line;

/// Shows what is directly below a place.
pub(super) fn tree(common: &Common, args: &ApiTree, host: &HostFacts, out: &mut Out) -> Result<ExitCode, CommandError> {
    let (mut project, opened) = opened(common, args.which.api.as_deref(), host, out)?;
    let (name, title) = (opened.settings.name.clone(), title(&opened, out));
    let (contract, _) = contract(&project, opened);
    let api = Arc::clone(contract.api());
    let place = args.place.as_deref();
    let Some(level) = api.level(place).map_err(damaged)? else {
        let name = place.unwrap_or_default();
        let hint = match api.similar(name).map_err(damaged)? {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => "see `yieldtray api tree` for the first level".to_owned(),
        };
        return Err(CommandError::refused_with(format!("the API has no path, tag or type `{name}`"), hint));
    };
    let tags = if place.is_none() { api.tags().map_err(damaged)? } else { Vec::new() };
    let covered = requests::by_operation(&mut project, &contract);
    if out.settings.json {
        let document = json!({
            "api": name,
            "place": place,
            "operations": level.operations.iter().map(|own| operation_data(own, &covered)).collect::<Vec<_>>(),
            "places": level.places.iter().chain(&tags).map(|own| place_data(own, &covered)).collect::<Vec<_>>(),
        });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    print_title(&title, out)?;
    let rows = rows(&level, &tags, api.info().kind, &covered, out);
    out.table(&rows)?;
    if !out.settings.quiet && api.info().kind == ApiKind::OpenApi {
        let uncovered = level.operations.iter().chain(level.places.iter().flat_map(|place| &place.operations));
        let uncovered = uncovered.filter(|own| !covered.contains_key(&own.title())).count();
        if uncovered > 0 {
            let count = table::count(uncovered, "operation", "operations");
            let note = format!("{count} without a request (○); `yieldtray api show 'METHOD PATH'` for details");
            out.say(&out.settings.error_styles.dim(&note))?;
        }
    }
    Ok(ExitCode::Success)
}

fn operation_data(operation: &OperationSummary, covered: &BTreeMap<String, Vec<String>>) -> Value {
    let mut data = json!(operation);
    data["requests"] = json!(covered.get(&operation.title()).cloned().unwrap_or_default());
    data
}

fn place_data(place: &Place, covered: &BTreeMap<String, Vec<String>>) -> Value {
    let mut data = json!(place);
    if !place.operations.is_empty() {
        data["operations"] = place.operations.iter().map(|own| operation_data(own, covered)).collect();
    }
    data
}

/// A row for each operation and place: whether a request has it, its methods or kind, its name, and what it is.
fn rows(
    level: &Level,
    tags: &[Place],
    kind: ApiKind,
    covered: &BTreeMap<String, Vec<String>>,
    out: &Out,
) -> Vec<Vec<Cell>> {
    let styles = out.settings.styles;
    let mark = |operations: &[OperationSummary]| {
        if operations.is_empty() {
            return Cell::new(" ");
        }
        match operations.iter().filter(|own| covered.contains_key(&own.title())).count() {
            0 => Cell::new("○").painted(styles.warn("○")),
            some if some < operations.len() => Cell::new("◐").painted(styles.warn("◐")),
            _ => Cell::new("●").painted(styles.good("●")),
        }
    };
    let text = |text: Option<&str>, is_deprecated: bool| {
        let text = escape_line(text.unwrap_or_default()).into_owned();
        let text = if is_deprecated { format!("deprecated  {text}") } else { text };
        Cell::new(text.trim_end().to_owned()).painted(styles.dim(text.trim_end())).shrinkable()
    };
    let mut rows = Vec::new();
    for own in &level.operations {
        let name = escape_line(&own.path).into_owned();
        let mark = mark(std::slice::from_ref(own));
        rows.push(vec![
            mark,
            Cell::new(own.method.clone()),
            Cell::new(name.clone()).painted(styles.strong(&name)),
            text(own.summary.as_deref(), own.deprecated),
        ]);
    }
    for place in &level.places {
        let name = escape_line(&place.name).into_owned();
        let words = match place.kind.as_str() {
            "path" => {
                let methods: Vec<&str> = place.operations.iter().map(|own| own.method.as_str()).collect();
                methods.join(" ")
            }
            kind => kind.to_owned(),
        };
        let below = place.count.saturating_sub(place.operations.len());
        let about = match (place.kind.as_str(), place.operations.as_slice()) {
            ("path", [only]) if below == 0 => text(only.summary.as_deref(), only.deprecated),
            ("path", _) if below > 0 => {
                text(Some(&format!("{} below", table::count(below, "operation", "operations"))), false)
            }
            ("path", _) => text(None, false),
            _ if place.count > 0 => {
                let (one, many) = if place.kind == "enum" { ("value", "values") } else { ("field", "fields") };
                let count = table::count(place.count, one, many);
                let summary = place.summary.as_deref().unwrap_or_default();
                text(Some(format!("{count}  {summary}").trim_end()), place.deprecated)
            }
            _ => text(place.summary.as_deref(), place.deprecated),
        };
        let row = match kind {
            ApiKind::OpenApi => vec![mark(&place.operations), Cell::new(words), Cell::new(name), about],
            ApiKind::GraphQl => {
                vec![Cell::new(" "), Cell::new(name), Cell::new(words).painted(styles.dim(&place.kind)), about]
            }
        };
        rows.push(row);
    }
    for tag in tags {
        let count = table::count(tag.count, "operation", "operations");
        let about = format!("{count}  {}", tag.summary.as_deref().unwrap_or_default());
        let name = escape_line(&tag.name).into_owned();
        rows.push(vec![
            Cell::new(" "),
            Cell::new("tag").painted(styles.dim("tag")),
            Cell::new(name),
            text(Some(about.trim_end()), false),
        ]);
    }
    rows
}
