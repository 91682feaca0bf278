//! `conforms`.

use super::{Context, text};
use crate::files::FileReader;
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome};

/// True if a value conforms to the JSON Schema in a file, whose path is relative to the folder of the expression's
/// file.
pub(super) fn conforms(context: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let path = text(call, 1)?;
    let reader = context.files.ok_or_else(|| Fault::message("cannot be used outside a workspace"))?;
    call.budget.take_all_of(&call.arguments[0])?;
    let schema = reader.schema(path).map_err(Fault::message)?;
    Ok(Value::Bool(schema.is_valid(call.arguments[0].to_json())))
}

/// The violations by a value of the schema at a path, for a failed check.
pub(crate) fn violations(reader: Option<&FileReader>, value: &Value, path: &Value) -> Vec<String> {
    let (Some(reader), Some(path)) = (reader, path.as_str()) else { return Vec::new() };
    match reader.schema(path) {
        Ok(schema) => schema.violations(value.to_json()),
        Err(_) => Vec::new(),
    }
}
