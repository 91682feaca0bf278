use super::checks::{Purpose, Use};
use super::difference::Difference;
use super::event::{CheckFailure, YieldReport};
use crate::checks;
use yieldtray_expression::Engine;
use yieldtray_expression::Value;
use yieldtray_http::{MASK, origin_of};
use yieldtray_source::Span;
use yieldtray_source::{Code, Problem, SourceId};
use yieldtray_workspace::scope::ResponseNames;
use yieldtray_workspace::scope::{Answers, Lookup, Memo, Reach, Settings, Stage, Tray, Yielded};
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CellId, Workspace};

/// A value is cut to this many characters where it is shown: an explanation is read by a person.
const LONGEST_SHOWN: usize = 600;

/// Judges the checks of one cell against its answer and fills the tray.
pub(super) struct Judge<'a> {
    pub(super) workspace: &'a Workspace,
    pub(super) engine: &'a Engine,
    pub(super) settings: &'a Settings,
    pub(super) tray: &'a mut Tray,
    pub(super) answers: &'a Answers,
    pub(super) masker: &'a mut Masker,
    pub(super) cell: CellId,
    /// The place of the cell's step in the plan.
    pub(super) step: usize,
    pub(super) needs: &'a [CellId],
    pub(super) memo: &'a mut Memo,
}

/// The parts of an expression: text, and value or why there is none.
type Parts = Vec<(String, Result<String, String>)>;

/// What came of it.
#[derive(Default)]
pub(super) struct Judgement {
    pub(super) checks: usize,
    pub(super) failures: Vec<CheckFailure>,
    pub(super) yields: Vec<YieldReport>,
    /// What is worth knowing of checks that passed.
    pub(super) remarks: Vec<Problem>,
}

impl Judgement {
    /// Leaves checks out that failed on an answer of the log and read a secret: there it is masked, so they
    /// cannot hold. `others` are the failures of an answer that is the same but for what stands in place of
    /// secrets.
    pub(super) fn leave_masked_out(&mut self, others: &[CheckFailure]) {
        let is_alike = |failure: &CheckFailure| others.iter().any(|other| other.is_alike(failure));
        let masked = self.failures.extract_if(.., |failure| failure.tells(MASK) || !is_alike(failure));
        let masked: Vec<CheckFailure> = masked.collect();
        self.checks -= masked.len();
        self.remarks.extend(masked.into_iter().map(|failure| {
            let message = "this check reads a secret, which the log masks: it is not judged";
            Problem::remark(Code::NotJudged, failure.span, message).in_source(failure.source)
        }));
    }
}

