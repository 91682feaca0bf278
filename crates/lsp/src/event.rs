//! Events of the server's loop.

use crate::jobs::JobEvent;
use crate::wire::Message;

/// An event.
pub(crate) enum Event {
    /// A message of the client.
    Client(Message),
    /// A job has something to say.
    Job(JobEvent),
    /// The client is gone.
    Closed,
}
