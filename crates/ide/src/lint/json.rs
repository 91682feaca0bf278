//! JSON bodies with syntax errors.

use yieldtray_source::{Problem, SourceId};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::plan::find_json_error;

/// The first syntax error in each JSON body of a file.
pub(super) fn bodies(workspace: &Workspace, source: SourceId) -> Vec<Problem> {
    let own = workspace.source(source);
    own.file
        .cells
        .iter()
        .filter_map(|cell| find_json_error(&own.text, cell))
        .map(|problem| problem.in_source(source))
        .collect()
}
