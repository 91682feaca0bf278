//! Which cells a command is about.

use crate::args::{Choice, Common};
use crate::error::Stop;
use crate::host::Host;
use crate::output::Out;
use crate::project::{Session, places};
use yieldtray_workspace::CellId;
use yieldtray_workspace::plan::Selection;

/// Opens the workspace that a choice is made in, and finds the cells, of which there is one at least.
pub(crate) fn choose(
    common: &Common,
    choice: &Choice,
    host: &Host,
    out: &mut Out,
) -> Result<(Session, Vec<CellId>), Stop> {
    let places = places(common, &choice.places)?;
    let mut session = Session::open_to_evaluate(common, host, out, &places)?;
    let found = if places.is_empty() { session.find_all()? } else { session.find(&places)? };
    let Choice { only, except, tag, .. } = choice;
    let selection = Selection { only: only.clone(), except: except.clone(), tags: tag.clone() };
    let chosen: Vec<CellId> = found.into_iter().filter(|cell| selection.takes(&session.workspace, *cell)).collect();
    session.tell_unreadable(out)?;
    match chosen.is_empty() {
        false => Ok((session, chosen)),
        true => Err(Stop::refused_with(
            "no request is chosen",
            "`yieldtray list` shows the requests there are; `--only`, `--except` and `--tag` may leave none",
        )),
    }
}
