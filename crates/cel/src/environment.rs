//! The names, functions and values that the host gives to expressions.

use crate::functions::{Call, Outcome};
use crate::program::UserFunction;
use crate::signature::Signature;
use crate::types::Type;
use crate::value::Value;
use std::sync::Arc;

/// The names and functions that expressions may use, known before they are evaluated.
pub trait Environment {
    /// The type of a name; `None` if it is unknown.
    fn name(&self, name: &str) -> Option<Type>;

    /// Whether names or functions of the host begin with this name and a dot.
    fn is_name_space(&self, _name: &str) -> bool {
        false
    }

    /// Whether a name that is not known may have a value nevertheless.
    fn is_open(&self) -> bool {
        true
    }

    /// The names that are known, for suggestions.
    fn names(&self) -> Vec<String> {
        Vec::new()
    }

    /// A function of the host.
    fn function(&self, _name: &str) -> Option<HostFunction<'_>> {
        None
    }

    /// A function that is itself an expression.
    fn user_function(&self, _name: &str) -> Option<Arc<UserFunction>> {
        None
    }

    /// The names of the host's functions and of those that are expressions, for suggestions.
    fn function_names(&self) -> Vec<String> {
        Vec::new()
    }

    /// The name space in which names are looked up first (langdef, "Name Resolution").
    fn container(&self) -> &str {
        ""
    }
}

/// An environment without names and functions of its own, in which any name may have a value.
pub struct Open;

impl Environment for Open {
    fn name(&self, _: &str) -> Option<Type> {
        None
    }
}

/// A function of the host.
#[derive(Clone, Copy, Debug)]
pub struct HostFunction<'a> {
    /// The number by which it is called: [`Activation::call`].
    pub id: usize,
    /// The ways to call it.
    pub signatures: &'a [Signature],
}

/// The values and functions of one evaluation.
pub trait Activation {
    /// The value of a name.
    fn value(&self, name: &str) -> Option<Value>;

    /// Calls a function of the host. For a method the receiver is the first argument.
    ///
    /// # Errors
    /// Why there is no result.
    fn call(&self, id: usize, call: Call<'_>) -> Outcome;
}

/// No values and no functions.
pub struct Nothing;

impl Activation for Nothing {
    fn value(&self, _: &str) -> Option<Value> {
        None
    }

    fn call(&self, _: usize, _: Call<'_>) -> Outcome {
        Err(crate::functions::Fault::NoOverload)
    }
}
