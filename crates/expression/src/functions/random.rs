//! Functions that generate random values.

use super::{Context, wants};
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome};

pub(super) fn uuid(context: &Context<'_>, _: &mut Call<'_>) -> Outcome {
    let uuid = context.random.unique(|| {
        let bytes = context.random.draw(|rng| rng.u128(..)).to_be_bytes();
        uuid::Builder::from_random_bytes(bytes).into_uuid().to_string()
    });
    Ok(Value::string(uuid))
}

pub(super) fn now(context: &Context<'_>, _: &mut Call<'_>) -> Outcome {
    Ok(Value::Timestamp(context.random.now().to_utc()))
}

pub(super) fn random(context: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let end = |index: usize| match &call.arguments[index] {
        Value::Int(end) => Ok(*end),
        other => Err(wants("two integers", other)),
    };
    let (low, high) = (end(0)?, end(1)?);
    if low > high {
        return Err(Fault::message(format!("expects the lower bound first, but got {low} and {high}")));
    }
    Ok(Value::Int(context.random.draw(|rng| rng.i64(low..=high))))
}

pub(super) fn pick(context: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let list = call.arguments[0].as_list().ok_or_else(|| wants("a list", &call.arguments[0]))?;
    if list.is_empty() {
        return Err(Fault::message("cannot pick from an empty list"));
    }
    let index = context.random.draw(|rng| rng.usize(..list.len()));
    list.get(index).ok_or(Fault::NoOverload)
}
