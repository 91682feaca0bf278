//! Which cells are sent in which order, and what is wrong with them as they are written.

mod constants;
mod graph;
mod graphql;
mod json_body;
#[allow(clippy::module_inception)] // the plan itself
mod plan;
mod prerequisites;
mod select;
mod shard;
mod validate;

pub use graph::{Edge, Graph};
pub use json_body::find_json_error;
pub use plan::{Plan, PlayedBy, Step};
pub use prerequisites::{Prerequisite, prerequisites};
pub use select::Selection;
pub use shard::FileGroups;
pub use validate::{Depth, examine, examine_own, examine_preamble};
