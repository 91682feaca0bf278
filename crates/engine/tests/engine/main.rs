//! Runs of whole workspaces, answered from tables.

mod checks;
mod lanes;
mod plan;
mod preceding;
mod prove;
mod replay;
