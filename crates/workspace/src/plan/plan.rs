//! Plans: the cells of a run in their order.

use crate::{CellId, Workspace};
use rustc_hash::{FxHashMap, FxHashSet};
use std::path::Path;
use yieldtray_source::{Code, Problem, SourceId, Span, closest};
use yieldtray_syntax::InstructionKind;

/// The cells of a run in the order they are sent: in the order of files and cells, and each after the cells it needs.
#[derive(Clone, Debug, Default)]
pub struct Plan {
    /// The cells in order.
    pub steps: Vec<Step>,
}

/// One cell of a plan.
#[derive(Clone, Debug)]
pub struct Step {
    /// The cell.
    pub cell: CellId,
    /// The cells it directly needs.
    pub needs: Vec<CellId>,
    /// Problems of its prerequisites.
    pub problems: Vec<Problem>,
    /// True if it runs at the end of its file, whatever happened before.
    pub afterwards: bool,
    /// The sequence that plays it, and what that gives it.
    pub played: Option<PlayedBy>,
    /// Which time the plan is gone through, from 1.
    pub round: usize,
    /// Its place in the plan of which this one is a shard.
    pub place: Option<usize>,
}

/// How a sequence plays a cell.
#[derive(Clone, Copy, Debug)]
pub struct PlayedBy {
    /// The cell of the sequence.
    pub sequence: CellId,
    /// `NAME = EXPR, …` of its line.
    pub with: Option<Span>,
    /// Which time the cell is played, from 1.
    pub time: usize,
}

impl Plan {
    /// Puts `chosen` in order. With `needs`, the cells they need are pulled in.
    pub fn new(workspace: &mut Workspace, chosen: &[CellId], needs: bool) -> Self {
        let mut planner = Planner::new(workspace, needs);
        // Cells that a chosen sequence plays are not also sent separately.
        let played: FxHashSet<CellId> =
            chosen.iter().flat_map(|cell| planner.plays(*cell, &mut Vec::new())).map(|play| play.0).collect();
        // If nothing would be left, sequences play each other; that is reported when they are expanded.
        let all = chosen.iter().all(|cell| played.contains(cell));
        let chosen: Vec<CellId> = chosen.iter().copied().filter(|cell| all || !played.contains(cell)).collect();
        for cell in &chosen {
            planner.chosen_files.entry(cell.source).or_default().cells.push(*cell);
        }
        for cell in chosen {
            planner.visit(cell);
        }
        Self { steps: order_cleanup(planner.steps) }
    }

    /// The plan, gone through this many times.
    #[must_use]
    pub fn times(mut self, times: usize) -> Self {
        let once = std::mem::take(&mut self.steps);
        self.steps =
            (1..=times).flat_map(|round| once.iter().cloned().map(move |step| Step { round, ..step })).collect();
        self
    }

    /// The cells whose methods are not safe (RFC 9110 9.2.1), with those methods: they may change
    /// something on the server.
    pub fn unsafe_requests(&self, workspace: &Workspace) -> Vec<(CellId, String)> {
        let method = |step: &Step| {
            let request = workspace.cell(step.cell).request.as_ref()?;
            let method = request.method?.of(&workspace.source(step.cell.source).text);
            let safe = ["GET", "HEAD", "OPTIONS", "TRACE"].contains(&method);
            (!safe).then(|| (step.cell, method.to_owned()))
        };
        self.steps.iter().filter_map(method).collect()
    }
}

/// Cleanup cells run after everything else of their file and of the files that need its cells, unless something needs
/// them.
fn order_cleanup(steps: Vec<Step>) -> Vec<Step> {
    if steps.iter().all(|step| !step.afterwards) {
        return steps;
    }
    let needed: Vec<CellId> = steps.iter().flat_map(|step| step.needs.iter().copied()).collect();
    let is_late = |step: &Step| step.afterwards && !needed.contains(&step.cell);
    let late_files: FxHashSet<SourceId> =
        steps.iter().filter(|step| is_late(step)).map(|step| step.cell.source).collect();
    let dependents: FxHashMap<SourceId, Vec<SourceId>> =
        late_files.into_iter().map(|file| (file, dependents(&steps, file))).collect();
    let (mut late, mut steps): (Vec<Step>, Vec<Step>) = steps.into_iter().partition(is_late);
    while !late.is_empty() {
        // First those of files that no other one uses which is still to come: what it takes away, that may need.
        let is_free = |step: &Step| {
            let file = step.cell.source;
            late.iter().all(|other| other.cell.source == file || !dependents[&file].contains(&other.cell.source))
        };
        let step = late.remove(late.iter().position(is_free).unwrap_or_default());
        let before = |other: &Step| {
            dependents[&step.cell.source].contains(&other.cell.source) || step.needs.contains(&other.cell)
        };
        let last = steps.iter().rposition(before);
        steps.insert(last.map_or(steps.len(), |last| last + 1), step);
    }
    steps
}

