//! The optionals extension library. `optMap` and `optFlatMap` are macros.

use super::{Call, Fault, Outcome, functions};
use crate::eval_error::EvalErrorKind;
use crate::value::Value;

functions! { "optionals":
    "optional.of" ["optional.of(A) -> optional(A)"] "an optional with a value", "optional.of(24)" => of;
    "optional.ofNonZeroValue" ["optional.ofNonZeroValue(A) -> optional(A)"]
        "an optional with a value, or an empty one if it is zero, empty or null", "optional.ofNonZeroValue(body.note)" => of_non_zero;
    "optional.none" ["optional.none() -> optional(A)"] "an empty optional", "optional.none()" => none;
    "optional.unwrap" ["optional.unwrap(list(optional(A))) -> list(A)"]
        "the values of the optionals of a list that have one", "optional.unwrap(body.lots.map(lot, lot.?note))" => unwrap;
    "unwrapOpt" ["list(optional(A)).unwrapOpt() -> list(A)"]
        "the values of the optionals of a list that have one", "body.lots.map(lot, lot.?note).unwrapOpt()" => unwrap;
    "hasValue" ["optional(A).hasValue() -> bool"] "whether an optional contains a value", "body.?note.hasValue()" => has_value;
    "value" ["optional(A).value() -> A"] "the value of an optional; an error if it is empty", "body.?lot.value().id" => value;
    "or" ["optional(A).or(optional(A)) -> optional(A)"]
        "an optional, or another one if it is empty", "body.?lot.or(body.?batch)" => or;
    "orValue" ["optional(A).orValue(A) -> A"]
        "the value of an optional, or a default if it is empty", "body.?note.orValue('')" => or_value;
}

fn of(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [value] => Ok(Value::some(value.clone())),
        _ => Err(Fault::NoOverload),
    }
}

fn of_non_zero(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [value] if value.is_zero() => Ok(Value::none()),
        _ => of(call),
    }
}

fn none(_: &mut Call<'_>) -> Outcome {
    Ok(Value::none())
}

fn unwrap(call: &mut Call<'_>) -> Outcome {
    let [Value::List(list)] = call.arguments else { return Err(Fault::NoOverload) };
    call.budget.take_bytes(32 * list.len() as u64)?;
    let mut values = Vec::new();
    for member in list.iter() {
        match member {
            Value::Optional(Some(value)) => values.push((*value).clone()),
            Value::Optional(None) => {}
            other => return Err(EvalErrorKind::NotOptional(other.type_name()).into()),
        }
    }
    Ok(Value::list(values))
}

fn has_value(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Optional(value)] => Ok(Value::Bool(value.is_some())),
        _ => Err(Fault::NoOverload),
    }
}

fn value(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Optional(Some(value))] => Ok((**value).clone()),
        [Value::Optional(None)] => Err(EvalErrorKind::EmptyOptional.into()),
        _ => Err(Fault::NoOverload),
    }
}

fn or(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Optional(None), other @ Value::Optional(_)] => Ok(other.clone()),
        [value @ Value::Optional(Some(_)), Value::Optional(_)] => Ok(value.clone()),
        _ => Err(Fault::NoOverload),
    }
}

fn or_value(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::Optional(None), other] => Ok(other.clone()),
        [Value::Optional(Some(value)), _] => Ok((**value).clone()),
        _ => Err(Fault::NoOverload),
    }
}
