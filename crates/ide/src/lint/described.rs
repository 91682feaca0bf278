//! Requests and expressions that the description of the API knows to be wrong.

use crate::described::{Described, body_json};
use yieldtray_description::{ApiKind, Matched};
use yieldtray_expression::Engine;
use yieldtray_source::{Code, Problem, closest};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::config::ApiOrigin;
use yieldtray_workspace::{CellId, LoadedApi, Workspace, graphql_api_of, graphql_document};

/// What the description says of a cell's request, and of the members that its expressions name.
pub(super) fn problems(workspace: &Workspace, engine: &Engine, cell: CellId) -> Vec<Problem> {
    if workspace.apis().is_empty() {
        return Vec::new();
    }
    let mut problems = Vec::new();
    let described = Described::of(workspace, cell);
    match &described {
        Some(described) => {
            request(workspace, cell, described, &mut problems);
            body(workspace, cell, described, &mut problems);
        }
        None => problems.extend(undocumented(workspace, cell)),
    }
    problems.extend(expressions(workspace, engine, cell, described.as_ref()));
    problems
}

/// Descriptions that the configuration names as files and that cannot be used.
pub(super) fn unreadable(workspace: &Workspace) -> Vec<Problem> {
    let settings = workspace.config.apis.iter().chain(workspace.config.environments.iter().flat_map(|own| &own.apis));
    let files = settings.filter_map(|settings| {
        let origin = settings.origin.as_ref().filter(|origin| matches!(origin.value, ApiOrigin::File(_)))?;
        let api = workspace.apis().iter().find(|api| api.name == settings.name)?;
        let why = api.contract.as_ref().err().filter(|why| why.contains(origin.value.describe().1))?;
        Some(Problem::warning(Code::UnreadableFile, origin.span, why.clone()).in_source(origin.source))
    });
    files.collect()
}

/// A request to the server of a description that is none of its operations.
fn undocumented(workspace: &Workspace, cell: CellId) -> Option<Problem> {
    let own = workspace.cell(cell);
    if own.is_graphql() {
        return None;
    }
    let line = own.request.as_ref()?;
    let text = &workspace.source(cell.source).text;
    let target = line.target.of(text);
    // A URL that is known only when it is sent says nothing.
    if target.starts_with("{{") && !target.starts_with("{{base}}/") {
        return None;
    }
    let method = line.method.map_or("GET", |method| method.of(text));
    let contracts = workspace.apis().iter().filter_map(|api| api.contract.as_ref().ok());
    let mut contracts = contracts.filter(|contract| contract.api().info().kind == ApiKind::OpenApi);
    let contract = contracts.next()?;
    let path = contract.path_of_target(target)?;
    let problem = match contract.matched_path(method, &path)? {
        Matched::Operation(_) => return None,
        Matched::OtherMethods(path, methods) => {
            let message = format!("{method} is not described for `{path}`");
            let span = line.method.unwrap_or(line.target);
            let problem = Problem::warning(Code::UndocumentedRequest, span, message);
            problem.with_hint(format!("the description has {}", methods.join(", ")))
        }
        Matched::Unknown => {
            let shown = target.split('?').next().unwrap_or(target);
            let message = format!("`{shown}` is not in the description of the API");
            let problem = Problem::warning(Code::UndocumentedRequest, line.target, message);
            let all = contract.api().operations().unwrap_or_default();
            match closest(&path, all.iter().map(|operation| operation.path.as_str())) {
                Some(meant) => problem.with_hint(format!("did you mean `{meant}`?")),
                None => problem.with_hint("see `yieldtray api tree`"),
            }
        }
    };
    Some(problem.in_source(cell.source))
}

