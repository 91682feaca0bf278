//! Functions that generate random values.

use super::{Evaluated, error};
use crate::random::RandomSource;
use crate::value::kind;
use cel::common::types::{CelInt, CelList, CelString, CelTimestamp};
use cel::common::value::CowVal;

/// The hidden first argument.
pub(super) fn source<'a>(arguments: &'a [CowVal<'_, '_>]) -> &'a RandomSource {
    arguments[0].downcast_ref::<RandomSource>().expect("compiling puts the source first")
}

pub(super) fn uuid<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let made = source(&arguments);
    let uuid = made.unique(|| {
        let bytes = made.draw(|rng| rng.u128(..)).to_be_bytes();
        uuid::Builder::from_random_bytes(bytes).into_uuid().to_string()
    });
    Ok(CowVal::owned(CelString::from(uuid)))
}

pub(super) fn now<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    Ok(CowVal::owned(CelTimestamp::from(source(&arguments).now())))
}

pub(super) fn random<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let end = |index: usize| {
        arguments[index].downcast_ref::<CelInt>().map(|end| *end.inner()).ok_or_else(|| {
            error("random", format!("wants two integers, but got {}", kind(&*arguments[index]).describe()))
        })
    };
    let (low, high) = (end(1)?, end(2)?);
    if low > high {
        return Err(error("random", format!("wants the lower end first, but got {low} and {high}")));
    }
    Ok(CowVal::owned(CelInt::from(source(&arguments).draw(|rng| rng.i64(low..=high)))))
}

pub(super) fn pick<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let list = arguments[1]
        .downcast_ref::<CelList<'v>>()
        .ok_or_else(|| error("pick", format!("wants a list, but got {}", kind(&*arguments[1]).describe())))?
        .inner();
    if list.is_empty() {
        return Err(error("pick", "has nothing to pick from: the list is empty"));
    }
    let index = source(&arguments).draw(|rng| rng.usize(..list.len()));
    Ok(CowVal::Owned(list[index].clone_as_boxed()))
}

/// Counts a step of a loop and the bytes of its result; returns the second argument.
pub(super) fn step<'b, 'v>(mut arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let made = source(&arguments);
    if !made.take_step() {
        let message = "the expression takes too many steps: its loops stand inside each other, or run over too much";
        return Err(error("", message));
    }
    if !made.take_bytes(&*arguments[1]) {
        return Err(error("", made.too_large()));
    }
    Ok(arguments.swap_remove(1))
}
