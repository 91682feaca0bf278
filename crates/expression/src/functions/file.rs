//! `file`.

use super::{Context, text};
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome};
use yieldtray_source::files::normalize;

/// The text of a file, or its bytes if it is not text. The path is relative to the folder of the expression's file,
/// and may not leave the workspace.
pub(super) fn file(context: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let path = text(call, 0)?;
    let reader = context.files.ok_or_else(|| Fault::message("cannot be used outside a workspace"))?;
    let inside = normalize(&reader.folder.join(path))
        .ok_or_else(|| Fault::message(format!("cannot read `{path}`: it is outside the workspace")))?;
    let bytes =
        reader.files.read_data(&inside).map_err(|found| Fault::message(format!("cannot read `{path}`: {found}")))?;
    call.budget.take_bytes(bytes.len() as u64)?;
    Ok(String::from_utf8(bytes).map_or_else(|error| Value::bytes(error.into_bytes()), Value::string))
}
