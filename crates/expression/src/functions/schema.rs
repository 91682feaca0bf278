//! `conforms`.

use super::{Evaluated, error, text};
use crate::Value;
use crate::files::FileReader;
use cel::common::types::CelBool;
use cel::common::value::{CowVal, Val};

/// True if a value conforms to the JSON Schema in a file, whose path is relative to the folder of the expression's
/// file.
pub(super) fn conforms<'b, 'v>(arguments: Vec<CowVal<'b, 'v>>) -> Evaluated<'b, 'v> {
    let reader = arguments[0].downcast_ref::<FileReader>().expect("compiling puts the reader first");
    let path = text("conforms", &arguments[1..], 1)?;
    let schema = reader.schema(path).map_err(|why| error("conforms", why))?;
    let value = Value::copy_of(&*arguments[1]).to_json();
    Ok(CowVal::owned(CelBool::from(schema.is_valid(value))))
}

/// The violations by the first argument of the schema that the second names, for a failed check.
pub(crate) fn violations(reader: &dyn Val, value: &dyn Val, path: &dyn Val) -> Vec<String> {
    let path = path.downcast_ref::<cel::common::types::CelString<'_>>();
    let (Some(reader), Some(path)) = (reader.downcast_ref::<FileReader>(), path) else { return Vec::new() };
    match reader.schema(path.inner()) {
        Ok(schema) => schema.violations(Value::copy_of(value).to_json()),
        Err(_) => Vec::new(),
    }
}
