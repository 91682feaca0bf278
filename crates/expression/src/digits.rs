//! A number that neither 64 bits nor a double holds: it keeps its digits.

use super::opaque::opaque;
use std::sync::Arc;

/// The digits of a number as they were written. Two are equal if their digits are.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct BigNumber(pub(super) Arc<str>);

opaque!(BigNumber, "long_number", equal);
