//! The values that a cell sees, in the order in which they hide each other.

mod lookup;
mod missing;
mod response;
mod rows;
mod tray;
mod uses;
pub mod value_list;

pub use lookup::{Answers, Found, Lookup, Memo, Reach, Settings, Stage, compile};
pub use response::{Made, ResponseNames};
pub use rows::Rows;
pub use tray::{Tray, Yielded};
pub use uses::{NameUse, Placed, PlayedWith, yields};
pub use value_list::{Across, Origin, OriginKind, Row, Value as Shown, across, survey, survey_one};
