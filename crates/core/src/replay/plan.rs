use crate::problem::{Code, Problem, closest};
use crate::syntax::{Kind, Span};
use crate::workspace::{CellId, Workspace};
use rustc_hash::FxHashMap;
use std::path::Path;

/// The cells of a run in the order they are sent: files and cells as they stand, what a cell needs
/// before it.
#[derive(Debug, Default)]
pub struct Plan {
    /// The cells in order.
    pub steps: Vec<Step>,
}

/// One cell of a plan.
#[derive(Debug)]
pub struct Step {
    /// The cell.
    pub cell: CellId,
    /// The cells it directly needs.
    pub needs: Vec<CellId>,
    /// What is wrong with what it needs.
    pub problems: Vec<Problem>,
    /// Whether it runs at the end of its file, whatever happened before.
    pub afterwards: bool,
}

impl Plan {
    /// Puts `chosen` in order. With `needs`, the cells they need are pulled in.
    pub fn new(workspace: &mut Workspace, chosen: &[CellId], needs: bool) -> Self {
        let mut planner =
            Planner { workspace, pull_in: needs, states: FxHashMap::default(), path: Vec::new(), steps: Vec::new() };
        for cell in chosen {
            planner.visit(*cell);
        }
        Self { steps: last_of_their_files(planner.steps) }
    }

    /// The cells whose methods are not safe (RFC 9110 9.2.1), with those methods: they may change
    /// something on the server.
    pub fn changing(&self, workspace: &Workspace) -> Vec<(CellId, String)> {
        let method = |step: &Step| {
            let request = workspace.cell(step.cell).request.as_ref()?;
            let method = request.method?.of(&workspace.source(step.cell.source).text);
            let safe = ["GET", "HEAD", "OPTIONS", "TRACE"].contains(&method);
            (!safe).then(|| (step.cell, method.to_owned()))
        };
        self.steps.iter().filter_map(method).collect()
    }
}

/// What runs afterwards comes after everything else of its file, unless something needs it.
fn last_of_their_files(steps: Vec<Step>) -> Vec<Step> {
    if steps.iter().all(|step| !step.afterwards) {
        return steps;
    }
    let needed: Vec<CellId> = steps.iter().flat_map(|step| step.needs.iter().copied()).collect();
    let (late, mut steps): (Vec<Step>, Vec<Step>) =
        steps.into_iter().partition(|step| step.afterwards && !needed.contains(&step.cell));
    for step in late {
        let last = steps.iter().rposition(|other| other.cell.source == step.cell.source);
        steps.insert(last.map_or(steps.len(), |last| last + 1), step);
    }
    steps
}

/// The cells that a cell directly needs, as far as they can be found.
pub(super) fn needs_of(workspace: &mut Workspace, cell: CellId) -> Vec<CellId> {
    let plan = Plan::new(workspace, &[cell], false);
    plan.steps.into_iter().flat_map(|step| step.needs).collect()
}

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
    steps: Vec<Step>,
}

impl Planner<'_> {
    fn visit(&mut self, cell: CellId) {
        if self.states.contains_key(&cell) {
            return;
        }
        self.states.insert(cell, State::Waiting);
        self.path.push(cell);
        let mut problems = Vec::new();
        let needs = self.needs(cell, &mut problems);
        if self.pull_in {
            for (need, span) in &needs {
                if self.states.get(need) == Some(&State::Waiting) {
                    problems.push(self.cycle(*need, *span, cell));
                } else {
                    self.visit(*need);
                }
            }
        }
        self.path.pop();
        self.states.insert(cell, State::Done);
        let needs = needs.into_iter().map(|(need, _)| need).collect();
        let afterwards = self.workspace.cell(cell).instructions().any(|line| line.kind == Kind::Afterwards);
        self.steps.push(Step { cell, needs, problems, afterwards });
    }

    fn cycle(&self, need: CellId, span: Span, cell: CellId) -> Problem {
        let from = self.path.iter().position(|waiting| *waiting == need).unwrap_or_default();
        let names: Vec<&str> =
            self.path[from..].iter().chain([&need]).map(|cell| &*self.workspace.cell(*cell).name).collect();
        Problem::mistake(Code::NeedsCycle, span, format!("cells that need each other: {}", names.join(" → ")))
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
                Kind::Needs(list) => Some(list),
                _ => None,
            })
            .flat_map(|list| Kind::list(list, text).map(|span| (span, span.of(text).to_owned())))
            .collect();
        let mut needs = Vec::with_capacity(named.len());
        for (span, name) in named {
            match self.find(cell, &name) {
                Ok(need) => needs.push((need, span)),
                Err((message, hint)) => problems
                    .push(Problem::mistake(Code::UnknownCell, span, message).with_hint_if(hint).in_source(cell.source)),
            }
        }
        needs
    }

    fn find(&mut self, cell: CellId, name: &str) -> Result<CellId, (String, Option<String>)> {
        let (source, own) = match name.rsplit_once('#') {
            None => (cell.source, name),
            Some((file, own)) => {
                let folder = self.workspace.source(cell.source).path.parent().unwrap_or(Path::new("")).to_owned();
                let loaded = self.workspace.load(&folder.join(file));
                (loaded.map_err(|problem| (problem.message, problem.hint))?, own)
            }
        };
        self.workspace.cell_named(source, own).ok_or_else(|| {
            let file = self.workspace.shown_path(source);
            let names = self.workspace.source(source).file.cells.iter().map(|cell| &*cell.name);
            let hint = closest(own, names.clone())
                .map(|meant| format!("did you mean `{meant}`?"))
                .or_else(|| Some(format!("it has {}", crate::problem::enumerate(names.take(8)))));
            (format!("no cell `{own}` in `{file}`"), hint)
        })
    }
}
