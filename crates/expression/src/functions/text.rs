//! Functions on text.

use super::{Context, made, text, wants};
use crate::value::ValueKind;
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome, function, pattern};

pub(super) fn lower(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let lower = text(call, 0)?.to_lowercase();
    made(call, lower)
}

pub(super) fn upper(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let upper = text(call, 0)?.to_uppercase();
    made(call, upper)
}

/// Calls the method of that name of the library: these can also be called as functions.
fn method(name: &str, call: &mut Call<'_>) -> Outcome {
    let method = function(name).ok_or(Fault::NoOverload)?;
    method.call(Call { arguments: call.arguments, budget: call.budget })
}

pub(super) fn trim(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    method("trim", call)
}

pub(super) fn replace(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    method("replace", call)
}

pub(super) fn split(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    method("split", call)
}

/// Unlike the library's, it takes numbers in the list too.
pub(super) fn join(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let list = call.arguments[0].as_list().ok_or_else(|| wants("a list", &call.arguments[0]))?;
    let by = text(call, 1)?;
    let mut joined = String::new();
    for (index, member) in list.iter().enumerate() {
        let text = member.to_text().ok_or_else(|| {
            let found = ValueKind::of(&member).describe();
            Fault::message(format!("expects strings or numbers in the list, but found {found}"))
        })?;
        let by = if index > 0 { by } else { "" };
        call.budget.take_bytes((text.len() + by.len()) as u64)?;
        joined.push_str(by);
        joined.push_str(&text);
    }
    Ok(Value::string(joined))
}

pub(super) fn find(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let (whole, regex) = (text(call, 0)?, text(call, 1)?);
    let regex = pattern(regex, call.budget)?;
    let found = regex.captures(whole).map(|captures| {
        captures.iter().skip(1).flatten().next().unwrap_or_else(|| captures.get_match()).as_str().to_owned()
    });
    found.map_or(Ok(Value::Null), |found| made(call, found))
}
