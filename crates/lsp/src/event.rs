//! What the server's loop reads.

use crate::jobs::JobEvent;
use crate::wire::Message;

/// What comes in.
pub(crate) enum Event {
    /// A message of the client.
    Client(Message),
    /// A job has something to say.
    Job(JobEvent),
    /// The client is gone.
    Closed,
}
