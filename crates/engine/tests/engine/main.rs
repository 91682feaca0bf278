//! Runs of whole workspaces, answered from tables.

mod checks;
mod fixtures;
mod lanes;
mod plan;
mod preceding;
mod prove;
mod replay;
