//! `file`.

use super::{Evaluated, error, text};
use crate::Value;
use crate::files::FileReader;
use cel::common::value::CowVal;
use yieldtray_source::files::normalize;

/// The text of a file, or its bytes if it is not text. The path is relative to the folder of the expression's file,
/// and may not leave the workspace.
pub(super) fn file<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let reader = arguments[0].downcast_ref::<FileReader>().expect("compiling puts the reader first");
    let path = text("file", &arguments[1..], 0)?;
    let inside = normalize(&reader.folder.join(path))
        .ok_or_else(|| error("file", format!("cannot read `{path}`: it lies outside the workspace")))?;
    let bytes =
        reader.files.read_data(&inside).map_err(|found| error("file", format!("cannot read `{path}`: {found}")))?;
    let value = String::from_utf8(bytes).map_or_else(|error| Value::bytes(error.into_bytes()), Value::text);
    Ok(CowVal::Owned(value.0.clone_as_boxed()))
}
