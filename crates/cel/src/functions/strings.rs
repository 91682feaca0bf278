//! The strings extension library.

use super::{Call, Fault, Outcome, functions};
use crate::value::Value;

functions! { "strings":
    "charAt" ["string.charAt(int) -> string"]
        "the character at an index; empty at the end", "'gala'.charAt(0)" => char_at;
    "indexOf" ["string.indexOf(string) -> int", "string.indexOf(string, int) -> int"]
        "the first index of a substring, from an index on; -1 if absent", "body.id.indexOf('-')" => index_of;
    "lastIndexOf" ["string.lastIndexOf(string) -> int", "string.lastIndexOf(string, int) -> int"]
        "the last index of a substring, up to an index; -1 if absent", "url.lastIndexOf('/')" => last_index_of;
    "join" ["list(string).join() -> string", "list(string).join(string) -> string"]
        "joins strings with a separator", "body.varieties.join(', ')" => join;
    "lowerAscii" ["string.lowerAscii() -> string"]
        "converts ASCII letters to lower case", "headers['content-type'].lowerAscii()" => |call| map_text(call, str::to_ascii_lowercase);
    "upperAscii" ["string.upperAscii() -> string"]
        "converts ASCII letters to upper case", "body.grower.upperAscii()" => |call| map_text(call, str::to_ascii_uppercase);
    "replace" ["string.replace(string, string) -> string", "string.replace(string, string, int) -> string"]
        "replaces each occurrence, or the first N", "body.id.replace('L-', '')" => replace;
    "split" ["string.split(string) -> list(string)", "string.split(string, int) -> list(string)"]
        "splits a string at a separator, into at most N pieces", "body.tags.split(',')" => split;
    "substring" ["string.substring(int) -> string", "string.substring(int, int) -> string"]
        "the substring from an index on, or up to another", "body.id.substring(2)" => substring;
    "trim" ["string.trim() -> string"]
        "removes leading and trailing white space", "text.trim()" => |call| map_text(call, |text| text.trim().to_owned());
    "reverse" ["string.reverse() -> string", "list(A).reverse() -> list(A)"]
        "reverses a string or a list", "body.lots.reverse()[0]" => reverse;
    "strings.quote" ["strings.quote(string) -> string"]
        "quotes and escapes a string", "strings.quote(text)" => quote;
}

fn map_text(call: &mut Call<'_>, map: fn(&str) -> String) -> Outcome {
    let [Value::String(text)] = call.arguments else { return Err(Fault::NoOverload) };
    call.budget.take_bytes(text.len() as u64)?;
    Ok(Value::string(map(text)))
}

fn out_of_range(index: i64) -> Fault {
    Fault::message(format!("the index {index} is out of range"))
}

/// Where the character with an index begins, in bytes; the index may be one past the last.
fn byte_at(text: &str, index: i64) -> Result<usize, Fault> {
    let position = usize::try_from(index).map_err(|_| out_of_range(index))?;
    let starts = text.char_indices().map(|(at, _)| at).chain([text.len()]);
    starts.into_iter().nth(position).ok_or_else(|| out_of_range(index))
}

/// The index of the character that begins at a byte.
fn index_at(text: &str, byte: usize) -> Value {
    Value::Int(text[..byte].chars().count() as i64)
}

fn char_at(call: &mut Call<'_>) -> Outcome {
    let [Value::String(text), Value::Int(index)] = call.arguments else { return Err(Fault::NoOverload) };
    let at = byte_at(text, *index)?;
    Ok(Value::string(text[at..].chars().next().map(String::from).unwrap_or_default()))
}

fn index_of(call: &mut Call<'_>) -> Outcome {
    let (text, part, from) = match call.arguments {
        [Value::String(text), Value::String(part)] => (text, part, 0),
        [Value::String(text), Value::String(part), Value::Int(from)] => (text, part, byte_at(text, *from)?),
        _ => return Err(Fault::NoOverload),
    };
    Ok(text[from..].find(&**part).map_or(Value::Int(-1), |at| index_at(text, from + at)))
}

fn last_index_of(call: &mut Call<'_>) -> Outcome {
    let (text, part, latest) = match call.arguments {
        [Value::String(text), Value::String(part)] => (text, part, text.len()),
        [Value::String(text), Value::String(part), Value::Int(latest)] => (text, part, byte_at(text, *latest)?),
        _ => return Err(Fault::NoOverload),
    };
    let mut end = (latest + part.len()).min(text.len());
    while !text.is_char_boundary(end) {
        end -= 1;
    }
    Ok(text[..end].rfind(&**part).map_or(Value::Int(-1), |at| index_at(text, at)))
}

