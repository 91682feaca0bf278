//! The functions of the standard library on texts and collections.

use super::regular_expressions::pattern;
use super::{Call, Fault, Outcome, functions};
use crate::value::Value;

functions! { "":
    "size" ["size(string) -> int", "size(bytes) -> int", "size(list(A)) -> int", "size(map(A, B)) -> int",
            "string.size() -> int", "bytes.size() -> int", "list(A).size() -> int", "map(A, B).size() -> int"]
        "the number of characters, bytes, elements or entries", "size(body.lots)" => size;
    "contains" ["string.contains(string) -> bool"]
        "whether a string contains another", "text.contains('gala')" => |call| text_test(call, |text, part| text.contains(part));
    "startsWith" ["string.startsWith(string) -> bool"]
        "whether a string starts with another", "body.id.startsWith('L-')" => |call| text_test(call, |text, part| text.starts_with(part));
    "endsWith" ["string.endsWith(string) -> bool"]
        "whether a string ends with another", "url.endsWith('/lots')" => |call| text_test(call, |text, part| text.ends_with(part));
    "matches" ["matches(string, string) -> bool", "string.matches(string) -> bool"]
        "whether a regular expression matches part of a string", "body.id.matches('^L-[0-9]+$')" => matches;
    "type" ["type(dyn) -> type"]
        "the type of a value", "type(body.bins) == int" => type_of;
    "dyn" ["dyn(A) -> dyn"]
        "the same value, exempt from type checks", "dyn(body.bins)" => dynamic;
}

fn size(call: &mut Call<'_>) -> Outcome {
    let size = match call.arguments {
        [Value::String(text)] => text.chars().count(),
        [Value::Bytes(bytes)] => bytes.len(),
        [Value::List(list)] => list.len(),
        [Value::Map(map)] => map.len(),
        _ => return Err(Fault::NoOverload),
    };
    Ok(Value::Int(size as i64))
}

fn text_test(call: &mut Call<'_>, test: fn(&str, &str) -> bool) -> Outcome {
    match call.arguments {
        [Value::String(text), Value::String(part)] => Ok(Value::Bool(test(text, part))),
        _ => Err(Fault::NoOverload),
    }
}

fn matches(call: &mut Call<'_>) -> Outcome {
    let [Value::String(text), Value::String(regex)] = call.arguments else { return Err(Fault::NoOverload) };
    Ok(Value::Bool(pattern(regex, call.budget)?.is_match(text)))
}

fn type_of(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [value] => Ok(Value::Type(value.type_name())),
        _ => Err(Fault::NoOverload),
    }
}

fn dynamic(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [value] => Ok(value.clone()),
        _ => Err(Fault::NoOverload),
    }
}
