//! Functions on text.

use super::{Evaluated, error, text};
use crate::Value;
use crate::value::kind;
use cel::ExecutionError;
use cel::common::types::{CelList, CelNull, CelString};
use cel::common::value::{CowVal, Val};
use regex::Regex;
use std::collections::HashMap;
use std::sync::{LazyLock, Mutex, PoisonError};

fn given<'b, 'v>(text: String) -> Evaluated<'b, 'v> {
    Ok(CowVal::owned(CelString::from(text)))
}

pub(super) fn lower<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    given(text("lower", &arguments, 0)?.to_lowercase())
}

pub(super) fn upper<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    given(text("upper", &arguments, 0)?.to_uppercase())
}

pub(super) fn trim<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    given(text("trim", &arguments, 0)?.trim().to_owned())
}

/// Refuses to make a text of more than 64 MiB: `times` pieces of so many bytes beside what is there.
fn expect_room(function: &str, there: u64, times: u64, bytes: u64) -> Result<(), ExecutionError> {
    const MAX_RESULT_BYTES: u64 = 64 << 20;
    match times.saturating_mul(bytes).saturating_add(there) > MAX_RESULT_BYTES {
        true => Err(error(function, "the text would have more than 64 MiB")),
        false => Ok(()),
    }
}

pub(super) fn replace<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let (whole, old, new) =
        (text("replace", &arguments, 0)?, text("replace", &arguments, 1)?, text("replace", &arguments, 2)?);
    let more = (new.len() as u64).saturating_sub(old.len() as u64);
    expect_room("replace", whole.len() as u64, whole.matches(old).count() as u64, more)?;
    given(whole.replace(old, new))
}

pub(super) fn split<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let (whole, by) = (text("split", &arguments, 0)?, text("split", &arguments, 1)?);
    if by.is_empty() {
        return Err(error("split", "wants a separator, but got empty text"));
    }
    let pieces: Vec<Box<dyn Val + 'v>> =
        whole.split(by).map(|piece| Box::new(CelString::from(piece.to_owned())) as Box<dyn Val + 'v>).collect();
    Ok(CowVal::owned(CelList::from(pieces)))
}

pub(super) fn join<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let by = text("join", &arguments, 1)?;
    let list = arguments[0]
        .downcast_ref::<CelList<'v>>()
        .ok_or_else(|| error("join", format!("wants a list, but got {}", kind(&*arguments[0]).describe())))?;
    expect_room("join", 0, list.inner().len() as u64, by.len() as u64)?;
    let members = list.inner().iter().map(|member| match Value::copy_of(&**member).to_text() {
        Ok(text) => Ok(text.into_owned()),
        Err(_) => {
            Err(error("join", format!("wants texts or numbers in the list, but found {}", kind(&**member).describe())))
        }
    });
    given(members.collect::<Result<Vec<_>, _>>()?.join(by))
}

/// Compiled patterns: a check in a long replay asks for the same one thousands of times.
static PATTERNS: LazyLock<Mutex<HashMap<String, Regex>>> = LazyLock::new(Mutex::default);

/// More than any workspace writes; a pattern made from a changing value must not fill the memory.
const MAX_CACHED_PATTERNS: usize = 256;

pub(super) fn find<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let (whole, pattern) = (text("find", &arguments, 0)?, text("find", &arguments, 1)?);
    let mut patterns = PATTERNS.lock().unwrap_or_else(PoisonError::into_inner);
    if !patterns.contains_key(pattern) {
        let regex = Regex::new(pattern).map_err(|e| {
            let last = e.to_string().lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
            error("find", format!("`{pattern}` is no regular expression: {last}"))
        })?;
        if patterns.len() >= MAX_CACHED_PATTERNS {
            patterns.clear();
        }
        patterns.insert(pattern.to_owned(), regex);
    }
    let found = patterns[pattern].captures(whole).map(|captures| {
        captures.iter().skip(1).flatten().next().unwrap_or_else(|| captures.get_match()).as_str().to_owned()
    });
    found.map_or_else(|| Ok(CowVal::owned(CelNull)), given)
}
