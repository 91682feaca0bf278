//! The requests that changed files touch.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};
use yieldtray_source::join_words;
use yieldtray_workspace::plan::Plan;
use yieldtray_workspace::{CellId, Workspace};

/// The changes that can affect a request.
#[derive(Debug)]
pub(crate) struct Touched(BTreeSet<PathBuf>);

impl Touched {
    /// The changed files that may matter, if any do: not our state, not what editors and git keep hidden, and
    /// of those that are gone only request files.
    pub(super) fn by(changed: &BTreeSet<PathBuf>, is_there: impl Fn(&Path) -> bool) -> Option<Self> {
        let is_hidden = |path: &Path| {
            let parts = path.components().map(|part| part.as_os_str().to_string_lossy().into_owned());
            let hidden = { parts }.any(|part| part.starts_with('.') && part != ".env");
            hidden || path.to_string_lossy().ends_with('~')
        };
        let matters = |path: &&PathBuf| {
            !is_hidden(path) && (is_there(path) || path.extension().is_some_and(|extension| extension == "http"))
        };
        let files: BTreeSet<PathBuf> = changed.iter().filter(matters).cloned().collect();
        (!files.is_empty()).then_some(Self(files))
    }

    /// In words.
    pub(crate) fn describe(&self) -> String {
        format!("{} changed", join_words(self.0.iter().take(8).map(|path| path.display().to_string())))
    }

    /// Of `chosen`, the cells that are touched: those of a changed file or below a changed `_common.http`, those
    /// whose file names a changed one, and all that need or play such a cell.
    pub(crate) fn of(&self, workspace: &mut Workspace, chosen: &[CellId]) -> Vec<CellId> {
        let everything = [CONFIG_FILE, LOCAL_FILE, ".env"];
        if self.0.iter().any(|path| everything.iter().any(|name| path == Path::new(name))) {
            return chosen.to_vec();
        }
        let is_touched = |workspace: &Workspace, cell: CellId| {
            let own = workspace.source(cell.source);
            let texts = own.inherited.iter().map(|common| workspace.source(*common)).chain([own]);
            { texts }.any(|text| self.0.contains(&text.path) || self.0.iter().any(|path| names(&text.text, path)))
        };
        let needs_touched = |workspace: &mut Workspace, cell: CellId| {
            let plan = Plan::new(workspace, &[cell], true);
            plan.steps.iter().any(|step| is_touched(workspace, step.cell))
        };
        chosen.iter().copied().filter(|cell| needs_touched(workspace, *cell)).collect()
    }
}

/// Whether a text names a file, in whichever way: by its last part.
fn names(text: &str, path: &Path) -> bool {
    path.file_name().is_some_and(|name| text.contains(&*name.to_string_lossy()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::workspace;

    #[test]
    fn what_is_hidden_touches_nothing() {
        let by = |paths: &[&str]| {
            let is_there = |path: &Path| !path.starts_with("gone");
            Touched::by(&paths.iter().map(PathBuf::from).collect(), is_there).map(|touched| touched.describe())
        };
        assert_eq!(by(&["gone/lots.csv"]), None);
        assert_eq!(by(&["gone/a.http"]).as_deref(), Some("`gone/a.http` changed"));
        assert_eq!(by(&[".yieldtray/state.db", ".git/index", "a.http~", "lots/.a.http.swp"]), None);
        assert_eq!(by(&[".git/index", "lots/a.http", ".env"]).as_deref(), Some("`.env` and `lots/a.http` changed"));
    }

    #[test]
    fn a_change_touches_what_names_or_needs_it() {
        let texts = [
            ("_common.http", "% header Accept: */*\n"),
            ("gate.http", "%% sign in\nGET http://local/session\n%% look\nGET http://local/\n"),
            ("desk/_common.http", "% tag desk\n"),
            ("desk/lots.http", "%% book\n% needs ../gate.http#sign-in\n% body from new.json\nPOST http://local/lots\n"),
            ("desk/rows.http", "%% all\n% play one\n\n%% one\n% each row in \"lots.csv\"\nGET http://local/{{lot}}\n"),
            ("desk/round.http", "%% round\n% needs rows.http#all\nGET http://local/round\n"),
        ];
        let mut workspace = workspace(&texts);
        let requests = ["gate.http", "desk/lots.http", "desk/rows.http", "desk/round.http"];
        let sources: Vec<_> =
            requests.iter().map(|path| workspace.load(Path::new(path)).expect("the file is there")).collect();
        let all: Vec<CellId> = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
        let mut touched = |path: &str| {
            let touched = Touched(BTreeSet::from([PathBuf::from(path)])).of(&mut workspace, &all);
            touched.iter().map(|cell| workspace.cell(*cell).name.to_string()).collect::<Vec<_>>().join(" ")
        };
        assert_eq!(touched("gate.http"), "sign-in look book");
        assert_eq!(touched("_common.http"), "sign-in look book all one round");
        assert_eq!(touched("desk/_common.http"), "book all one round");
        assert_eq!(touched("desk/new.json"), "book");
        assert_eq!(touched("desk/lots.csv"), "all one round");
        assert_eq!(touched("desk/round.http"), "round");
        assert_eq!(touched("desk/notes.txt"), "");
        for everything in [CONFIG_FILE, LOCAL_FILE, ".env"] {
            assert_eq!(touched(everything), "sign-in look book all one round", "{everything}");
        }
    }
}
