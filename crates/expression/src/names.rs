//! The names that the language gives.

use std::sync::Arc;
use yieldtray_cel::functions::{MACROS, function};
use yieldtray_cel::{Schema, Type, type_name};

/// Whether the Common Expression Language itself has a function or macro of that name.
pub fn is_builtin(name: &str) -> bool {
    function(name).is_some() || MACROS.iter().any(|(known, ..)| *known == name)
}

/// True if it is the name of a type: `type(x) == int`.
pub fn is_type_name(name: &str) -> bool {
    type_name(name).is_some()
}

/// The type of a name that the language gives; none for one that it does not know.
pub(crate) fn type_of(name: &str) -> Option<Type> {
    Some(match name {
        "status" | "size" => Type::Int,
        "reason" | "text" | "url" => Type::String,
        "headers" | "cookies" | "env" => Type::map(Type::String),
        "elapsed" => Type::Duration,
        "environment" => Type::Nullable(Arc::new(Type::String)),
        "request" => Type::Record(Arc::new(Members(&[
            ("name", || Type::String),
            ("title", || Type::String),
            ("file", || Type::String),
            ("tags", || Type::list(Type::String)),
        ]))),
        "hops" => Type::list(Type::Record(Arc::new(Members(&[
            ("status", || Type::Int),
            ("method", || Type::String),
            ("url", || Type::String),
            ("location", || Type::String),
        ])))),
        "sent" => Type::Record(Arc::new(Members(&[
            ("method", || Type::String),
            ("url", || Type::String),
            ("headers", || Type::map(Type::String)),
            ("body", || Type::String),
        ]))),
        "body" | "row" => Type::Dyn,
        _ => return None,
    })
}

/// The members of a map that the language gives, each with what makes its type.
struct Members(&'static [Member]);

type Member = (&'static str, fn() -> Type);

impl Schema for Members {
    fn member(&self, name: &str) -> Option<Type> {
        self.0.iter().find(|(known, _)| *known == name).map(|(_, member)| member())
    }

    fn members(&self) -> Vec<String> {
        self.0.iter().map(|(name, _)| (*name).to_owned()).collect()
    }
}
