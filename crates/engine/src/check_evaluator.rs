//! Evaluating checks and yields on a response, and explaining why a check failed.

use crate::difference::Difference;
use crate::event::{CheckFailure, CheckPart, YieldReport};
use crate::response_exprs::{Purpose, ResponseExpr, reads_body};
use yieldtray_expression::{Engine, EvalError, RandomSource, Value};
use yieldtray_http::{MASK, origin_of};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_workspace::scope::{
    CapturedValue, EvalCache, EvalContext, EvalSettings, Phase, PromptAnswers, Resolver, ResponseScope, Tray,
    body_not_buffered,
};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// A value is cut to this many characters where it is shown: an explanation is read by a person.
const MAX_SHOWN_CHARS: usize = 600;

/// Evaluates the checks of one cell on its response and captures its values.
pub(crate) struct CheckEvaluator<'a> {
    pub(crate) workspace: &'a Workspace,
    pub(crate) engine: &'a Engine,
    pub(crate) random: &'a RandomSource,
    pub(crate) settings: &'a EvalSettings,
    pub(crate) tray: &'a mut Tray,
    pub(crate) answers: &'a PromptAnswers,
    pub(crate) masker: &'a mut Masker,
    pub(crate) cell: CellId,
    /// The place of the cell's step in the plan.
    pub(crate) step: usize,
    pub(crate) needs: &'a [CellId],
    pub(crate) cache: &'a mut EvalCache,
}

/// The results of the checks of a cell.
#[derive(Default)]
pub(crate) struct CheckResults {
    pub(crate) checks: usize,
    pub(crate) failures: Vec<CheckFailure>,
    pub(crate) yields: Vec<YieldReport>,
    /// Warnings about checks that passed.
    pub(crate) problems: Vec<Problem>,
}

impl CheckResults {
    /// Drops checks that failed on a logged response and read a secret: it is masked in the log, so they cannot hold.
    /// `others` are the failures on a response with other text in place of the masks.
    pub(crate) fn drop_masked(&mut self, others: &[CheckFailure]) {
        let is_same_failure = |failure: &CheckFailure| others.iter().any(|other| other.is_same_failure(failure));
        let masked = self.failures.extract_if(.., |failure| failure.mentions(MASK) || !is_same_failure(failure));
        let masked: Vec<CheckFailure> = masked.collect();
        self.checks -= masked.len();
        self.problems.extend(masked.into_iter().map(|failure| {
            let message = "this check reads a secret, which is masked in the log: not evaluated";
            Problem::warning(Code::NotEvaluated, failure.span, message).in_source(failure.source)
        }));
    }
}