/// A file and those that need its cells, and so on.
fn dependents(steps: &[Step], file: SourceId) -> Vec<SourceId> {
    let mut dependents = vec![file];
    let mut at = 0;
    while let Some(used) = dependents.get(at).copied() {
        for step in steps.iter().filter(|step| step.needs.iter().any(|need| need.source == used)) {
            if !dependents.contains(&step.cell.source) {
                dependents.push(step.cell.source);
            }
        }
        at += 1;
    }
    dependents
}

/// The cells that a cell directly needs, as far as they can be found.
pub(super) fn needs_of(workspace: &mut Workspace, cell: CellId) -> Vec<CellId> {
    let needs = Planner::new(workspace, false).needs(cell, &mut Vec::new());
    needs.into_iter().map(|(need, _)| need).collect()
}

/// The maximum number of requests that sequences may expand to.
const MAX_STEPS: usize = 1_000_000;

#[derive(Clone, Copy, PartialEq)]
enum State {
    Waiting,
    Done,
}

struct Planner<'p> {
    workspace: &'p mut Workspace,
    pull_in: bool,
    states: FxHashMap<CellId, State>,
    /// The cells that wait for what they need, outermost first.
    path: Vec<CellId>,
    /// How often each cell is played so far.
    played: FxHashMap<CellId, usize>,
    /// The chosen cells of each file, in their order.
    chosen_files: FxHashMap<SourceId, ChosenCells>,
    steps: Vec<Step>,
}

/// The chosen cells of a file.
#[derive(Default)]
struct ChosenCells {
    cells: Vec<CellId>,
    /// How many of them were visited for the sake of cells of other files.
    visited: usize,
}

impl<'p> Planner<'p> {
    fn new(workspace: &'p mut Workspace, pull_in: bool) -> Self {
        let (states, played, chosen_files) = (FxHashMap::default(), FxHashMap::default(), FxHashMap::default());
        Self { workspace, pull_in, states, path: Vec::new(), played, chosen_files, steps: Vec::new() }
    }

    fn visit(&mut self, cell: CellId) {
        if self.states.contains_key(&cell) {
            return;
        }
        self.states.insert(cell, State::Waiting);
        self.path.push(cell);
        let mut problems = Vec::new();
        let needs = self.needs_before(cell, &mut problems);
        for (played, with, times) in self.plays(cell, &mut problems) {
            self.play(cell, played, with, times, &mut problems);
        }
        self.path.pop();
        self.states.insert(cell, State::Done);
        let afterwards = self.is_afterwards(cell);
        self.steps.push(Step { cell, needs, problems, afterwards, played: None, round: 1, place: None });
    }

    /// The cells that a cell needs; where needs are pulled in, their steps are added before its own.
    fn needs_before(&mut self, cell: CellId, problems: &mut Vec<Problem>) -> Vec<CellId> {
        let needs = self.needs(cell, problems);
        let pull_in = self.pull_in;
        for (need, span) in needs.iter().filter(|_| pull_in) {
            if self.states.get(need) == Some(&State::Waiting) {
                problems.push(self.cycle(*need, *span, cell));
            } else {
                self.visit_those_before(*need, cell.source);
                self.visit(*need);
            }
        }
        needs.into_iter().map(|(need, _)| need).collect()
    }

    /// Visits the chosen cells above a needed cell of another file. They are sent anyway, and the needed cell may rely
    /// on them implicitly (cookies, the state of the server): a file that passes alone also passes among others.
    fn visit_those_before(&mut self, need: CellId, from: SourceId) {
        if need.source == from {
            return;
        }
        loop {
            let Some(chosen) = self.chosen_files.get_mut(&need.source) else { return };
            let next = chosen.cells.get(chosen.visited).copied().filter(|cell| cell.index < need.index);
            let Some(cell) = next else { return };
            chosen.visited += 1;
            if !self.is_afterwards(cell) {
                self.visit(cell);
            }
        }
    }

    fn is_afterwards(&self, cell: CellId) -> bool {
        self.workspace.cell(cell).instructions().any(|line| line.kind == InstructionKind::Afterwards)
    }

    /// The cells that a sequence plays, with what each line gives and how often.
    fn plays(&mut self, cell: CellId, problems: &mut Vec<Problem>) -> Vec<(CellId, Option<Span>, u16)> {
        let text = &self.workspace.source(cell.source).text;
        let lines = self.workspace.cell(cell).instructions().filter_map(|line| match line.kind {
            InstructionKind::Play { name, with, times } => Some((name, name.of(text).to_owned(), with, times)),
            _ => None,
        });
        let lines: Vec<_> = lines.collect();
        let find = |(span, name, with, times): (Span, String, _, _)| {
            Some((self.resolve_or_report(cell, span, &name, problems)?, with, times))
        };
        lines.into_iter().filter_map(find).collect()
    }

