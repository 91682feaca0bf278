//! Validates the GraphQL document of a cell.

use crate::{CellId, LoadedApi, Workspace, graphql_api_of, graphql_document};
use yieldtray_description::{DocumentProblem, operations};
use yieldtray_source::{Code, Problem, Span, closest, join_words};
use yieldtray_syntax::InstructionKind;

/// The problems of a cell's GraphQL lines and its document. With a schema, the document is validated against it.
pub(super) fn graphql_problems(workspace: &Workspace, cell: CellId) -> Vec<Problem> {
    let own = workspace.cell(cell);
    let text = &workspace.source(cell.source).text;
    let mut problems = Vec::new();
    let Some(document) = graphql_document(workspace, cell) else {
        for line in own.instructions() {
            let word = match line.kind {
                InstructionKind::Variable { .. } => "variable",
                InstructionKind::Operation(_) => "operation",
                InstructionKind::Fragments(_) => "fragments",
                _ => continue,
            };
            let message = format!("`% {word}` belongs to a GraphQL request, but this is none");
            let problem = Problem::error(Code::ConflictingLines, line.span, message);
            problems.push(problem.with_hint("add `% graphql` to the request").in_source(cell.source));
        }
        return problems;
    };
    if let Some(at) = own.body.of(text).find("{{") {
        let span = own.body.part(at, at + 2);
        let message = "placeholders are not replaced in a GraphQL document";
        let hint = "declare a variable: `query ($id: ID!) …`, and give it a value: `% variable id = lot_id`";
        problems.push(Problem::warning(Code::GraphqlPlaceholder, span, message).with_hint(hint).in_source(cell.source));
    }
    let document = match document {
        Ok(document) => document,
        Err(problem) => {
            problems.push(problem);
            return problems;
        }
    };
    let problem = |found: &DocumentProblem| {
        let problem = match found.is_deprecation {
            true => Problem::warning(Code::Deprecated, Span::default(), found.message.clone()),
            false => Problem::error(Code::InvalidGraphql, Span::default(), found.message.clone()),
        };
        let problem = match &found.meant {
            Some(meant) => problem.did_you_mean(meant),
            None => problem,
        };
        document.problem(problem, found.range.clone())
    };
    let all = match operations(&document.text) {
        Ok(all) => all,
        Err(found) => {
            problems.extend(found.iter().map(problem));
            return problems;
        }
    };
    // The document that the server will read is the one that is validated: without a schema only its syntax.
    if let Some(schema) = graphql_api_of(workspace, cell).and_then(LoadedApi::schema) {
        problems.extend(schema.problems(&document.text).iter().map(problem));
    }
    let names: Vec<&str> = all.iter().filter_map(|operation| operation.name.as_deref()).collect();
    let chosen = match &document.operation {
        Some((name, span)) => {
            let found = all.iter().find(|operation| operation.name.as_deref() == Some(name));
            if found.is_none() {
                let problem =
                    Problem::error(Code::InvalidGraphql, *span, format!("the document has no operation `{name}`"));
                let problem = match closest(name, names.iter().copied()) {
                    Some(meant) => problem.did_you_mean(meant),
                    None if names.is_empty() => problem.with_hint("its operation has no name: remove this line"),
                    None => problem.with_hint(format!("available: {}", join_words(&names))),
                };
                problems.push(problem.in_source(cell.source));
            }
            found
        }
        None => match all.as_slice() {
            [only] => Some(only),
            [] => {
                let problem = Problem::error(Code::InvalidGraphql, Span::default(), "the document has no operation");
                problems.push(document.problem(problem.with_hint("add a `query` or `mutation`"), 0..1));
                None
            }
            several => {
                let message = format!("the document has {} operations", several.len());
                let hint = format!("select one: `% operation {}`", names.first().unwrap_or(&"NAME"));
                let problem = Problem::error(Code::InvalidGraphql, Span::default(), message).with_hint(hint);
                problems.push(document.problem(problem, 0..1));
                None
            }
        },
    };
    let Some(chosen) = chosen else { return problems };
    let method = own.request.as_ref().and_then(|line| line.method);
    let is_get = own.request.is_some() && method.is_none_or(|method| method.of(text) == "GET");
    // A subscription is sent like a query, and answered by a stream of events.
    if is_get && chosen.kind == "mutation" {
        let span = method.or(own.request.as_ref().map(|line| line.target)).unwrap_or_default();
        let message = "a mutation must be sent with POST";
        let problem = Problem::error(Code::InvalidGraphql, span, message);
        problems.push(problem.with_hint("write `POST` before the URL").in_source(cell.source));
    }
    let mut given = Vec::new();
    for line in own.instructions() {
        match line.kind {
            InstructionKind::Variable { name, .. } => {
                let shown = name.of(text);
                given.push(shown);
                if !chosen.variables.iter().any(|variable| variable.name == shown) {
                    let message = format!("the operation declares no variable `${shown}`");
                    let problem = Problem::error(Code::InvalidGraphql, name, message);
                    let declared = chosen.variables.iter().map(|variable| variable.name.as_str());
                    let problem = match closest(shown, declared) {
                        Some(meant) => problem.did_you_mean(meant),
                        None => problem.with_hint("declare it in the document, or remove this line"),
                    };
                    problems.push(problem.in_source(cell.source));
                }
            }
            // A file that is uploaded is the value of a variable (`photo`, `input.photo`, `photos.0`).
            InstructionKind::Part { name, .. } => given.push(name.of(text).split('.').next().unwrap_or_default()),
            _ => {}
        }
    }
    for variable in chosen.variables.iter().filter(|own| own.required && !given.contains(&own.name.as_str())) {
        let message = format!("the required variable `${}` has no value", variable.name);
        let hint = format!("add `% variable {} = …` ({})", variable.name, variable.type_name);
        let at = document.text.find(&format!("${}", variable.name)).unwrap_or_default();
        let problem = Problem::error(Code::InvalidGraphql, Span::default(), message).with_hint(hint);
        problems.push(document.problem(problem, at..at + variable.name.len() + 1));
    }
    problems
}
