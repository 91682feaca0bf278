//! The regex extension library, and the patterns that were used last.

use super::{Call, Fault, Outcome, functions};
use crate::budget::Budget;
use crate::value::Value;
use regex::Regex;
use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};
use thiserror::Error;

functions! { "regex":
    "regex.extract" ["regex.extract(string, string) -> optional(string)"]
        "the first match or its group, as an optional", "regex.extract(text, 'L-([0-9]+)').orValue('')" => extract;
    "regex.extractAll" ["regex.extractAll(string, string) -> list(string)"]
        "all matches or their groups", "regex.extractAll(text, 'L-[0-9]+')" => extract_all;
    "regex.replace" ["regex.replace(string, string, string) -> string", "regex.replace(string, string, string, int) -> string"]
        "replaces each match, or the first N; `\\\\1` inserts a group", "regex.replace(text, 'L-([0-9]+)', '\\\\1')" => replace;
}

/// A text that is not a regular expression.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("invalid regular expression `{pattern}`: {message}")]
pub struct PatternError {
    /// The text.
    pub pattern: String,
    /// The reason.
    pub message: String,
}

/// Patterns that are kept: more than any file has, so that one made from changing values does not fill the memory.
const MAX_CACHED_PATTERNS: usize = 256;

/// Steps that compiling a pattern takes.
const COMPILE_STEPS: u64 = 200;

/// A regular expression. Those that were used before are kept: a loop asks for the same one again and again.
///
/// # Errors
/// If the text is not one, or the budget is spent.
pub fn pattern(text: &str, budget: &mut Budget) -> Result<Regex, Fault> {
    static CACHE: LazyLock<Mutex<HashMap<String, Regex>>> = LazyLock::new(Mutex::default);
    let cache = || CACHE.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(known) = cache().get(text) {
        return Ok(known.clone());
    }
    budget.take_steps(COMPILE_STEPS)?;
    let regex = PatternError::check(text).map_err(Fault::message)?;
    let mut cache = cache();
    if cache.len() >= MAX_CACHED_PATTERNS {
        cache.clear();
    }
    cache.insert(text.to_owned(), regex.clone());
    Ok(regex)
}

impl PatternError {
    /// Compiles a regular expression.
    ///
    /// # Errors
    /// If the text is not one.
    pub fn check(text: &str) -> Result<Regex, PatternError> {
        Regex::new(text).map_err(|error| {
            // The library draws where it is, in several lines: its last one says what.
            let message = error.to_string();
            let last = message.lines().last().unwrap_or_default().trim_start_matches("error: ");
            PatternError { pattern: text.to_owned(), message: last.to_owned() }
        })
    }
}

/// The pattern, which may have one group at most.
fn with_one_group(text: &str, budget: &mut Budget) -> Result<Regex, Fault> {
    let regex = pattern(text, budget)?;
    match regex.captures_len() {
        1 | 2 => Ok(regex),
        more => Err(Fault::message(format!("`{text}` has {} groups, but at most one can be extracted", more - 1))),
    }
}

/// The text of the group of a match, or of the match if it has no group. None for a group that took no part.
fn group(captures: &regex::Captures<'_>) -> Option<Value> {
    captures.get(captures.len() - 1).map(|found| Value::string(found.as_str()))
}

fn extract(call: &mut Call<'_>) -> Outcome {
    let [Value::String(text), Value::String(regex)] = call.arguments else { return Err(Fault::NoOverload) };
    let regex = with_one_group(regex, call.budget)?;
    call.budget.take_bytes(text.len() as u64)?;
    Ok(regex.captures(text).and_then(|captures| group(&captures)).map_or_else(Value::none, Value::some))
}

fn extract_all(call: &mut Call<'_>) -> Outcome {
    let [Value::String(text), Value::String(regex)] = call.arguments else { return Err(Fault::NoOverload) };
    let regex = with_one_group(regex, call.budget)?;
    let mut found = Vec::new();
    for captures in regex.captures_iter(text) {
        let Some(value) = group(&captures) else { continue };
        call.budget.take_value(&value)?;
        found.push(value);
    }
    Ok(Value::list(found))
}

fn replace(call: &mut Call<'_>) -> Outcome {
    let (text, regex, replacement, times) = match call.arguments {
        [Value::String(text), Value::String(regex), Value::String(new)] => (text, regex, new, usize::MAX),
        [Value::String(text), Value::String(regex), Value::String(new), Value::Int(times)] => {
            (text, regex, new, usize::try_from(*times).unwrap_or(usize::MAX))
        }
        _ => return Err(Fault::NoOverload),
    };
    let regex = pattern(regex, call.budget)?;
    let (mut out, mut last) = (String::new(), 0);
    for captures in regex.captures_iter(text).take(times) {
        let whole = captures.get_match();
        out.push_str(&text[last..whole.start()]);
        expand(replacement, &captures, &mut out)?;
        last = whole.end();
        call.budget.take_bytes((whole.len() + replacement.len()) as u64)?;
    }
    out.push_str(&text[last..]);
    call.budget.take_bytes(out.len() as u64)?;
    Ok(Value::string(out))
}

/// A replacement with the groups in the places of `\1` to `\9`, the match in that of `\0`.
fn expand(replacement: &str, captures: &regex::Captures<'_>, out: &mut String) -> Result<(), Fault> {
    let mut characters = replacement.chars();
    while let Some(c) = characters.next() {
        if c != '\\' {
            out.push(c);
            continue;
        }
        match characters.next() {
            Some('\\') => out.push('\\'),
            Some(digit) if digit.is_ascii_digit() => {
                let number = digit as usize - '0' as usize;
                if number >= captures.len() {
                    return Err(Fault::message(format!("there is no group {number}")));
                }
                out.push_str(captures.get(number).map_or("", |group| group.as_str()));
            }
            _ => return Err(Fault::message("after `\\` must be the number of a group, or another `\\`")),
        }
    }
    Ok(())
}
