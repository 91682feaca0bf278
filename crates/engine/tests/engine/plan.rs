//! Plans: whatever files and needs there are, the order of the requests is valid.

use proptest::prelude::*;
use rustc_hash::FxHashSet;
use std::path::Path;
use yieldtray_source::SourceId;
use yieldtray_test_support::workspace;
use yieldtray_workspace::plan::{Plan, Step};
use yieldtray_workspace::{CellId, Workspace};

/// A cell: what it needs, as (file, cell), and whether it runs afterwards.
type Cell = (Vec<(usize, usize)>, bool);

/// Files of cells; each may need some of those before it, in its own file or in another.
#[derive(Clone, Debug)]
struct Files {
    files: Vec<Vec<Cell>>,
}

impl Files {
    fn text(&self) -> String {
        let mut text = String::new();
        for (file, cells) in self.files.iter().enumerate() {
            text.push_str(&format!("#- f{file}.http\n"));
            for (number, (needs, afterwards)) in cells.iter().enumerate() {
                text.push_str(&format!("%% c{number}\n"));
                let needs: Vec<String> = needs.iter().map(|(other, cell)| format!("f{other}.http#c{cell}")).collect();
                if !needs.is_empty() {
                    text.push_str(&format!("% needs {}\n", needs.join(", ")));
                }
                if *afterwards {
                    text.push_str("% afterwards\n");
                }
                text.push_str("GET http://local/\n");
            }
        }
        text
    }
}

/// Needs refer to requests of earlier files, or to earlier ones of the same file: so there are no cycles.
fn workspace_files() -> impl Strategy<Value = Files> {
    let cell = (prop::collection::vec((0_usize..4, 0_usize..4), 0..3), prop::bool::weighted(0.2));
    let files = prop::collection::vec(prop::collection::vec(cell, 1..4), 1..4);
    files.prop_map(|mut files| {
        let sizes: Vec<usize> = files.iter().map(Vec::len).collect();
        for (file, cells) in files.iter_mut().enumerate() {
            for (number, (needs, _)) in cells.iter_mut().enumerate() {
                needs.retain(|(other, cell)| {
                    *other < sizes.len() && *cell < sizes[*other] && (*other, *cell) < (file, number)
                });
                needs.dedup();
            }
        }
        Files { files }
    })
}

fn load(workspace_files: &Files) -> (Workspace, Vec<CellId>) {
    let mut workspace = workspace(&workspace_files.text());
    let mut cells = Vec::new();
    for file in 0..workspace_files.files.len() {
        let source = workspace.load(Path::new(&format!("f{file}.http"))).expect("the file is there");
        cells.extend(workspace.cells(source));
    }
    (workspace, cells)
}

fn place(steps: &[Step], cell: CellId) -> Option<usize> {
    steps.iter().position(|step| step.cell == cell)
}

proptest! {
    #[test]
    fn each_cell_stands_once_and_behind_what_it_needs(workspace_files in workspace_files(), first in any::<prop::sample::Index>()) {
        let (mut workspace, all) = load(&workspace_files);
        // All of them, or one with what it needs.
        for chosen in [all.clone(), vec![*first.get(&all)]] {
            let plan = Plan::new(&mut workspace, &chosen, true);
            let mut cells: Vec<_> = plan.steps.iter().map(|step| (step.cell.source, step.cell.index)).collect();
            let many = cells.len();
            cells.sort_unstable();
            cells.dedup();
            prop_assert_eq!(cells.len(), many, "each once");
            prop_assert!(chosen.iter().all(|cell| place(&plan.steps, *cell).is_some()));
            for (at, step) in plan.steps.iter().enumerate() {
                prop_assert!(step.problems.is_empty(), "{:?}", step.problems);
                for need in &step.needs {
                    prop_assert!(place(&plan.steps, *need).is_some_and(|before| before < at), "{}", workspace_files.text());
                }
            }
        }
    }

    #[test]
    fn what_runs_afterwards_stands_behind_all_who_may_use_its_file(workspace_files in workspace_files()) {
        let (mut workspace, all) = load(&workspace_files);
        let plan = Plan::new(&mut workspace, &all, true);
        let needed: Vec<CellId> = plan.steps.iter().flat_map(|step| step.needs.clone()).collect();
        // Files that use a file, directly or by others.
        let uses = |file, of| {
            let mut users = vec![of];
            for _ in 0..workspace_files.files.len() {
                let more = plan.steps.iter().filter(|step| step.needs.iter().any(|need| users.contains(&need.source)));
                users.extend(more.map(|step| step.cell.source).collect::<Vec<_>>());
            }
            users.contains(&file)
        };
        for (at, step) in plan.steps.iter().enumerate().filter(|(_, step)| step.afterwards) {
            if needed.contains(&step.cell) {
                continue;
            }
            for behind in &plan.steps[at + 1..] {
                let (file, own) = (behind.cell.source, step.cell.source);
                // Files that use each other cannot both come last.
                let may_stand = !uses(file, own) || uses(own, file) && behind.afterwards;
                prop_assert!(may_stand, "{}", workspace_files.text());
            }
        }
    }

    #[test]
    fn without_needs_the_order_is_that_of_the_files(sizes in prop::collection::vec(1_usize..4, 1..4), times in 1_usize..4) {
        let files = sizes.iter().map(|size| vec![(Vec::new(), false); *size]).collect();
        let (mut workspace, all) = load(&Files { files });
        let plan = Plan::new(&mut workspace, &all, true).times(times);
        let expected: Vec<_> = (1..=times).flat_map(|round| all.iter().map(move |cell| (round, *cell))).collect();
        let steps: Vec<_> = plan.steps.iter().map(|step| (step.round, step.cell)).collect();
        prop_assert_eq!(steps, expected);
    }
}

