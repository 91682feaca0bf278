//! Validates cells before anything is sent.

use super::constants;
use super::graphql::graphql_problems;
use super::json_body::find_json_error;
use crate::request::{conflicts, unknown_profile, unknown_signing_profile};
use crate::scope::compile;
use crate::{CONTRACT_LABEL, CellId, Workspace, shared_labels};
use yieldtray_expression::Engine;
use yieldtray_source::{Code, Problem, Severity, SourceId, Span, closest, join_words};
use yieldtray_syntax::{Auth, Instruction, InstructionKind, Template, instructions};

/// The problems of `cell`: those of its own lines, and those of the preambles that hold for it.
pub fn examine(workspace: &Workspace, engine: &Engine, cell: CellId) -> Vec<Problem> {
    let mut problems = Vec::new();
    let source = workspace.source(cell.source);
    let own = workspace.cell(cell);
    let within = |problem: &&Problem| own.span.contains(problem.span);
    problems.extend(source.problems.iter().filter(within).cloned());
    for origin in source.inherited.iter().chain([&cell.source]) {
        let over = workspace.source(*origin);
        let first_cell = over.file.cells.first().map_or(over.text.len(), |cell| cell.span.start());
        let preamble =
            over.problems.iter().filter(|problem| problem.span.end() <= first_cell && !own.span.contains(problem.span));
        problems.extend(preamble.cloned());
        problems.extend(examine_preamble(workspace, engine, *origin, Depth::Sending));
    }
    problems.extend(examine_own(workspace, engine, cell, Depth::Sending));
    // It may be meant, to see what the server says: it is sent, with a warning.
    let slip = find_json_error(&source.text, own).map(|problem| problem.in_source(cell.source));
    problems.extend(slip.map(|problem| Problem { severity: Severity::Warning, ..problem }));
    problems.sort_by_key(|problem| (problem.source, problem.span.start()));
    problems
}

/// How much is looked at.
#[derive(Clone, Copy, PartialEq)]
pub enum Depth {
    /// The problems that prevent sending.
    Sending,
    /// Also problems that would show only during evaluation: literal arguments of functions, and files.
    Lint,
}

/// Problems of the expressions in the preamble of a text.
pub fn examine_preamble(workspace: &Workspace, engine: &Engine, origin: SourceId, depth: Depth) -> Vec<Problem> {
    let mut examiner = Examiner { workspace, engine, depth, problems: Vec::new() };
    for instruction in instructions(&workspace.source(origin).file.preamble) {
        examiner.instruction(origin, instruction);
    }
    examiner.problems
}

/// Problems of the expressions in a cell's own lines.
pub fn examine_own(workspace: &Workspace, engine: &Engine, cell: CellId, depth: Depth) -> Vec<Problem> {
    let mut examiner = Examiner { workspace, engine, depth, problems: Vec::new() };
    let own = workspace.cell(cell);
    for instruction in own.instructions() {
        examiner.instruction(cell.source, instruction);
    }
    if let Some(request) = &own.request {
        examiner.template(cell.source, request.target, false);
    }
    for field in &own.fields {
        examiner.template(cell.source, field.value, false);
    }
    examiner.template(cell.source, own.template_body(), true);
    examiner.problems.extend(graphql_problems(workspace, cell));
    examiner.waived(cell);
    examiner.problems.extend(conflicts(workspace, cell));
    examiner.problems
}

struct Examiner<'w> {
    workspace: &'w Workspace,
    engine: &'w Engine,
    depth: Depth,
    problems: Vec<Problem>,
}

