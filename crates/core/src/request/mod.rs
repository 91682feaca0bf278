//! A cell and the values it sees become a [`Prepared`] request, in which nothing is unresolved.

mod place;
mod prepare;
mod prepared;
mod redirect;
mod target;
mod write;

#[cfg(test)]
mod tests;

pub use prepare::prepare;
pub use prepared::{Fields, Prepared};
pub use redirect::{MAX_HOPS, Redirect, next_hop};
