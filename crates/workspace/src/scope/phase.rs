//! Whether a response is there yet.

use super::ResponseScope;

/// Whether the response is there yet.
pub enum Phase<'r, 'x> {
    /// The request is being made.
    Request,
    /// The response is there.
    Response(&'r mut ResponseScope<'x>),
}

impl<'x> Phase<'_, 'x> {
    /// The same phase, for one more use.
    pub(super) fn reborrow(&mut self) -> Phase<'_, 'x> {
        match self {
            Phase::Request => Phase::Request,
            Phase::Response(names) => Phase::Response(names),
        }
    }
}
