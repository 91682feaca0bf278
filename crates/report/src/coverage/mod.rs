//! Reports of what of an API is exercised: a page, and JUnit XML.

mod junit;
mod page;

pub use junit::junit;
pub use page::page;
