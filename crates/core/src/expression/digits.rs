//! A number that neither 64 bits nor a double holds: it keeps its digits.

use cel::common::types::Type;
use cel::common::value::{StaticVal, Val};
use std::any::Any;
use std::sync::Arc;

static DIGITS_TYPE: Type = Type::new_unspecified_type("long_number");

/// The digits of a number as they were written. Two are equal if their digits are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Digits(pub(super) Arc<str>);

impl Val for Digits {
    fn get_type(&self) -> &Type {
        &DIGITS_TYPE
    }

    fn cel_type() -> &'static Type {
        &DIGITS_TYPE
    }

    fn equals(&self, other: &dyn Val) -> bool {
        other.downcast_ref::<Digits>() == Some(self)
    }

    fn clone_as_boxed<'v>(&self) -> Box<dyn Val + 'v>
    where
        Self: 'v,
    {
        Box::new(self.clone())
    }

    fn as_any(&self) -> Option<&dyn Any> {
        Some(self)
    }
}

impl StaticVal for Digits {}
