//! Errors of what cannot be compiled, in words.

use crate::error_text::{cannot_take, kind};
use yieldtray_cel as cel;
use yieldtray_cel::{CheckErrorKind, CompileErrorKind, SyntaxErrorKind, Type};
use yieldtray_source::{Code, Span, closest, join_words};

/// An error in an expression, its span counted from the expression's start.
#[derive(Clone, Debug, PartialEq)]
pub struct CompileError {
    /// The class of the problem.
    pub code: Code,
    /// The bytes at fault.
    pub span: Span,
    /// The message.
    pub message: String,
    /// How to correct it.
    pub hint: Option<String>,
    /// The likely replacement for the text at `span`.
    pub replacement: Option<String>,
}

impl CompileError {
    pub(crate) fn new(code: Code, span: Span, message: impl Into<String>, hint: Option<String>) -> Self {
        Self { code, span, message: message.into(), hint, replacement: None }
    }

    /// With another name that was probably meant.
    fn suggesting(mut self, name: Option<&str>) -> Self {
        self.hint = name.map(|name| format!("did you mean `{name}`?"));
        self.replacement = name.map(str::to_owned);
        self
    }

    /// An error of the library in words. `example` gives a call of a function as it should be.
    pub(crate) fn of(source: &str, error: &cel::CompileError, example: impl Fn(&str) -> Option<String>) -> Self {
        match &error.kind {
            CompileErrorKind::Syntax(kind) => syntax(source, error.span, kind),
            CompileErrorKind::Check(kind) => check(source, error.span, kind, example),
        }
    }
}

fn syntax(source: &str, span: Span, kind: &SyntaxErrorKind) -> CompileError {
    let found = span.of(source);
    let hint = match found {
        "=" => Some("write `==` to compare"),
        "and" => Some("write `&&`"),
        "or" => Some("write `||`"),
        "not" => Some("write `!`"),
        "&" => Some("write `&&` for and"),
        "|" => Some("write `||` for or"),
        _ if matches!(kind, SyntaxErrorKind::LineEnd) => Some("use three quotes for a string of several lines"),
        _ => None,
    };
    let message = match kind {
        SyntaxErrorKind::Expected { expected: "an expression", found } if found == "the end" => {
            "the expression ends too early".to_owned()
        }
        SyntaxErrorKind::Expected { expected, found } if found == "the end" => {
            format!("the expression ends too early: expected {expected}")
        }
        SyntaxErrorKind::Expected { expected, found } => format!("expected {expected} but found {found}"),
        other => other.to_string(),
    };
    CompileError::new(Code::BadExpression, span, message, hint.map(str::to_owned))
}

/// The function that has another name in other languages.
fn known_elsewhere(name: &str) -> Option<&'static str> {
    Some(match name {
        "len" | "length" | "count" => "size",
        "includes" | "has_key" => "contains",
        "starts_with" => "startsWith",
        "ends_with" => "endsWith",
        "toLowerCase" | "lowercase" => "lower",
        "toUpperCase" | "uppercase" => "upper",
        "strip" => "trim",
        "some" | "any" => "exists",
        "every" => "all",
        "parseInt" | "to_int" => "int",
        "toString" | "str" => "string",
        "md5" | "sha1" | "sha512" => "digest",
        _ => return None,
    })
}

