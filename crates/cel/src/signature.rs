//! Signatures of functions: what they take, and the type of what they return.

use crate::types::Type;
use std::sync::Arc;

/// One way to call a function.
#[derive(Clone, Debug)]
pub struct Signature {
    /// The type of the value before the dot, for a method.
    pub receiver: Option<Type>,
    /// The types of the arguments.
    pub parameters: Vec<Type>,
    /// Whether the last parameter may be given any number of times, at least once.
    pub variadic: bool,
    /// The type of the result.
    pub result: Type,
}

impl Signature {
    /// Reads a signature as `string.split(string, int) -> list(string)` is written. `name` is the function's.
    ///
    /// # Panics
    /// If the text is not one: signatures are written by programmers.
    pub fn parse(name: &str, text: &str) -> Self {
        let wrong = || -> ! { panic!("`{text}` is not a signature of `{name}`") };
        let Some((before, rest)) = text.find(&format!("{name}(")).map(|at| (&text[..at], &text[at + name.len() + 1..]))
        else {
            wrong()
        };
        let Some((parameters, result)) = rest.rsplit_once(") -> ") else { wrong() };
        let receiver = before.strip_suffix('.').map(|receiver| parse_type(receiver).unwrap_or_else(|| wrong()));
        let variadic = parameters.ends_with("...");
        let parameters = split(parameters.trim_end_matches("..."));
        let parameters = parameters.into_iter().map(|parameter| parse_type(parameter).unwrap_or_else(|| wrong()));
        Self {
            receiver,
            parameters: parameters.collect(),
            variadic,
            result: parse_type(result).unwrap_or_else(|| wrong()),
        }
    }

    /// True if it can be called with this number of arguments, as a method or as a function.
    pub fn takes(&self, is_method: bool, arguments: usize) -> bool {
        let fits = if self.variadic { arguments >= self.parameters.len() } else { arguments == self.parameters.len() };
        self.receiver.is_some() == is_method && fits
    }

    /// The type of the result for arguments of these types, the receiver first; none if they do not fit.
    pub(crate) fn result_for(&self, arguments: &[Type]) -> Option<Type> {
        let mut bound: [Type; 4] = [const { Type::Open }; 4];
        let last = self.parameters.last().into_iter().cycle();
        let mut parameters = self.receiver.iter().chain(&self.parameters).chain(last);
        for argument in arguments {
            let parameter = parameters.next()?;
            if !bind(parameter, argument, &mut bound) {
                return None;
            }
        }
        Some(substitute(&self.result, &bound))
    }
}

/// Whether an argument fits a parameter; the types in the place of the parameter's own are added to `bound`.
fn bind(parameter: &Type, argument: &Type, bound: &mut [Type; 4]) -> bool {
    match (parameter, argument) {
        (Type::Parameter(number), argument) => {
            let own = &mut bound[usize::from(*number) % 4];
            *own = own.join(argument);
            true
        }
        (Type::List(parameter), Type::List(argument)) | (Type::Optional(parameter), Type::Optional(argument)) => {
            bind(parameter, argument, bound)
        }
        (Type::Map(pk, pv), Type::Map(ak, av)) => bind(pk, ak, bound) && bind(pv, av, bound),
        (Type::Opaque(a, of), Type::Opaque(b, by)) if a == b && of.len() == by.len() => {
            of.iter().zip(by.iter()).all(|(parameter, argument)| bind(parameter, argument, bound))
        }
        (Type::List(parameter) | Type::Optional(parameter), argument) if argument.is_dyn() => {
            bind(parameter, &Type::Dyn, bound)
        }
        (Type::Map(key, value), argument) if argument.is_dyn() || matches!(argument, Type::Record(_)) => {
            bind(key, &Type::Dyn, bound) && bind(value, &Type::Dyn, bound)
        }
        (parameter, argument) => argument.fits(parameter),
    }
}

fn substitute(result: &Type, bound: &[Type; 4]) -> Type {
    let inner = |part: &Arc<Type>| Arc::new(substitute(part, bound));
    match result {
        Type::Parameter(number) => bound[usize::from(*number) % 4].clone(),
        Type::List(member) => Type::List(inner(member)),
        Type::Optional(value) => Type::Optional(inner(value)),
        Type::Map(key, value) => Type::Map(inner(key), inner(value)),
        Type::Opaque(name, parts) => {
            Type::Opaque(Arc::clone(name), parts.iter().map(|part| substitute(part, bound)).collect())
        }
        other => other.clone(),
    }
}

/// The parts of a list between commas that are not in brackets.
fn split(text: &str) -> Vec<&str> {
    let (mut parts, mut depth, mut start) = (Vec::new(), 0, 0);
    for (at, c) in text.char_indices() {
        match c {
            '(' => depth += 1,
            ')' => depth -= 1,
            ',' if depth == 0 => {
                parts.push(text[start..at].trim());
                start = at + 1;
            }
            _ => {}
        }
    }
    if !text.trim().is_empty() {
        parts.push(text[start..].trim());
    }
    parts
}

fn parse_type(text: &str) -> Option<Type> {
    if let Some((name, parts)) = text.strip_suffix(')').and_then(|text| text.split_once('(')) {
        let parts: Option<Vec<Type>> = split(parts).into_iter().map(parse_type).collect();
        return Some(match (name, &parts?[..]) {
            ("list", [member]) => Type::list(member.clone()),
            ("optional", [value]) => Type::optional(value.clone()),
            ("map", [key, value]) => Type::Map(Arc::new(key.clone()), Arc::new(value.clone())),
            (name, parts) => Type::Opaque(name.into(), parts.into()),
        });
    }
    Some(match text {
        "dyn" => Type::Dyn,
        "null" => Type::Null,
        "bool" => Type::Bool,
        "int" => Type::Int,
        "uint" => Type::Uint,
        "double" => Type::Double,
        "string" => Type::String,
        "bytes" => Type::Bytes,
        "timestamp" => Type::Timestamp,
        "duration" => Type::Duration,
        "type" => Type::Type,
        "A" => Type::Parameter(0),
        "B" => Type::Parameter(1),
        "C" => Type::Parameter(2),
        "D" => Type::Parameter(3),
        "" => return None,
        name => Type::Opaque(name.into(), Arc::new([])),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn signatures_are_read_and_matched() {
        let slice = Signature::parse("slice", "list(A).slice(int, int) -> list(A)");
        assert!(slice.takes(true, 2) && !slice.takes(false, 3) && !slice.takes(true, 1));
        let result = slice.result_for(&[Type::list(Type::String), Type::Int, Type::Dyn]);
        assert_eq!(result.map(|result| result.to_string()).as_deref(), Some("list(string)"));
        assert!(slice.result_for(&[Type::String, Type::Int, Type::Int]).is_none());
        let greatest = Signature::parse("math.greatest", "math.greatest(int...) -> int");
        assert!(greatest.takes(false, 4) && !greatest.takes(false, 0));
        assert!(greatest.result_for(&[Type::Int, Type::Double]).is_none());
        let or = Signature::parse("or", "optional(A).or(optional(A)) -> optional(A)");
        let result = or.result_for(&[Type::optional(Type::Open), Type::optional(Type::Int)]);
        assert_eq!(result.map(|result| result.to_string()).as_deref(), Some("optional(int)"));
    }
}
