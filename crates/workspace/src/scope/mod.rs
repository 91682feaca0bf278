//! The values that a cell sees, in the order in which they hide each other.

mod binding;
mod cache;
mod compile;
mod context;
mod evaluate;
mod evaluate_on;
mod missing;
mod phase;
mod resolve;
mod resolver;
mod response;
mod rows;
mod tray;
mod uses;
mod value_list;

pub use binding::Binding;
pub use cache::EvalCache;
pub use compile::compile;
pub use context::{EvalContext, EvalSettings, PromptAnswers};
pub use phase::Phase;
pub use resolver::Resolver;
pub use response::{CachedNames, ResponseScope, body_not_buffered, event_value, message_value, reads_body};
pub use rows::{RowError, Rows};
pub use tray::{CapturedValue, Tray};
pub use uses::{ExprLocation, NameUse, PlayArgNames, received_names, yields};
pub use value_list::{EnvironmentComparison, Origin, OriginKind, ValueRow, ValueState, across, list_values, value_row};
