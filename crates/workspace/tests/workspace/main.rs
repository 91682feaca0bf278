//! Values and requests of whole workspaces, as a run sends them.

mod request;
mod values;
