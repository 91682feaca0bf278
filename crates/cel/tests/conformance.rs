//! The tests of the specification, from its own data, which `npm ci` in `tests/conformance` fetches. Nothing of it is in
//! this repository.
//!
//! Tests of protocol buffers, which are not built here, are left out as a whole. All others that are left out are listed by
//! name in `tests/conformance/left_out.txt`, with the reason; a test that is listed and passes is an error too.
#![cfg(feature = "conformance")]

use base64::Engine as _;
use serde_json::Value as Json;
use std::collections::HashMap;
use std::path::Path;
use std::process::Command;
use yieldtray_cel::functions::{Call, Fault, Outcome};
use yieldtray_cel::{
    Activation, Environment, HostFunction, Key, Limits, Map, Program, Signature, Type, Value, type_name,
};

/// The names and functions of a test.
struct Names {
    container: String,
    types: HashMap<String, Type>,
    values: HashMap<String, Value>,
    functions: Vec<(String, Vec<Signature>)>,
}

impl Environment for Names {
    fn name(&self, name: &str) -> Option<Type> {
        self.types.get(name).cloned()
    }

    fn is_name_space(&self, name: &str) -> bool {
        self.types.keys().any(|known| known.strip_prefix(name).is_some_and(|rest| rest.starts_with('.')))
    }

    fn is_open(&self) -> bool {
        false
    }

    fn function(&self, name: &str) -> Option<HostFunction<'_>> {
        let id = self.functions.iter().position(|(known, _)| known == name)?;
        Some(HostFunction { id, signatures: &self.functions[id].1 })
    }

    fn container(&self) -> &str {
        &self.container
    }
}

impl Activation for Names {
    fn value(&self, name: &str) -> Option<Value> {
        self.values.get(name).cloned()
    }

    fn call(&self, _: usize, _: Call<'_>) -> Outcome {
        Err(Fault::NoOverload)
    }
}

fn text<'j>(json: &'j Json, member: &str) -> &'j str {
    json[member].as_str().unwrap_or_default()
}

fn members<'j>(json: &'j Json, member: &str) -> &'j [Json] {
    json[member].as_array().map_or(&[], Vec::as_slice)
}

/// A value as the data writes it; none for a message.
fn value(json: &Json) -> Option<Value> {
    let (kind, inner) = json.as_object()?.iter().next()?;
    let digits = || inner.as_str().unwrap_or_default();
    Some(match kind.as_str() {
        "nullValue" => Value::Null,
        "boolValue" => Value::Bool(inner.as_bool()?),
        "int64Value" => Value::Int(digits().parse().ok()?),
        "uint64Value" => Value::Uint(digits().parse().ok()?),
        "doubleValue" => Value::Double(match inner.as_f64() {
            Some(number) => number,
            None => digits().parse().ok()?,
        }),
        "stringValue" => Value::from(digits()),
        "bytesValue" => Value::bytes(base64::engine::general_purpose::STANDARD.decode(digits()).ok()?),
        "typeValue" => Value::Type(type_name(digits())?),
        "listValue" => Value::list(members(inner, "values").iter().map(value).collect::<Option<_>>()?),
        "mapValue" => {
            let entry = |entry: &Json| Some((Key::from_value(&value(&entry["key"])?)?, value(&entry["value"])?));
            Value::Map(members(inner, "entries").iter().map(entry).collect::<Option<Map>>()?)
        }
        "objectValue" => match text(inner, "@type").strip_prefix("type.googleapis.com/google.protobuf.")? {
            kind @ ("Timestamp" | "Duration") => {
                let call = format!("{}({:?})", kind.to_lowercase(), text(inner, "value"));
                let (program, _) = Program::compile(&call, &yieldtray_cel::Open);
                program.evaluate(&yieldtray_cel::Nothing, Limits::default(), None).ok()?
            }
            "BytesValue" => value(&serde_json::json!({ "bytesValue": inner["value"] }))?,
            "UInt32Value" | "UInt64Value" => {
                Value::Uint(inner["value"].as_u64().or_else(|| text(inner, "value").parse().ok())?)
            }
            "Int64Value" => Value::Int(text(inner, "value").parse().ok()?),
            "FloatValue" | "DoubleValue" => Value::Double(inner["value"].as_f64()?),
            "Value" if inner["value"].is_number() => Value::Double(inner["value"].as_f64()?),
            "Int32Value" | "BoolValue" | "StringValue" | "Value" | "Struct" => Value::from_json(&inner["value"]),
            // Its numbers are doubles.
            "ListValue" => Value::from_json(&inner["value"]),
            _ => return None,
        },
        _ => return None,
    })
}

