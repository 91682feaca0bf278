//! JSON bodies with syntax errors.

use crate::replay::slip_in;
use crate::workspace::Workspace;
use yieldtray_source::{Problem, SourceId};

/// The first slip in each JSON body of a file.
pub(super) fn bodies(workspace: &Workspace, source: SourceId) -> Vec<Problem> {
    let own = workspace.source(source);
    own.file.cells.iter().filter_map(|cell| slip_in(&own.text, cell)).map(|problem| problem.in_source(source)).collect()
}