    /// Adds the steps of one line of a sequence: what the cell needs once, the cell itself each time.
    fn play(&mut self, by: CellId, cell: CellId, with: Option<Span>, times: u16, problems: &mut Vec<Problem>) {
        if self.path.contains(&cell) {
            let span = with.unwrap_or(self.workspace.cell(by).title);
            return problems.push(self.cycle(cell, span, by));
        }
        let mut own = Vec::new();
        self.path.push(cell);
        let needs = self.needs_before(cell, &mut own);
        // Later dependents find it played already.
        self.states.entry(cell).or_insert(State::Done);
        let inner = self.plays(cell, &mut own);
        for _ in 0..times {
            if self.steps.len() >= MAX_STEPS {
                let span = with.unwrap_or(self.workspace.cell(by).title);
                let message = format!("sequences expand to more than {MAX_STEPS} requests");
                let problem = Problem::error(Code::NeedsCycle, span, message)
                    .with_hint("reduce `times` or the number of `% play` lines");
                return problems.push(problem.in_source(by.source));
            }
            for (played, inner_with, times) in &inner {
                self.play(cell, *played, *inner_with, *times, &mut own);
            }
            let (needs, problems) = (needs.clone(), own.clone());
            let time = self.played.entry(cell).and_modify(|time| *time += 1).or_insert(1);
            let played = Some(PlayedBy { sequence: by, with, time: *time });
            self.steps.push(Step { cell, needs, problems, afterwards: false, played, round: 1, place: None });
        }
        self.path.pop();
    }

    fn cycle(&self, need: CellId, span: Span, cell: CellId) -> Problem {
        let from = self.path.iter().position(|waiting| *waiting == need).unwrap_or_default();
        let names: Vec<&str> =
            self.path[from..].iter().chain([&need]).map(|cell| &*self.workspace.cell(*cell).name).collect();
        Problem::error(Code::NeedsCycle, span, format!("circular dependency: {}", names.join(" → ")))
            .with_hint("remove one of these `% needs`")
            .in_source(cell.source)
    }

    /// The cells that `% needs` names, with where each is named.
    fn needs(&mut self, cell: CellId, problems: &mut Vec<Problem>) -> Vec<(CellId, Span)> {
        let text = &self.workspace.source(cell.source).text;
        let named: Vec<(Span, String)> = self
            .workspace
            .cell(cell)
            .instructions()
            .filter_map(|instruction| match instruction.kind {
                InstructionKind::Needs(list) => Some(list),
                _ => None,
            })
            .flat_map(|list| InstructionKind::list(list, text).map(|span| (span, span.of(text).to_owned())))
            .collect();
        named
            .into_iter()
            .filter_map(|(span, name)| Some((self.resolve_or_report(cell, span, &name, problems)?, span)))
            .collect()
    }

    /// The cell that `cell` names at `span`, or a problem that it is not there.
    fn resolve_or_report(
        &mut self,
        cell: CellId,
        span: Span,
        name: &str,
        problems: &mut Vec<Problem>,
    ) -> Option<CellId> {
        match self.find(cell, name) {
            Ok(found) => Some(found),
            Err(problem) => {
                problems.push(Problem { code: Code::UnknownCell, span, ..*problem }.in_source(cell.source));
                None
            }
        }
    }

    /// The same; the problem has no place yet.
    fn find(&mut self, cell: CellId, name: &str) -> Result<CellId, Box<Problem>> {
        let (source, own) = match name.rsplit_once('#') {
            None => (cell.source, name),
            Some((file, own)) => {
                let folder = self.workspace.source(cell.source).path.parent().unwrap_or(Path::new("")).to_owned();
                (self.workspace.load(&folder.join(file))?, own)
            }
        };
        self.workspace.cell_named(source, own).ok_or_else(|| {
            let file = self.workspace.shown_path(source);
            let names = self.workspace.source(source).file.cells.iter().map(|cell| &*cell.name);
            let problem = Problem::error(Code::UnknownCell, Span::default(), format!("no request `{own}` in `{file}`"));
            Box::new(match closest(own, names.clone()) {
                // The path before the name stays as it is written.
                Some(meant) => problem
                    .did_you_mean(meant)
                    .with_replacement(format!("{}{meant}", name.strip_suffix(own).unwrap_or_default())),
                None => problem.with_hint(format!("available: {}", yieldtray_source::join_words(names.take(8)))),
            })
        })
    }
}