#[test]
fn what_runs_afterwards_waits_for_what_it_needs_of_other_files() {
    let text = "#- a.http\n%% room\nGET http://local/\n#- b.http\n%% lot\nGET http://local/\n%% clean\n\
                % needs lot, a.http#room\n% afterwards\nGET http://local/\n";
    let mut workspace = workspace(text);
    let source = workspace.load(Path::new("b.http")).expect("a file");
    let clean = workspace.cell_named(source, "clean").expect("a cell");
    let plan = Plan::new(&mut workspace, &[clean], true);
    let names: Vec<&str> = plan.steps.iter().map(|step| &*workspace.cell(step.cell).name).collect();
    assert_eq!(names, ["lot", "room", "clean"]);
}

#[test]
fn each_time_a_cell_is_played_has_its_number() {
    let mut workspace = workspace(
        "#- a.http\n%% round\n% play weigh times 2\n% play look\n% play weigh\n\n%% weigh\nGET http://local/w\n\n%% look\nGET http://local/l\n",
    );
    let source = workspace.load(Path::new("a.http")).expect("a file");
    let all: Vec<CellId> = workspace.cells(source).collect();
    let plan = Plan::new(&mut workspace, &all, true);
    let times: Vec<_> = plan
        .steps
        .iter()
        .map(|step| (workspace.cell(step.cell).name.to_string(), step.played.map(|played| played.time)))
        .collect();
    let name = |name: &str, time| (name.to_owned(), time);
    assert_eq!(
        times,
        [
            name("weigh", Some(1)),
            name("weigh", Some(2)),
            name("look", Some(1)),
            name("weigh", Some(3)),
            name("round", None)
        ]
    );
}

#[test]
fn a_needed_cell_brings_along_the_chosen_ones_before_it_in_its_file() {
    // `use` needs the third cell of a file; whatever that relies on was sent before it, as it is when the file is alone.
    let fixture = "#- a.http\n%% use\n% needs b.http#third\n/\n\
        #- b.http\n%% first\n/\n%% end\n% afterwards\n/\n%% third\n/\n%% fourth\n% needs a.http#use\n/\n";
    let mut workspace = workspace(fixture);
    let sources: Vec<_> =
        ["a.http", "b.http"].iter().map(|file| workspace.load(Path::new(file)).expect("a file")).collect();
    let all: Vec<CellId> = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
    let mut names = |chosen: &[CellId]| {
        let plan = Plan::new(&mut workspace, chosen, true);
        let steps = plan.steps.iter().map(|step| workspace.cell(step.cell).name.to_string());
        steps.collect::<Vec<_>>().join(" ")
    };
    assert_eq!(names(&all), "first third use fourth end");
    // Nothing is sent that nobody chose or needs.
    assert_eq!(names(&all[..1]), "third use");
}

#[test]
fn shards_are_whole_files_with_those_they_rely_on() {
    let fixture = "#- gate.http\n%% in\n/\n%% look\n/\n#- desk.http\n%% book\n% needs gate.http#in\n/\n\
        #- morning.http\n%% all\n% play night.http#weigh\n#- night.http\n%% weigh\n/\n%% more\n/\n\
        #- office.http\n%% pay\n% needs desk.http#book\n/\n#- yard.http\n%% sweep\n/\n";
    let mut workspace = workspace(fixture);
    let files = ["desk.http", "gate.http", "morning.http", "night.http", "office.http", "yard.http"];
    let sources: Vec<_> = files.iter().map(|file| workspace.load(Path::new(file)).expect("a file")).collect();
    let all: Vec<CellId> = sources.iter().flat_map(|source| workspace.cells(*source)).collect();
    let whole = Plan::new(&mut workspace, &all, true);
    for shards in [1, 2, 3, 5, 40] {
        let mut places: Vec<usize> = Vec::new();
        for own in 1..=shards {
            let shard = whole.clone().shard(&workspace, &all, own, shards);
            let files: FxHashSet<SourceId> = shard.steps.iter().map(|step| step.cell.source).collect();
            for step in &shard.steps {
                let place = step.place.expect("a place");
                assert_eq!(whole.steps[place].cell, step.cell);
                assert!(step.needs.iter().all(|need| files.contains(&need.source)), "{own} of {shards}");
                places.push(place);
            }
            let of_files = whole.steps.iter().filter(|step| files.contains(&step.cell.source)).count();
            assert_eq!(shard.steps.len(), of_files, "{own} of {shards} has whole files");
            assert_eq!(files.contains(&sources[2]), files.contains(&sources[3]), "a sequence stays with its cells");
        }
        places.sort_unstable();
        places.dedup();
        assert_eq!(places.len(), whole.steps.len(), "{shards} shards are everything");
    }
    // Only chosen files are divided: what they need comes with them.
    let plan = Plan::new(&mut workspace, &all[..1], true);
    let sizes: Vec<usize> = (1..=3).map(|own| plan.clone().shard(&workspace, &all[..1], own, 3).steps.len()).collect();
    assert_eq!(sizes.iter().sum::<usize>(), 2, "{sizes:?}");
}