impl Judge<'_> {
    pub(super) fn judge(&mut self, uses: &[Use<'_>], names: &mut ResponseNames<'_>) -> Judgement {
        let mut judgement = Judgement::default();
        for step in uses {
            match step.purpose {
                Purpose::Check { label, hint } => {
                    judgement.checks += 1;
                    if let Some(mut failure) = self.check(step, names, &mut judgement.remarks) {
                        failure.label = label.map(str::to_owned);
                        failure.hint = hint.map(|hint| self.hint(step.source, hint, names));
                        judgement.failures.push(failure);
                    }
                }
                Purpose::Yield { name, secret } => {
                    let value = self.take(step, name, secret, names);
                    let (source, span) = (step.source, step.span);
                    judgement.yields.push(YieldReport { source, span, name: name.to_owned(), value });
                }
            }
        }
        judgement
    }

    /// Whether a check holds, or a value can be taken, which is then put on the tray. Why is not told.
    pub(super) fn passes(&mut self, step: &Use<'_>, names: &mut ResponseNames<'_>) -> bool {
        if not_held(step, names).is_some() {
            return false;
        }
        let bound = self.lookup().bind(&step.expression, step.source, step.span, Stage::After(names));
        self.learn();
        let Some(value) = bound.ok().and_then(|bindings| self.engine.evaluate(&step.expression, &bindings).ok()) else {
            return false;
        };
        match step.purpose {
            Purpose::Check { .. } => value.as_bool() == Some(true),
            Purpose::Yield { name, secret } => {
                self.put(name, value, secret, names);
                true
            }
        }
    }

    fn lookup(&mut self) -> Lookup<'_> {
        let Self { workspace, engine, settings, answers, .. } = *self;
        let reach = Reach { workspace, engine, settings, tray: self.tray, answers };
        Lookup::new(reach, self.cell, self.needs, self.memo)
    }

    /// Hides the secrets that were looked up.
    fn learn(&mut self) {
        self.masker.learn(self.memo.new_secrets());
    }

    /// `None` where the check holds.
    fn check(
        &mut self,
        step: &Use<'_>,
        names: &mut ResponseNames<'_>,
        remarks: &mut Vec<Problem>,
    ) -> Option<CheckFailure> {
        let Use { source, span, ref expression, .. } = *step;
        // What was not kept cannot be judged, and what is not judged did not pass.
        if let Some(why) = not_held(step, names) {
            return Some(self.failure(step, vec![why], Vec::new()));
        }
        let bound = self.lookup().bind(expression, source, span, Stage::After(names));
        self.learn();
        let mut outcome = bound.map(|bindings| {
            let value = self.engine.evaluate(expression, &bindings);
            if value.as_ref().is_ok_and(|value| value.as_bool() == Some(true)) {
                let vain = self.engine.held_of_nothing(expression, &bindings);
                remarks.extend(vain.into_iter().map(|list| held_of_nothing(step, &list)));
            }
            value
        });
        if let Ok(Ok(value)) = &outcome
            && value.as_bool() == Some(true)
        {
            return None;
        }
        // From here on a person is told why, and may need to see more than the check reads.
        names.read_all();
        let bound = self.lookup().bind(expression, source, span, Stage::After(names));
        if let (Ok(Err(_)), Ok(bindings)) = (&outcome, &bound) {
            outcome = Ok(self.engine.evaluate(expression, bindings));
        }
        let (outcome, bindings) = match (outcome, bound) {
            (Ok(outcome), Ok(bindings)) => (outcome, bindings),
            (Err(problems), _) | (_, Err(problems)) => {
                return Some(self.failure(step, self.messages(&problems), Vec::new()));
            }
        };
        let mut notes = match outcome {
            Ok(value) => match value.as_bool() {
                Some(_) => Vec::new(),
                None => vec![format!("a check must be true or false, but this is {}", value.kind().words())],
            },
            Err(message) => vec![self.masker.mask(&message).into_owned()],
        };
        let explanation = self.engine.explain(expression, &bindings);
        let masker = &*self.masker;
        let mask = |text: &str| masker.mask(text).into_owned();
        for note in &explanation.notes {
            let note = mask(note);
            if !notes.contains(&note) {
                notes.push(note);
            }
        }
        let sides = explanation.unequal.as_ref();
        let difference = sides.and_then(|[left, right]| Difference::of(left, right, masker));
        // What is compared line by line is not told again as a whole.
        let compared = sides.filter(|_| difference.is_some());
        let is_compared = |text: &str| compared.is_some_and(|sides| sides.iter().any(|(side, _)| side == text));
        let parts = explanation.parts.into_iter().filter(|part| !is_compared(&part.text)).map(|part| {
            let value = part.value.map(|value| shown(&value, masker)).map_err(|message| mask(&message));
            (mask(&part.text), value)
        });
        // The reason for a failing part is said once, as a note or beside the part.
        let parts: Vec<_> =
            parts.filter(|(_, value)| value.as_ref().err().is_none_or(|message| !notes.contains(message))).collect();
        Some(CheckFailure { difference, ..self.failure(step, notes, parts) })
    }

    fn failure(&self, step: &Use<'_>, notes: Vec<String>, parts: Parts) -> CheckFailure {
        let (source, span) = (step.source, step.span);
        let expression = span.of(&self.workspace.source(source).text).to_owned();
        CheckFailure { source, span, label: None, expression, parts, difference: None, notes, hint: None }
    }

    fn take(
        &mut self,
        step: &Use<'_>,
        name: &str,
        secret: bool,
        names: &mut ResponseNames<'_>,
    ) -> Result<String, String> {
        if let Some(why) = not_held(step, names) {
            return Err(why);
        }
        let mut value = self.evaluate(step, names);
        if value.is_err() {
            // The words of an error may tell what else there is.
            names.read_all();
            value = self.evaluate(step, names);
        }
        let value = value?;
        if secret {
            self.masker.learn([value.clone()]);
        }
        let hidden = secret && !self.masker.reveals();
        let shown = if hidden { MASK.to_owned() } else { shown(&value, self.masker) };
        self.put(name, value, secret, names);
        Ok(shown)
    }

    fn put(&mut self, name: &str, value: Value, secret: bool, names: &ResponseNames<'_>) {
        let (source, cell) = (self.cell.source, Some(self.cell));
        let origin = secret.then(|| origin_of(&names.exchange().sent.url));
        self.tray.put_at(name, Yielded { value, source, cell, secret, origin, kept_at: None }, self.step);
    }

    fn evaluate(&mut self, step: &Use<'_>, names: &mut ResponseNames<'_>) -> Result<Value, String> {
        let bound = self.lookup().bind(&step.expression, step.source, step.span, Stage::After(names));
        self.learn();
        let bindings = bound.map_err(|problems| self.messages(&problems).join("; "))?;
        let value = self.engine.evaluate(&step.expression, &bindings);
        value.map_err(|message| self.masker.mask(&message).into_owned())
    }

    /// The words after `else`, with their marks resolved; a mark that cannot be is left as it stands.
    fn hint(&mut self, source: SourceId, span: Span, names: &mut ResponseNames<'_>) -> String {
        let out = self.lookup().words(source, span, Stage::After(names));
        self.learn();
        self.masker.mask(&out).into_owned()
    }

    fn messages(&self, problems: &[Problem]) -> Vec<String> {
        problems.iter().map(|problem| self.masker.mask(&problem.message).into_owned()).collect()
    }
}

/// A check that passed without having looked at anything.
fn held_of_nothing(step: &Use<'_>, list: &str) -> Problem {
    let message = format!("`{list}` is empty, so `all` holds of nothing in it");
    let hint = format!("write `size({list}) > 0 && …` if something must be there");
    Problem::remark(Code::EmptyList, step.span, message).with_hint(hint).in_source(step.source)
}

/// Why an expression that reads the body cannot be worked out, where the body was only passed on.
fn not_held(step: &Use<'_>, names: &ResponseNames<'_>) -> Option<String> {
    let exchange = names.exchange();
    (!exchange.holds_body() && checks::reads_body(&step.expression)).then(|| checks::not_held(exchange))
}

/// A value as it is shown: masked first, so that a cut never leaves half a secret.
fn shown(value: &Value, masker: &Masker) -> String {
    let whole = value.show();
    let masked = masker.mask(&whole);
    match masked.char_indices().nth(LONGEST_SHOWN) {
        None => masked.into_owned(),
        Some((at, _)) => format!("{}…", &masked[..at]),
    }
}