fn join(call: &mut Call<'_>) -> Outcome {
    let (list, separator) = match call.arguments {
        [Value::List(list)] => (list, ""),
        [Value::List(list), Value::String(separator)] => (list, &**separator),
        _ => return Err(Fault::NoOverload),
    };
    let mut joined = String::new();
    for (index, member) in list.iter().enumerate() {
        let text = member.as_str().ok_or(Fault::NoOverload)?;
        let separator = if index > 0 { separator } else { "" };
        call.budget.take_bytes((text.len() + separator.len()) as u64)?;
        joined.push_str(separator);
        joined.push_str(text);
    }
    Ok(Value::string(joined))
}

fn replace(call: &mut Call<'_>) -> Outcome {
    let (text, old, new, times) = match call.arguments {
        [Value::String(text), Value::String(old), Value::String(new)] => (text, old, new, usize::MAX),
        [Value::String(text), Value::String(old), Value::String(new), Value::Int(times)] => {
            (text, old, new, usize::try_from(*times).unwrap_or(usize::MAX))
        }
        _ => return Err(Fault::NoOverload),
    };
    let found = text.matches(&**old).count().min(times) as u64;
    let longer = (new.len() as u64).saturating_sub(old.len() as u64);
    call.budget.take_bytes(found.saturating_mul(longer).saturating_add(text.len() as u64))?;
    Ok(Value::string(text.replacen(&**old, new, times)))
}

fn split(call: &mut Call<'_>) -> Outcome {
    let (text, separator, limit) = match call.arguments {
        [Value::String(text), Value::String(separator)] => (text, separator, usize::MAX),
        [Value::String(text), Value::String(separator), Value::Int(limit)] => {
            (text, separator, usize::try_from(*limit).unwrap_or(usize::MAX))
        }
        _ => return Err(Fault::NoOverload),
    };
    let pieces: Vec<&str> = match separator.is_empty() {
        // Each character by itself; the last piece is the rest.
        true => {
            let starts: Vec<usize> = text.char_indices().map(|(at, _)| at).take(limit).collect();
            let ends = starts.iter().skip(1).copied().chain([text.len()]);
            starts.iter().zip(ends).map(|(start, end)| &text[*start..end]).collect()
        }
        false => text.splitn(limit, &**separator).collect(),
    };
    call.budget.take_bytes(text.len() as u64 + 32 * pieces.len() as u64)?;
    Ok(Value::List(pieces.into_iter().map(Value::from).collect()))
}

fn substring(call: &mut Call<'_>) -> Outcome {
    let (text, start, end) = match call.arguments {
        [Value::String(text), Value::Int(start)] => (text, *start, None),
        [Value::String(text), Value::Int(start), Value::Int(end)] => (text, *start, Some(*end)),
        _ => return Err(Fault::NoOverload),
    };
    if let Some(end) = end.filter(|end| *end < start) {
        return Err(Fault::message(format!("the end {end} is before the start {start}")));
    }
    let from = byte_at(text, start)?;
    let to = end.map_or(Ok(text.len()), |end| byte_at(text, end))?;
    call.budget.take_bytes((to - from) as u64)?;
    Ok(Value::string(&text[from..to]))
}

fn reverse(call: &mut Call<'_>) -> Outcome {
    match call.arguments {
        [Value::String(text)] => {
            call.budget.take_bytes(text.len() as u64)?;
            Ok(Value::string(text.chars().rev().collect::<String>()))
        }
        [Value::List(list)] => {
            call.budget.take_bytes(32 * list.len() as u64)?;
            Ok(Value::List(list.iter().rev().collect()))
        }
        _ => Err(Fault::NoOverload),
    }
}

fn quote(call: &mut Call<'_>) -> Outcome {
    let [Value::String(text)] = call.arguments else { return Err(Fault::NoOverload) };
    call.budget.take_bytes(2 * text.len() as u64 + 2)?;
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '\u{7}' => quoted.push_str("\\a"),
            '\u{8}' => quoted.push_str("\\b"),
            '\u{c}' => quoted.push_str("\\f"),
            '\n' => quoted.push_str("\\n"),
            '\r' => quoted.push_str("\\r"),
            '\t' => quoted.push_str("\\t"),
            '\u{b}' => quoted.push_str("\\v"),
            '\\' | '"' => quoted.extend(['\\', c]),
            c => quoted.push(c),
        }
    }
    quoted.push('"');
    Ok(Value::string(quoted))
}
