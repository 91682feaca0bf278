//! Which cells a command is about.

use crate::args::{Common, SelectionArgs};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use crate::project::{Project, places};
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Selection;

/// Opens the workspace that a choice is made in, and finds the cells, of which there is one at least.
pub(crate) fn choose(
    common: &Common,
    choice: &SelectionArgs,
    host: &HostFacts,
    out: &mut Out,
) -> Result<(Project, Vec<CellId>), CommandError> {
    let places = places(common, &choice.places)?;
    let mut project = Project::open_to_evaluate(common, host, out, &places)?;
    let found = if places.is_empty() { project.find_all()? } else { project.find(&places)? };
    let SelectionArgs { only, exclude, tag, .. } = choice;
    let selection = Selection { only: only.clone(), exclude: exclude.clone(), tags: tag.clone() };
    let chosen: Vec<CellId> = found.into_iter().filter(|cell| selection.includes(&project.workspace, *cell)).collect();
    project.report_unreadable(out)?;
    match chosen.is_empty() {
        false => Ok((project, chosen)),
        true => Err(CommandError::refused_with(
            "no requests match the selection",
            "see `yieldtray list`; check `--only`, `--exclude` and `--tag`",
        )),
    }
}
