//! Signature help.

use super::IdeContext;
use super::complete::{Context, context};
use yieldtray_expression::function;
use yieldtray_source::SourceId;

/// The call that somebody is writing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Signature {
    /// `random(low, high)`
    pub label: String,
    /// The parameters, as the label has them.
    pub parameters: Vec<String>,
    /// The one that is being written, from 0.
    pub active: usize,
    /// The result of the function.
    pub help: String,
}

/// The innermost call around byte `at`.
pub fn signature(view: IdeContext<'_>, source: SourceId, at: usize) -> Option<Signature> {
    let Context::Expression { before, .. } = context(view, source, at) else { return None };
    let (name, active, member) = open_call(before.of(view.text(source)))?;
    let (parameters, help): (Vec<String>, String) =
        match view.workspace().config.functions.iter().find(|own| own.name == name) {
            Some(own) => (own.params.clone(), own.help.clone().unwrap_or_else(|| own.is.clone())),
            None => {
                let known = function(name)?;
                let parameters = known.parameters();
                (parameters, format!("{}; for example `{}`", known.help, known.example))
            }
        };
    // `x.f(y)` is `f(x, y)`.
    let active = active + usize::from(member);
    Some(Signature { label: format!("{name}({})", parameters.join(", ")), parameters, active, help })
}

/// The name of the call that is open at the end of `expression`, the number of commas since, and whether it is
/// called on something.
fn open_call(expression: &str) -> Option<(&str, usize, bool)> {
    let mut open: Vec<(char, usize, usize)> = Vec::new();
    let mut quote = None;
    let mut escaped = false;
    for (at, c) in expression.char_indices() {
        match (quote, c) {
            _ if escaped => escaped = false,
            (Some(_), '\\') => escaped = true,
            (Some(own), c) if own == c => quote = None,
            (Some(_), _) => {}
            (None, '"' | '\'') => quote = Some(c),
            (None, '(' | '[' | '{') => open.push((c, at, 0)),
            (None, ')' | ']' | '}') => drop(open.pop()),
            (None, ',') => {
                if let Some(last) = open.last_mut() {
                    last.2 += 1;
                }
            }
            _ => {}
        }
    }
    open.iter().rev().filter(|(c, ..)| *c == '(').find_map(|(_, at, commas)| {
        let before = expression[..*at].trim_end();
        let word_start = |text: &str| {
            let odd = text.char_indices().rfind(|(_, c)| !c.is_alphanumeric() && *c != '_');
            odd.map_or(0, |(at, c)| at + c.len_utf8())
        };
        let start = word_start(before);
        let name = &before[start..];
        let Some(of) = before[..start].strip_suffix('.') else {
            return (!name.is_empty()).then_some((name, *commas, false));
        };
        // A name space and a dot before the name are a part of it.
        let full = &before[word_start(of)..];
        match function(full).is_some() {
            true => Some((full, *commas, false)),
            false => (!name.is_empty()).then_some((name, *commas, true)),
        }
    })
}