impl CheckEvaluator<'_> {
    pub(crate) fn evaluate(&mut self, exprs: &[ResponseExpr<'_>], names: &mut ResponseScope<'_>) -> CheckResults {
        let mut results = CheckResults::default();
        for expr in exprs {
            match expr.purpose {
                Purpose::Check { label, hint } => {
                    results.checks += 1;
                    if let Some(mut failure) = self.check(expr, names, &mut results.problems) {
                        failure.label = label.map(str::to_owned);
                        failure.hint = hint.map(|hint| self.hint(expr.source, hint, names));
                        results.failures.push(failure);
                    }
                }
                Purpose::Yield { name, secret } => {
                    let value = self.capture(expr, name, secret, names);
                    let (source, span) = (expr.source, expr.span);
                    results.yields.push(YieldReport { source, span, name: name.to_owned(), value });
                }
            }
        }
        results
    }

    /// True if a check holds, or a value can be captured, which is then stored. The reason is not worked out.
    pub(crate) fn passes(&mut self, expr: &ResponseExpr<'_>, names: &mut ResponseScope<'_>) -> bool {
        if unreadable_body(expr, names).is_some() {
            return false;
        }
        let bound = self.resolver().bind(&expr.expression, expr.source, expr.span, Phase::Response(names));
        self.mask_new_secrets();
        let Some(value) =
            bound.ok().and_then(|bindings| self.engine.evaluate(&expr.expression, &bindings, self.random).ok())
        else {
            return false;
        };
        match expr.purpose {
            Purpose::Check { .. } => value.as_bool() == Some(true),
            Purpose::Yield { name, secret } => {
                self.store(name, value, secret, names);
                true
            }
        }
    }

    fn resolver(&mut self) -> Resolver<'_> {
        let Self { workspace, engine, random, settings, answers, .. } = *self;
        let context = EvalContext { workspace, engine, random, settings, tray: self.tray, answers };
        Resolver::new(context, self.cell, self.needs, self.cache)
    }

    /// Hides the secrets that were looked up.
    fn mask_new_secrets(&mut self) {
        self.masker.learn(self.cache.new_secrets());
    }

    /// `None` where the check holds.
    fn check(
        &mut self,
        expr: &ResponseExpr<'_>,
        names: &mut ResponseScope<'_>,
        problems: &mut Vec<Problem>,
    ) -> Option<CheckFailure> {
        let ResponseExpr { source, span, ref expression, .. } = *expr;
        // A body that was not kept cannot be judged, and a check that is not judged did not pass.
        if let Some(why) = unreadable_body(expr, names) {
            return Some(self.failure(expr, vec![why], Vec::new()));
        }
        let bound = self.resolver().bind(expression, source, span, Phase::Response(names));
        self.mask_new_secrets();
        let bindings = match bound {
            Ok(bindings) => bindings,
            Err(problems) => return Some(self.failure(expr, self.messages(&problems), Vec::new())),
        };
        let evaluation = self.engine.evaluate_with_record(expression, &bindings, self.random);
        if evaluation.is_true() {
            problems.extend(evaluation.vacuous_alls().into_iter().map(|list| vacuous_all(expr, &list)));
            return None;
        }
        let mut notes = match evaluation.outcome() {
            Ok(value) => match value.as_bool() {
                Some(_) => Vec::new(),
                None => vec![format!("a check must be true or false, but this is {}", value.kind().describe())],
            },
            Err(error) => vec![self.masker.mask(error.as_str()).into_owned()],
        };
        let explanation = evaluation.explain();
        let masker = &*self.masker;
        let mask = |text: &str| masker.mask(text).into_owned();
        for note in &explanation.notes {
            let note = mask(note);
            if !notes.contains(&note) {
                notes.push(note);
            }
        }
        let sides = explanation.operands.as_ref();
        let difference = sides.and_then(|[left, right]| Difference::of(left, right, masker));
        // Sides that are compared line by line are not shown again as a whole.
        let compared = sides.filter(|_| difference.is_some());
        let is_compared = |text: &str| compared.is_some_and(|sides| sides.iter().any(|(side, _)| side == text));
        let parts = explanation.parts.into_iter().filter(|part| !is_compared(&part.text)).map(|part| {
            let value = part.value.map(|value| display_value(&value, masker));
            let value = value.map_err(|error| EvalError::new(mask(error.as_str())));
            CheckPart { text: mask(&part.text), span: part.span, value }
        });
        // The reason for a failing part is said once, as a note or beside the part.
        let parts: Vec<_> = parts
            .filter(|part| {
                part.value.as_ref().err().is_none_or(|error| !notes.iter().any(|note| note == error.as_str()))
            })
            .collect();
        Some(CheckFailure { difference, ..self.failure(expr, notes, parts) })
    }

    fn failure(&self, expr: &ResponseExpr<'_>, notes: Vec<String>, parts: Vec<CheckPart>) -> CheckFailure {
        CheckFailure { parts, ..CheckFailure::at(self.workspace, expr.source, expr.span, notes) }
    }

    fn capture(
        &mut self,
        expr: &ResponseExpr<'_>,
        name: &str,
        secret: bool,
        names: &mut ResponseScope<'_>,
    ) -> Result<String, EvalError> {
        if let Some(why) = unreadable_body(expr, names) {
            return Err(EvalError::new(why));
        }
        let value = self.value_of(expr, names)?;
        if secret {
            self.masker.learn([value.clone()]);
        }
        let hidden = secret && !self.masker.reveals();
        let shown = if hidden { MASK.to_owned() } else { display_value(&value, self.masker) };
        self.store(name, value, secret, names);
        Ok(shown)
    }

    fn store(&mut self, name: &str, value: Value, secret: bool, names: &ResponseScope<'_>) {
        let (source, cell) = (self.cell.source, Some(self.cell));
        let origin = secret.then(|| origin_of(&names.exchange().sent.url));
        // A member of a body must not keep all of it.
        let value = value.detached();
        self.tray.put_at(name, CapturedValue { value, source, cell, secret, origin, kept_at: None }, self.step);
    }

    fn value_of(&mut self, expr: &ResponseExpr<'_>, names: &mut ResponseScope<'_>) -> Result<Value, EvalError> {
        let bound = self.resolver().bind(&expr.expression, expr.source, expr.span, Phase::Response(names));
        self.mask_new_secrets();
        let bindings = bound.map_err(|problems| EvalError::new(self.messages(&problems).join("; ")))?;
        let value = self.engine.evaluate(&expr.expression, &bindings, self.random);
        value.map_err(|error| EvalError::new(self.masker.mask(error.as_str())))
    }

    /// The text after `else` with its placeholders resolved; one that cannot be resolved stays as written.
    fn hint(&mut self, source: SourceId, span: Span, names: &mut ResponseScope<'_>) -> String {
        let out = self.resolver().render(source, span, Phase::Response(names));
        self.mask_new_secrets();
        self.masker.mask(&out).into_owned()
    }

    fn messages(&self, problems: &[Problem]) -> Vec<String> {
        problems.iter().map(|problem| self.masker.mask(&problem.message).into_owned()).collect()
    }
}

/// A check that passed without having looked at anything.
fn vacuous_all(expr: &ResponseExpr<'_>, list: &str) -> Problem {
    let message = format!("`{list}` is empty, so this check always passes");
    let hint = format!("add `size({list}) > 0 && …` if it must not be empty");
    Problem::warning(Code::EmptyList, expr.span, message).with_hint(hint).in_source(expr.source)
}

/// Why an expression that reads the body cannot be worked out, where the body was only passed on.
fn unreadable_body(expr: &ResponseExpr<'_>, names: &ResponseScope<'_>) -> Option<String> {
    let exchange = names.exchange();
    (!exchange.is_body_complete() && reads_body(&expr.expression)).then(|| body_not_buffered(exchange))
}

/// A value as it is shown: masked first, so that a cut never leaves half a secret.
fn display_value(value: &Value, masker: &Masker) -> String {
    let whole = value.show();
    let masked = masker.mask(&whole);
    match masked.char_indices().nth(MAX_SHOWN_CHARS) {
        None => masked.into_owned(),
        Some((at, _)) => format!("{}…", &masked[..at]),
    }
}