/// A type as the data writes it; none for one of a message.
fn type_of(json: &Json) -> Option<Type> {
    let (kind, inner) = json.as_object()?.iter().next()?;
    let word = inner.as_str().unwrap_or_default();
    Some(match (kind.as_str(), word) {
        ("dyn", _) | ("wellKnown", "ANY") | ("messageType", "google.protobuf.Value") => Type::Dyn,
        ("messageType", "google.protobuf.Timestamp") => Type::Timestamp,
        ("messageType", "google.protobuf.Duration") => Type::Duration,
        ("messageType", "google.protobuf.Struct") => Type::map(Type::Dyn),
        ("messageType", "google.protobuf.ListValue") => Type::list(Type::Dyn),
        ("messageType", name) => {
            let wrapped = name.strip_prefix("google.protobuf.")?.strip_suffix("Value")?.to_uppercase();
            let wrapped = match &*wrapped {
                "INT32" => "INT64",
                "UINT32" => "UINT64",
                "FLOAT" => "DOUBLE",
                other => other,
            };
            Type::Nullable(type_of(&serde_json::json!({ "primitive": wrapped }))?.into())
        }
        ("null", _) => Type::Null,
        ("primitive", "BOOL") => Type::Bool,
        ("primitive", "INT64") => Type::Int,
        ("primitive", "UINT64") => Type::Uint,
        ("primitive", "DOUBLE") => Type::Double,
        ("primitive", "STRING") => Type::String,
        ("primitive", "BYTES") => Type::Bytes,
        ("wellKnown", "TIMESTAMP") => Type::Timestamp,
        ("wellKnown", "DURATION") => Type::Duration,
        ("type", _) => Type::Type,
        ("wrapper", _) => Type::Nullable(type_of(&serde_json::json!({ "primitive": word }))?.into()),
        ("listType", _) => Type::list(type_of(&inner["elemType"])?),
        ("mapType", _) => Type::Map(type_of(&inner["keyType"])?.into(), type_of(&inner["valueType"])?.into()),
        ("typeParam", name) => Type::Parameter(name.bytes().next_back()?.wrapping_sub(b'T') % 4),
        ("abstractType", _) => {
            let parts: Vec<Type> = members(inner, "parameterTypes").iter().map(type_of).collect::<Option<_>>()?;
            match (text(inner, "name"), &parts[..]) {
                ("optional_type", [part]) => Type::optional(part.clone()),
                (name, parts) => Type::Opaque(name.into(), parts.into()),
            }
        }
        _ => return None,
    })
}

/// Whether a test is about protocol buffers.
fn needs_protocol_buffers(test: &Json) -> bool {
    let path = text(test, "path");
    let all = test.to_string();
    let messages = ["TestAllTypes", "NestedTestAllTypes", "cel.expr.conformance", "TestRequired", "GlobalEnum"];
    let wrappers = ["Any", "Struct", "Value", "ListValue", "FieldMask", "Empty"];
    let wrappers = wrappers.iter().map(|name| format!("google.protobuf.{name}"));
    let numbers = ["Bool", "Bytes", "Double", "Float", "Int32", "Int64", "String", "UInt32", "UInt64"];
    let numbers = numbers.iter().map(|name| format!("google.protobuf.{name}Value"));
    path.starts_with("enums/")
        || text(test, "container") == "google.protobuf"
        || messages.iter().any(|name| all.contains(name))
        || wrappers.chain(numbers).any(|name| text(test, "expr").contains(&name))
}

