//! Where a secret may be sent: to the origins (RFC 6454) that it belongs to.

use std::fmt;
use yieldtray_expression::Value;
use yieldtray_source::{SourceId, Span};

/// The origins that a secret belongs to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Destinations {
    /// Every origin: it was typed for this very request.
    Any,
    /// That of `base` of its environment.
    Base,
    /// That of the response it was captured from, and that of `base`.
    CapturedFrom(Option<String>),
    /// The origins that its definition lists with `for`.
    Listed(Vec<String>),
}

/// A secret that was looked up.
#[derive(Clone)]
pub struct UsedSecret {
    /// Its value.
    pub value: Value,
    /// How it is called.
    pub name: String,
    /// The origins that it may be sent to.
    pub destinations: Destinations,
    /// Where it is used.
    pub used_at: (SourceId, Span),
    /// Where it is defined, if that is a configuration.
    pub defined_at: Option<(SourceId, Span)>,
}

impl fmt::Debug for UsedSecret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "UsedSecret({})", self.name)
    }
}

impl UsedSecret {
    /// A secret without a definition of its own, used at a place.
    pub(crate) fn new(value: Value, name: &str, destinations: Destinations, used_at: (SourceId, Span)) -> Self {
        Self { value, name: name.to_owned(), destinations, used_at, defined_at: None }
    }

    /// True if it may be sent to `origin`, where `base` is the origin of the environment's `base`.
    pub(crate) fn may_go_to(&self, origin: &str, base: Option<&str>) -> bool {
        let is_base = base == Some(origin);
        match &self.destinations {
            Destinations::Any => true,
            Destinations::Base => is_base,
            Destinations::CapturedFrom(from) => is_base || from.as_deref() == Some(origin),
            Destinations::Listed(origins) => origins.iter().any(|listed| listed == origin),
        }
    }
}