/// Deprecated operations and parameters, and required parameters that are missing.
fn request(workspace: &Workspace, cell: CellId, described: &Described<'_>, problems: &mut Vec<Problem>) {
    let own = workspace.cell(cell);
    let Some(line) = &own.request else { return };
    let operation = &described.operation;
    let mut warn = |code, span, message: String, hint: &str| {
        let problem = Problem::warning(code, span, message);
        let problem = if hint.is_empty() { problem } else { problem.with_hint(hint) };
        problems.push(problem.in_source(cell.source));
    };
    if operation.summary.deprecated {
        let hint = operation.description.as_deref().and_then(|text| text.lines().next()).unwrap_or_default();
        warn(Code::Deprecated, line.target, format!("`{}` is deprecated", operation.summary.title()), hint);
    }
    for parameter in &operation.parameters {
        let sent = match parameter.place.as_str() {
            "query" => described.query.iter().find(|(name, _)| *name == parameter.name).map(|(_, span)| *span),
            "header" => described
                .headers
                .iter()
                .find(|(name, _)| name.eq_ignore_ascii_case(&parameter.name))
                .map(|(_, span)| *span),
            _ => continue,
        };
        match sent {
            Some(span) if parameter.deprecated => {
                warn(
                    Code::Deprecated,
                    span,
                    format!("the {} parameter `{}` is deprecated", parameter.place, parameter.name),
                    "",
                );
            }
            None if parameter.required => {
                let message = format!("the required {} parameter `{}` is missing", parameter.place, parameter.name);
                let hint = match parameter.place.as_str() {
                    "query" => format!("add `% query {} = …`", parameter.name),
                    _ => format!("add `{}: …`", parameter.name),
                };
                warn(Code::MissingParameter, line.target, message, &hint);
            }
            _ => {}
        }
    }
    let has_body = !own.body.is_empty()
        || own.instructions().any(|line| {
            matches!(
                line.kind,
                InstructionKind::Field { .. } | InstructionKind::Part { .. } | InstructionKind::BodyFrom { .. }
            )
        });
    if operation.body.as_ref().is_some_and(|body| body.required) && !has_body {
        let message = format!("`{}` requires a body", operation.summary.title());
        warn(Code::MissingParameter, line.target, message, "see `yieldtray api show` for an example");
    }
}

/// A JSON body that does not fit its schema, as far as that shows without the values of placeholders.
fn body(workspace: &Workspace, cell: CellId, described: &Described<'_>, problems: &mut Vec<Problem>) {
    let own = workspace.cell(cell);
    let text = &workspace.source(cell.source).text;
    let Some(json) = body_json(text, own.template_body()) else { return };
    let Some(body) = &described.operation.body else { return };
    let Some(content) = body.content.iter().find(|content| content.is_json()) else { return };
    let Some(schema) = &content.schema else { return };
    for (pointer, message) in described.api.violations(schema, json.value.clone()) {
        let Some(span) = json.place(&pointer) else { continue };
        if json.has_placeholder(span) {
            continue;
        }
        // An object or a list is underlined where it begins.
        let first_line = span.of(text).find('\n').unwrap_or(span.len());
        let problem = Problem::warning(Code::InvalidBody, span.part(0, first_line), message);
        problems.push(problem.in_source(cell.source));
    }
}

/// Expressions on the response that name members which the description does not have.
fn expressions(
    workspace: &Workspace,
    engine: &Engine,
    cell: CellId,
    described: Option<&Described<'_>>,
) -> Vec<Problem> {
    let own = workspace.cell(cell);
    let text = &workspace.source(cell.source).text;
    let mut types = Vec::new();
    match graphql_document(workspace, cell) {
        Some(Ok(document)) => {
            let operation = document.operation.as_ref().map(|(name, _)| name.as_str());
            let schema = graphql_api_of(workspace, cell).and_then(LoadedApi::schema);
            types.extend(
                schema.and_then(|schema| schema.data_type(&document.text, operation)).map(|kind| ("data", kind)),
            );
        }
        Some(Err(_)) => {}
        None => {
            let body = described.and_then(|described| described.contract.response_type(&described.operation));
            types.extend(body.map(|body| ("body", body)));
        }
    }
    if types.is_empty() {
        return Vec::new();
    }
    let expressions = own.instructions().filter_map(|line| match line.kind {
        InstructionKind::Check { expression, .. }
        | InstructionKind::Yield { expression, .. }
        | InstructionKind::Wait { until: expression, .. } => Some(expression),
        _ => None,
    });
    let mut problems = Vec::new();
    for span in expressions {
        let source = span.of(text);
        // One that is wrong anyway was reported.
        if !types.iter().any(|(name, _)| source.contains(name)) || engine.compile(source).is_err() {
            continue;
        }
        for error in engine.check_with_types(source, &types) {
            let place = span.part(error.span.start().min(span.len()), error.span.end().min(span.len()));
            let problem = Problem::warning(error.code, place, format!("{} (as the API is described)", error.message));
            let problem = problem.with_hint_if(error.hint.clone()).in_source(cell.source);
            problems.push(Problem { replacement: error.replacement.map(Box::new), ..problem });
        }
    }
    problems
}
