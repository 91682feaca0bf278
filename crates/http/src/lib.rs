//! HTTP messages: the prepared request, the exchange, and tables of methods, header fields and media types.

mod body;
mod body_kind;
pub mod body_shape;
mod captured;
mod charset;
mod digest;
mod event_stream;
mod exchange;
mod fields;
pub mod layout;
mod links;
mod login;
mod media_types;
mod methods;
mod origin;
mod redirect;
mod request;
mod send_options;
mod sensitive;
mod version;
mod wire;

pub use body::{Body, BodyPart, FileBody};
pub use body_kind::BodyKind;
pub use captured::CapturedExchange;
pub use digest::digest;
pub use event_stream::{EventReader, MAX_EVENT_BYTES, StreamEvent, StreamFormat, TooLong, events_of};
pub use exchange::{
    ConversationMessage, CookieNote, CookieStatus, Exchange, Failure, FailureKind, Hop, HopKind, MAX_KEPT_EVENTS,
    MessageData, StreamEnd, StreamRecord, Timings,
};
pub use fields::{FIELDS, KnownField, field};
pub use links::links;
pub use login::Login;
pub use media_types::{GRAPHQL_ACCEPT, GRAPHQL_MEDIA_TYPE, MEDIA_TYPES, is_json};
pub use methods::METHODS;
pub use origin::{origin_of, parse_origin};
pub use redirect::{Redirect, next_hop, next_page};
pub use request::{HeaderFields, PreparedRequest, SignError, Signer, SigningContext};
pub use send_options::SendOptions;
pub use sensitive::{MASK, credential, is_secret_header};
pub use version::HttpVersion;