impl Examiner<'_> {
    fn instruction(&mut self, origin: SourceId, instruction: &Instruction) {
        match instruction.kind {
            InstructionKind::Let { expression, .. }
            | InstructionKind::Yield { expression, .. }
            | InstructionKind::Variable { expression, .. } => {
                self.expression(origin, expression);
            }
            InstructionKind::Check { expression, .. }
            | InstructionKind::Skip { condition: expression, .. }
            | InstructionKind::Wait { until: expression, .. } => {
                self.expression(origin, expression);
                self.condition(origin, expression);
            }
            InstructionKind::Until(expression) | InstructionKind::Expect { condition: expression, .. } => {
                self.expression(origin, expression);
                self.condition(origin, expression);
            }
            InstructionKind::Follow { next: Some(expression), .. } => self.expression(origin, expression),
            InstructionKind::Ask { default, choices, .. } => {
                default.into_iter().chain(choices).for_each(|expression| self.expression(origin, expression));
            }
            InstructionKind::Play { with: Some(with), .. } => {
                let text = &self.workspace.source(origin).text;
                for (_, expression) in InstructionKind::assignments(with, text) {
                    self.expression(origin, expression);
                }
            }
            InstructionKind::Auth(Auth::OAuth2(span)) => self.profile(origin, span),
            InstructionKind::Sign(Some(span)) => self.signing_profile(origin, span),
            _ => {}
        }
        instruction.kind.texts().for_each(|text| self.template(origin, text, false));
        if self.depth == Depth::Lint {
            self.problems.extend(constants::files(self.workspace, origin, &instruction.kind));
        }
    }

    /// A profile that is named outright can be looked for at once.
    fn profile(&mut self, origin: SourceId, span: Span) {
        let name = span.of(&self.workspace.source(origin).text);
        let config = &self.workspace.config;
        if !name.contains("{{") && config.profile(name).is_none() {
            self.problems.push(unknown_profile(config, name, span).in_source(origin));
        }
    }

    fn signing_profile(&mut self, origin: SourceId, span: Span) {
        let name = span.of(&self.workspace.source(origin).text);
        let config = &self.workspace.config;
        if !name.contains("{{") && config.signing_profile(name).is_none() {
            self.problems.push(unknown_signing_profile(config, name, span).in_source(origin));
        }
    }

    fn template(&mut self, origin: SourceId, span: Span, body: bool) {
        let text = &self.workspace.source(origin).text;
        // Most lines have no mark, and need no more than this to know it.
        if memchr::memmem::find(span.of(text).as_bytes(), b"{{").is_none() {
            return;
        }
        let mut problems = Vec::new();
        let template = Template::parse(text, span, body, &mut problems);
        self.problems.extend(problems.into_iter().map(|problem| problem.in_source(origin)));
        for expression in template.expressions() {
            self.expression(origin, expression);
        }
    }

    fn expression(&mut self, origin: SourceId, span: Span) {
        if yieldtray_source::names::is_value_name(span.of(&self.workspace.source(origin).text)) {
            return;
        }
        match compile(self.workspace, self.engine, origin, span) {
            Err(problems) => self.problems.extend(problems),
            Ok(compiled) if self.depth == Depth::Lint => {
                let constants = compiled.constants().iter();
                let found = constants
                    .filter_map(|constant| constants::constant(self.workspace, self.engine, origin, span, constant));
                self.problems.extend(found);
            }
            Ok(_) => {}
        }
    }

    /// A condition that can never be true or false.
    fn condition(&mut self, origin: SourceId, span: Span) {
        if let Ok(compiled) = compile(self.workspace, self.engine, origin, span)
            && !compiled.may_be_bool()
        {
            let message = format!("a condition must be true or false, but this is {}", compiled.describe_type());
            self.problems.push(Problem::error(Code::MismatchedTypes, span, message).in_source(origin));
        }
    }

    /// A waived label that no shared check has was probably misspelt: the check would still be made.
    fn waived(&mut self, cell: CellId) {
        let text = &self.workspace.source(cell.source).text;
        for instruction in self.workspace.cell(cell).instructions() {
            let InstructionKind::Waive(list) = instruction.kind else { continue };
            let mut labels = shared_labels(self.workspace, cell.source);
            labels.push(CONTRACT_LABEL);
            for span in InstructionKind::list(list, text).filter(|span| !labels.contains(&span.of(text))) {
                let label = span.of(text);
                let problem = Problem::error(Code::UnknownLabel, span, format!("no shared check labeled `{label}`"));
                let problem = match closest(label, labels.iter().copied()) {
                    Some(meant) => problem.did_you_mean(meant),
                    None if labels.len() == 1 => problem.with_hint("no shared check has a label"),
                    None => problem.with_hint(format!("available: {}", join_words(&labels))),
                };
                self.problems.push(problem.in_source(cell.source));
            }
        }
    }
}
