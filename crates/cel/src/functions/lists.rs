//! The lists extension library. `sortBy` is a macro.

use super::{Call, Fault, Outcome, functions};
use crate::budget::Budget;
use crate::value::{List, Value};
use std::cmp::Ordering;

functions! { "lists":
    "slice" ["list(A).slice(int, int) -> list(A)"]
        "the elements from one index up to, not including, another", "body.lots.slice(0, 2)" => slice;
    "flatten" ["list(A).flatten() -> list(dyn)", "list(A).flatten(int) -> list(dyn)"]
        "flattens lists inside a list, by one level or more", "body.lots.map(lot, lot.bins).flatten()" => flatten;
    "distinct" ["list(A).distinct() -> list(A)"]
        "the distinct elements of a list", "body.lots.map(lot, lot.grower).distinct()" => distinct;
    "sort" ["list(A).sort() -> list(A)"]
        "the elements sorted: numbers, strings, times", "body.lots.map(lot, lot.bins).sort()" => sort;
    "first" ["list(A).first() -> optional(A)"]
        "the first element, as an optional", "body.lots.first().orValue(null)" => |call| end(call, |list| list.get(0));
    "last" ["list(A).last() -> optional(A)"]
        "the last element, as an optional", "body.lots.last().optMap(lot, lot.id)" => |call| end(call, |list| list.len().checked_sub(1).and_then(|last| list.get(last)));
    "lists.range" ["lists.range(int) -> list(int)"]
        "the integers from 0 up to, not including, a number", "lists.range(3)" => range;
}

/// Bytes that a member takes in a new list.
const MEMBER_BYTES: u64 = 32;

fn list_of<'a>(call: &Call<'a>) -> Result<&'a List, Fault> {
    call.arguments.first().and_then(Value::as_list).ok_or(Fault::NoOverload)
}

fn slice(call: &mut Call<'_>) -> Outcome {
    let [Value::List(list), Value::Int(start), Value::Int(end)] = call.arguments else { return Err(Fault::NoOverload) };
    let index = |index: i64| {
        usize::try_from(index)
            .ok()
            .filter(|index| *index <= list.len())
            .ok_or_else(|| Fault::message(format!("there is no element {index}: the list has {}", list.len())))
    };
    let (start, end) = (index(*start)?, index(*end)?);
    if end < start {
        return Err(Fault::message(format!("the end {end} is before the start {start}")));
    }
    call.budget.take_bytes(MEMBER_BYTES * (end - start) as u64)?;
    Ok(Value::List((start..end).filter_map(|index| list.get(index)).collect()))
}

fn flatten(call: &mut Call<'_>) -> Outcome {
    let (list, levels) = match call.arguments {
        [Value::List(list)] => (list, 1),
        [Value::List(list), Value::Int(levels)] => {
            let negative = || Fault::message(format!("levels cannot be negative: {levels}"));
            (list, u64::try_from(*levels).map_err(|_| negative())?)
        }
        _ => return Err(Fault::NoOverload),
    };
    let mut flat = Vec::new();
    add_flat(list, levels, &mut flat, call.budget)?;
    Ok(Value::list(flat))
}

fn add_flat(list: &List, levels: u64, flat: &mut Vec<Value>, budget: &mut Budget) -> Result<(), Fault> {
    for member in list.iter() {
        match member {
            Value::List(inner) if levels > 0 => add_flat(&inner, levels - 1, flat, budget)?,
            member => {
                budget.take_bytes(MEMBER_BYTES)?;
                flat.push(member);
            }
        }
    }
    Ok(())
}

fn distinct(call: &mut Call<'_>) -> Outcome {
    let list = list_of(call)?;
    let mut found: Vec<Value> = Vec::new();
    for member in list.iter() {
        call.budget.take_steps(1 + (found.len() >> 6) as u64)?;
        call.budget.take_all_of(&member)?;
        if !found.contains(&member) {
            call.budget.take_bytes(MEMBER_BYTES)?;
            found.push(member);
        }
    }
    Ok(Value::list(found))
}

fn sort(call: &mut Call<'_>) -> Outcome {
    let list = list_of(call)?;
    call.budget.take_bytes(MEMBER_BYTES * list.len() as u64)?;
    let members: Vec<Value> = list.iter().collect();
    sorted(members.iter().cloned().zip(members.iter().cloned()).collect())
}

/// Values in the order of their keys.
pub(crate) fn sorted(mut pairs: Vec<(Value, Value)>) -> Outcome {
    if let Some(((first, _), rest)) = pairs.split_first() {
        let other = rest.iter().map(|(key, _)| key).find(|key| !first.has_order_with(key));
        if let Some(other) = other.or((!first.has_order_with(first)).then_some(first)) {
            let (first, other) = (first.type_name(), other.type_name());
            return Err(Fault::message(match first == other {
                true => format!("values of type {first} cannot be ordered"),
                false => format!("a {first} and a {other} cannot be compared"),
            }));
        }
    }
    pairs.sort_by(|(a, _), (b, _)| a.partial_cmp(b).unwrap_or(Ordering::Equal));
    Ok(Value::List(pairs.into_iter().map(|(_, value)| value).collect()))
}

fn end(call: &mut Call<'_>, member: fn(&List) -> Option<Value>) -> Outcome {
    Ok(member(list_of(call)?).map_or_else(Value::none, Value::some))
}

fn range(call: &mut Call<'_>) -> Outcome {
    let [Value::Int(end)] = call.arguments else { return Err(Fault::NoOverload) };
    call.budget.take_bytes(MEMBER_BYTES.saturating_mul(u64::try_from(*end).unwrap_or(0)))?;
    Ok(Value::List((0..*end).map(Value::Int).collect()))
}
