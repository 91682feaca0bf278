//! `format_time`.

use super::{Context, made, text, wants};
use chrono::format::{Item, StrftimeItems};
use std::fmt::Write as _;
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome, in_zone};

pub(super) fn format_time(_: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let Value::Timestamp(time) = &call.arguments[0] else { return Err(wants("a timestamp first", &call.arguments[0])) };
    let format = text(call, 1)?;
    let time = match call.arguments.len() {
        2 => time.fixed_offset(),
        _ => in_zone(time, text(call, 2)?)?,
    };
    if StrftimeItems::new(format).any(|item| matches!(item, Item::Error)) {
        return Err(Fault::message(format!("invalid time format `{format}`; for example `%Y-%m-%d`")));
    }
    // Each part is short, but there may be many of them.
    call.budget.take_bytes(16 * format.len() as u64)?;
    let mut written = String::new();
    write!(written, "{}", time.format(format)).map_err(|_| Fault::message("cannot format this time"))?;
    made(call, written)
}
