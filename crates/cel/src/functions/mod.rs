//! Functions: how they are described and called, and those of the standard and extension libraries.

mod conversions;
mod encoders;
mod format;
mod lists;
mod math;
mod network;
mod optionals;
mod regular_expressions;
mod sets;
mod standard;
mod strings;
mod times;

#[cfg(test)]
mod tests;

pub(crate) use lists::sorted;
pub use regular_expressions::{PatternError, pattern};
pub use times::in_zone;

use crate::budget::{Budget, LimitExceeded};
use crate::eval_error::EvalErrorKind;
use crate::signature::Signature;
use crate::value::Value;
use rustc_hash::FxHashMap;
use std::sync::{LazyLock, OnceLock};

/// A function of the standard library or of an extension library.
pub struct Function {
    /// Its name, with the name space before it: `math.greatest`.
    pub name: &'static str,
    /// The ways to call it, as `string.contains(string) -> bool`.
    pub signatures: &'static [&'static str],
    /// Its result, in a line.
    pub help: &'static str,
    /// An example of a call.
    pub example: &'static str,
    /// The library: empty for the standard library.
    pub library: &'static str,
    operation: Operation,
    parsed: OnceLock<Box<[Signature]>>,
}

/// The code of a function.
type Operation = fn(&mut Call<'_>) -> Outcome;

/// The result of a call.
pub type Outcome = Result<Value, Fault>;

/// The arguments of a call, and what it may take.
pub struct Call<'a> {
    /// The arguments, for a method with the receiver first.
    pub arguments: &'a [Value],
    /// The part of the limits of the evaluation that is left.
    pub budget: &'a mut Budget,
}

/// Why a call has no result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// The function does not take arguments of these types.
    NoOverload,
    /// A message of the function.
    Message(String),
    /// Any other error.
    Kind(EvalErrorKind),
}

impl Fault {
    /// An error with a message.
    pub fn message(message: impl ToString) -> Self {
        Fault::Message(message.to_string())
    }
}

impl From<LimitExceeded> for Fault {
    fn from(exceeded: LimitExceeded) -> Self {
        Fault::Kind(exceeded.into())
    }
}

impl From<EvalErrorKind> for Fault {
    fn from(kind: EvalErrorKind) -> Self {
        Fault::Kind(kind)
    }
}

impl Function {
    /// The ways to call it.
    pub fn parsed_signatures(&self) -> &[Signature] {
        self.parsed.get_or_init(|| self.signatures.iter().map(|text| Signature::parse(self.name, text)).collect())
    }

    /// Calls it.
    ///
    /// # Errors
    /// Why there is no result.
    pub fn call(&self, mut call: Call<'_>) -> Outcome {
        (self.operation)(&mut call)
    }
}

/// Declares functions: name, ways to call it, result, example, and what is called.
macro_rules! functions {
    ($library:literal: $($name:literal [$($signature:literal),+] $help:literal, $example:literal => $operation:expr;)+) => {
        pub(super) static FUNCTIONS: [crate::functions::Function; [$($name),+].len()] = [$(crate::functions::Function {
            name: $name,
            signatures: &[$($signature),+],
            help: $help,
            example: $example,
            library: $library,
            operation: $operation,
            parsed: std::sync::OnceLock::new(),
        },)+];
    };
}
use functions;

static LIBRARIES: [&[Function]; 12] = [
    &standard::FUNCTIONS,
    &conversions::FUNCTIONS,
    &times::FUNCTIONS,
    &strings::FUNCTIONS,
    &format::FUNCTIONS,
    &math::FUNCTIONS,
    &lists::FUNCTIONS,
    &sets::FUNCTIONS,
    &encoders::FUNCTIONS,
    &optionals::FUNCTIONS,
    &regular_expressions::FUNCTIONS,
    &network::FUNCTIONS,
];

/// The functions of the standard and extension libraries, by library.
pub fn library() -> impl Iterator<Item = &'static Function> {
    LIBRARIES.iter().flat_map(|library| library.iter())
}

/// The function of a name.
pub fn function(name: &str) -> Option<&'static Function> {
    static BY_NAME: LazyLock<FxHashMap<&'static str, &'static Function>> =
        LazyLock::new(|| library().map(|function| (function.name, function)).collect());
    BY_NAME.get(name).copied()
}

/// Macros: they look like functions, but what is in them is not evaluated before them. Each has its name, how it is
/// called, its result in a line, and an example.
pub const MACROS: &[(&str, &str, &str, &str)] = &[
    ("has", "has(map.member)", "whether a map has a member", "has(body.closed_at)"),
    (
        "all",
        "list.all(x, condition)",
        "whether a condition is true for every element",
        "body.lots.all(lot, lot.bins > 0)",
    ),
    (
        "exists",
        "list.exists(x, condition)",
        "whether a condition is true for at least one element",
        "body.lots.exists(lot, lot.id == 'L-1')",
    ),
    (
        "exists_one",
        "list.exists_one(x, condition)",
        "whether a condition is true for exactly one element",
        "body.lots.exists_one(lot, lot.open)",
    ),
    (
        "existsOne",
        "list.existsOne(index, x, condition)",
        "the same as `exists_one`; like `all` and `exists` it can bind index and element, or key and value",
        "body.lots.existsOne(index, lot, lot.open && index > 0)",
    ),
    ("map", "list.map(x, value)", "the results of an expression for each element", "body.lots.map(lot, lot.id)"),
    (
        "filter",
        "list.filter(x, condition)",
        "the elements for which a condition is true",
        "body.lots.filter(lot, lot.open)",
    ),
    (
        "transformList",
        "list.transformList(index, x, value)",
        "the results of an expression for each index or key and its value",
        "body.bins.transformList(row, count, count > 0, row)",
    ),
    (
        "transformMap",
        "map.transformMap(key, x, value)",
        "a map with the same keys and the result of an expression for each",
        "body.bins.transformMap(row, count, count * 2)",
    ),
    (
        "transformMapEntry",
        "list.transformMapEntry(index, x, {key: value})",
        "a map of the entries that an expression returns for each",
        "body.lots.transformMapEntry(index, lot, {lot.id: lot.bins})",
    ),
    (
        "sortBy",
        "list.sortBy(x, key)",
        "a list sorted by the result of an expression for each element",
        "body.lots.sortBy(lot, lot.bins)",
    ),
    (
        "optMap",
        "optional.optMap(x, value)",
        "the result of an expression for the value of an optional",
        "body.?lot.optMap(lot, lot.id)",
    ),
    (
        "optFlatMap",
        "optional.optFlatMap(x, optional)",
        "the optional that an expression returns for the value of an optional",
        "body.?lot.optFlatMap(lot, lot.?id)",
    ),
    (
        "cel.bind",
        "cel.bind(name, value, result)",
        "evaluates an expression with a local name for a value",
        "cel.bind(lot, body.lots[0], lot.bins > lot.kg)",
    ),
];
