//! The sets extension library: lists taken as sets.

use super::{Call, Fault, Outcome, functions};
use crate::value::{List, Value};

functions! { "sets":
    "sets.contains" ["sets.contains(list(A), list(A)) -> bool"]
        "whether a list contains all elements of another", "sets.contains(body.varieties, ['gala'])" => contains;
    "sets.equivalent" ["sets.equivalent(list(A), list(A)) -> bool"]
        "whether two lists contain the same elements, ignoring order and repetition", "sets.equivalent(body.varieties, ['fuji', 'gala'])" => equivalent;
    "sets.intersects" ["sets.intersects(list(A), list(A)) -> bool"]
        "whether two lists have an element in common", "sets.intersects(body.varieties, ['fuji', 'cox'])" => intersects;
}

fn lists<'a>(call: &mut Call<'a>) -> Result<(&'a List, &'a List), Fault> {
    let [Value::List(a), Value::List(b)] = call.arguments else { return Err(Fault::NoOverload) };
    // Each member may be compared with each.
    call.budget.take_steps((a.len() as u64 * b.len() as u64) >> 6)?;
    call.arguments.iter().try_for_each(|list| call.budget.take_all_of(list))?;
    Ok((a, b))
}

fn has_all(a: &List, b: &List) -> bool {
    b.iter().all(|member| a.contains(&member))
}

fn contains(call: &mut Call<'_>) -> Outcome {
    let (a, b) = lists(call)?;
    Ok(Value::Bool(has_all(a, b)))
}

fn equivalent(call: &mut Call<'_>) -> Outcome {
    let (a, b) = lists(call)?;
    Ok(Value::Bool(has_all(a, b) && has_all(b, a)))
}

fn intersects(call: &mut Call<'_>) -> Outcome {
    let (a, b) = lists(call)?;
    Ok(Value::Bool(b.iter().any(|member| a.contains(&member))))
}