fn names(test: &Json) -> Option<Names> {
    let mut names = Names {
        container: text(test, "container").to_owned(),
        types: HashMap::new(),
        values: HashMap::new(),
        functions: Vec::new(),
    };
    for declared in members(test, "typeEnv") {
        let name = text(declared, "name").to_owned();
        if declared["ident"].is_object() {
            names.types.insert(name, type_of(&declared["ident"]["type"])?);
        } else {
            let signature = |overload: &Json| {
                let parameters = members(overload, "params").iter().map(type_of).collect::<Option<_>>()?;
                Some(Signature {
                    receiver: None,
                    parameters,
                    variadic: false,
                    result: type_of(&overload["resultType"])?,
                })
            };
            let overloads = members(&declared["function"], "overloads");
            names.functions.push((name, overloads.iter().map(signature).collect::<Option<_>>()?));
        }
    }
    for (name, bound) in test["bindings"].as_object().into_iter().flatten() {
        names.values.insert(name.clone(), value(&bound["value"])?);
        names.types.entry(name.clone()).or_insert(Type::Dyn);
    }
    Some(names)
}

/// Why a test fails.
fn run(test: &Json) -> Result<(), String> {
    let names = names(test).ok_or("its names cannot be read")?;
    let (program, errors) = Program::compile(text(test, "expr"), &names);
    let is_checked = test["disableCheck"].as_bool() != Some(true);
    let expects_error = test["evalError"].is_object();
    if is_checked && !errors.is_empty() && !expects_error {
        return Err(format!("it does not compile: {}", errors[0]));
    }
    let typed = &test["typedResult"];
    if typed["deducedType"].is_object() {
        let expected = type_of(&typed["deducedType"]).ok_or("its type cannot be read")?;
        if program.result_type().to_string() != expected.to_string() {
            return Err(format!("its type is {}, not {expected}", program.result_type()));
        }
    }
    let expected = match (&test["value"], &typed["result"]) {
        (Json::Null, Json::Null) if test["checkOnly"].as_bool() == Some(true) || typed.is_object() => return Ok(()),
        (Json::Null, Json::Null) => Value::Bool(true),
        (Json::Null, expected) | (expected, _) => value(expected).ok_or("its value cannot be read")?,
    };
    match program.evaluate(&names, Limits::default(), None) {
        Err(_) if expects_error => Ok(()),
        Ok(found) if expects_error => Err(format!("it is {found:?} instead of an error")),
        Err(error) => Err(format!("it fails: {error}")),
        Ok(found) => {
            let is_nan = |value: &Value| matches!(value, Value::Double(number) if number.is_nan());
            let same =
                found.type_name() == expected.type_name() && found == expected || is_nan(&found) && is_nan(&expected);
            if same { Ok(()) } else { Err(format!("it is {found:?} instead of {expected:?}")) }
        }
    }
}

#[test]
fn the_tests_of_the_specification_pass() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/conformance");
    let output = Command::new("node").arg("tests.mjs").current_dir(&folder).output().expect("node runs");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let tests: Vec<Json> = serde_json::from_slice(&output.stdout).expect("JSON");
    let left_out = std::fs::read_to_string(folder.join("left_out.txt")).expect("the list of what is left out");
    let left_out: HashMap<&str, &str> = left_out.lines().filter_map(|line| line.split_once(": ")).collect();

    let (mut passed, mut protocol_buffers) = (0_usize, 0_usize);
    let mut problems: Vec<String> = Vec::new();
    let mut seen = 0_usize;
    for test in &tests {
        let path = text(test, "path");
        let listed = left_out.get(path);
        seen += usize::from(listed.is_some());
        if listed.is_none() && needs_protocol_buffers(test) {
            protocol_buffers += 1;
            continue;
        }
        match (run(test), listed) {
            (Ok(()), None) => passed += 1,
            (Err(_), Some(_)) => {}
            (Ok(()), Some(_)) => problems.push(format!("{path} passes, but is listed as left out")),
            (Err(why), None) => problems.push(format!("{path}: {}: {why}", text(test, "expr"))),
        }
    }
    if seen != left_out.len() {
        problems.push(format!("{} tests are listed as left out, but {seen} of them exist", left_out.len()));
    }
    assert!(problems.is_empty(), "{} problems:\n{}", problems.len(), problems.join("\n"));
    // docs/language.md has the same numbers.
    assert_eq!((tests.len(), passed, left_out.len(), protocol_buffers), (2344, 1664, 4, 676));
}
