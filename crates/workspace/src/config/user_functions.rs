//! Problems of the functions of a configuration, found when it is read, before any file calls them.

use crate::config::model::Config;
use yieldtray_expression::{Engine, FUNCTIONS, UserFunction};
use yieldtray_source::{Code, Problem, closest};
use yieldtray_syntax::is_language_name;

/// Expressions that cannot be read, calls that do not fit, names nobody gives, functions that come
/// back to themselves, and names that are taken.
pub(super) fn examine(config: &Config) -> Vec<Problem> {
    if config.functions.is_empty() {
        return Vec::new();
    }
    let engine = Engine::with_functions(&config.functions);
    config.functions.iter().flat_map(|function| examine_one(config, &engine, function)).collect()
}

fn examine_one(config: &Config, engine: &Engine, function: &UserFunction) -> Vec<Problem> {
    if FUNCTIONS.iter().any(|known| known.name == function.name) || yieldtray_expression::is_builtin(&function.name) {
        let message = format!("`{}` is a built-in function and cannot be redefined", function.name);
        let problem = Problem::error(Code::ReservedName, function.span, message);
        return vec![
            problem
                .with_hint(format!("use another name, for example `my_{}`", function.name))
                .in_source(function.source),
        ];
    }
    // A call is written out, so that a function which comes back to itself is found from each of them.
    let call = engine.compile(&function.call());
    let own = engine.compile(&function.is);
    let faults = own.as_ref().err().or(call.as_ref().err());
    if let Some(faults) = faults {
        let problem = |fault: &yieldtray_expression::CompileError| {
            let message = format!("`{}`: {}", function.name, fault.message);
            Problem::error(fault.code, function.body, message)
                .with_hint_if(fault.hint.clone())
                .in_source(function.source)
        };
        return faults.iter().map(problem).collect();
    }
    let names = own.map(|compiled| compiled.names().map(str::to_owned).collect::<Vec<_>>()).unwrap_or_default();
    let given = |name: &String| {
        function.params.contains(name)
            || is_language_name(name)
            || yieldtray_expression::is_type_name(name)
            || config.all_entries().any(|entry| entry.name == *name)
    };
    let unknown = names.into_iter().filter(|name| !given(name));
    unknown
        .map(|name| {
            let message =
                format!("`{}` uses `{name}`, which is neither a parameter nor a configured variable", function.name);
            let known = function.params.iter().map(String::as_str);
            let hint = match closest(&name, known) {
                Some(meant) => format!("did you mean `{meant}`?"),
                None => format!("add `{name}` to `params`, and pass it in each call"),
            };
            Problem::error(Code::UnknownVariable, function.body, message).with_hint(hint).in_source(function.source)
        })
        .collect()
}
