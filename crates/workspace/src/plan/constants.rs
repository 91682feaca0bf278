//! Literal texts in expressions, and files that lines name, which can be looked at before anything is sent: patterns and
//! paths that are none, times that are none, files that are not there.

use crate::Workspace;
use std::path::Path;
use yieldtray_expression::{Bindings, CalledConstant, Engine, RandomSource, check_constant};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::{InstructionKind, PartContent};

/// Checks the literal argument of a function in the expression at `span`.
pub(super) fn constant(
    workspace: &Workspace,
    engine: &Engine,
    origin: SourceId,
    span: Span,
    constant: &CalledConstant,
) -> Option<Problem> {
    let CalledConstant { function, text: literal, .. } = constant;
    let at = span.part(constant.span.start(), constant.span.end());
    match function.as_str() {
        "file" | "conforms" => missing(workspace, origin, at, literal),
        _ => {
            let why = match check_constant(function, literal) {
                Err(error) => error.to_string(),
                Ok(()) => format!("`{literal}` is not a {}", not_a_time(engine, function, literal)?),
            };
            let message = format!("this can never be evaluated: {why}");
            Some(Problem::error(Code::BadExpression, at, message).in_source(origin))
        }
    }
}

/// The name of what a literal text is not, if CEL cannot read it as the time or the duration that `function` needs.
fn not_a_time(engine: &Engine, function: &str, literal: &str) -> Option<&'static str> {
    let name = match function {
        "timestamp" => "valid time (RFC 3339) such as `2026-09-14T06:30:00Z`",
        "duration" => "valid duration such as `1h30m` or `500ms`",
        _ => return None,
    };
    let call = engine.compile(&format!("{function}({})", serde_json::Value::from(literal)));
    let works = call.is_ok_and(|call| engine.evaluate(&call, &Bindings::default(), &RandomSource::fixed()).is_ok());
    (!works).then_some(name)
}

/// The files that a line names outright.
pub(super) fn files(workspace: &Workspace, origin: SourceId, kind: &InstructionKind) -> Option<Problem> {
    let path = match *kind {
        InstructionKind::BodyFrom { path, .. }
        | InstructionKind::Part { content: PartContent::File { path, .. }, .. }
        | InstructionKind::Each(path) => path,
        _ => return None,
    };
    let text = path.of(&workspace.source(origin).text);
    if text.contains("{{") { None } else { missing(workspace, origin, path, text) }
}

fn missing(workspace: &Workspace, origin: SourceId, at: Span, path: &str) -> Option<Problem> {
    // Files that responses are saved to may not exist yet.
    let folder = workspace.source(origin).path.parent().unwrap_or(Path::new("")).join(path);
    let saved =
        yieldtray_source::files::normalize(&folder).is_some_and(|path| path.starts_with(workspace.config.saved()));
    let error = workspace.locate_relative(origin, path).err().filter(|_| !saved)?;
    let message = format!("cannot read the file `{path}`: {error}");
    let hint = "paths are relative to the request file";
    Some(Problem::error(Code::UnreadableFile, at, message).with_hint(hint).in_source(origin))
}