fn check(source: &str, span: Span, error: &CheckErrorKind, example: impl Fn(&str) -> Option<String>) -> CompileError {
    let is = |found: &Type| kind(&found.to_string()).to_owned();
    match error {
        CheckErrorKind::UnknownName { name, suggestion } => {
            CompileError::new(Code::UnknownVariable, span, format!("no variable `{name}`"), None)
                .suggesting(suggestion.as_deref())
        }
        CheckErrorKind::UnknownFunction { name, suggestion } => {
            CompileError::new(Code::UnknownFunction, span, format!("no function `{name}`"), None)
                .suggesting(known_elsewhere(name).or(suggestion.as_deref()))
        }
        CheckErrorKind::ArgumentCount { name, found, takes, is_method } => {
            let hint = example(name).map(|example| format!("for example `{example}`"));
            let message = match takes.contains(found) {
                // The number is right, but not this way to call it.
                true if *is_method => format!("`{name}` is a function, not a method"),
                true => format!("`{name}` is a method: it is called on a value"),
                false => format!("`{name}` takes {}, but got {found}", counts(takes)),
            };
            CompileError::new(Code::WrongArguments, span, message, hint)
        }
        CheckErrorKind::NoOverload { function, arguments } => {
            let names: Vec<String> = arguments.iter().map(Type::to_string).collect();
            let example = || example(function).map(|example| format!("for example `{example}`"));
            let hint = match &arguments[..] {
                [left, right] if function.starts_with(['<', '>']) => reads_number(left, right),
                _ => example(),
            };
            CompileError::new(Code::MismatchedTypes, span, cannot_take(function, &names), hint)
        }
        CheckErrorKind::NeverEqual { left, right } => {
            let message = format!("{} never equals {}", is(left), is(right));
            CompileError::new(Code::MismatchedTypes, span, message, reads_number(left, right))
        }
        CheckErrorKind::NoMember { operand, member, known } => {
            let message =
                format!("`{}` has no member `{member}`; available: {}", operand.of(source), join_words(known));
            let meant = closest(member, known.iter().map(String::as_str));
            CompileError::new(Code::UnknownMember, span, message, None).suggesting(meant)
        }
        CheckErrorKind::NoMembers { operand, operand_type, member } => {
            let message = format!("`{}` is {}, so it has no `{member}`", operand.of(source), is(operand_type));
            CompileError::new(Code::UnknownMember, span, message, None)
        }
        CheckErrorKind::Condition(found) => {
            let message = format!("a condition must be true or false, but this is {}", is(found));
            CompileError::new(Code::MismatchedTypes, span, message, None)
        }
        CheckErrorKind::NotIterable(found) => {
            let message = format!("expected a list or a map but found {}", is(found));
            CompileError::new(Code::MismatchedTypes, span, message, None)
        }
        CheckErrorKind::NotOptional(found) => {
            let message = format!("expected an optional but found {}", is(found));
            let hint = "`?` is for members that may be missing, as in `{?'note': body.?note}`".to_owned();
            CompileError::new(Code::MismatchedTypes, span, message, Some(hint))
        }
        CheckErrorKind::KeyType(found) => {
            let message = format!("{} cannot be the key of a map", is(found));
            CompileError::new(Code::MismatchedTypes, span, message, None)
        }
        CheckErrorKind::UnknownType(name) => {
            let hint = "a map is written as `{'name': value}`".to_owned();
            CompileError::new(Code::BadExpression, span, format!("no type `{name}`"), Some(hint))
        }
        CheckErrorKind::Levels(limit) => {
            let message = format!("more than {limit} levels are nested, with those of the functions that it calls");
            CompileError::new(Code::BadExpression, span, message, Some("split it with `% let`".to_owned()))
        }
    }
}

/// How to compare a text with a number.
fn reads_number(left: &Type, right: &Type) -> Option<String> {
    let reads = match (left, right) {
        (Type::String, Type::Int) | (Type::Int, Type::String) => "int",
        (Type::String, Type::Double) | (Type::Double, Type::String) => "double",
        _ => return None,
    };
    Some(format!("use `{reads}(…)` to convert a string to a number, or remove the quotes of a literal"))
}

/// `2 arguments`, `1 or 2 arguments`
fn counts(takes: &[usize]) -> String {
    match takes {
        [0] => "no arguments".to_owned(),
        [1] => "1 argument".to_owned(),
        takes => {
            let numbers: Vec<String> = takes.iter().map(usize::to_string).collect();
            format!("{} arguments", numbers.join(" or "))
        }
    }
}
