use super::checks::Use;
use super::event::{CheckFailure, YieldReport};
use crate::expression::{Engine, Value};
use crate::problem::{Problem, SourceId};
use crate::response::ResponseNames;
use crate::secret::{MASK, Masker};
use crate::syntax::{Segment, Span, Template};
use crate::workspace::{CellId, Lookup, Memo, Settings, Stage, Tray, Workspace, Yielded};

/// A value is cut to this many characters where it is shown: an explanation is read by a person.
const LONGEST_SHOWN: usize = 600;

/// Judges the checks of one cell against its answer and fills the tray.
pub(super) struct Judge<'a> {
    pub(super) workspace: &'a Workspace,
    pub(super) engine: &'a Engine,
    pub(super) settings: &'a Settings,
    pub(super) tray: &'a mut Tray,
    pub(super) masker: &'a mut Masker,
    pub(super) cell: CellId,
    pub(super) needs: &'a [CellId],
    pub(super) memo: &'a mut Memo,
}

/// What came of it.
#[derive(Default)]
pub(super) struct Judgement {
    pub(super) checks: usize,
    pub(super) failures: Vec<CheckFailure>,
    pub(super) yields: Vec<YieldReport>,
}

impl Judge<'_> {
    pub(super) fn judge(&mut self, uses: &[Use<'_>], names: &mut ResponseNames<'_>) -> Judgement {
        let mut judgement = Judgement::default();
        for step in uses {
            match *step {
                Use::Check { source, label, expression, hint } => {
                    judgement.checks += 1;
                    if let Some(mut failure) = self.check(source, expression, names) {
                        failure.label = label.map(str::to_owned);
                        failure.hint = hint.map(|hint| self.hint(source, hint, names));
                        judgement.failures.push(failure);
                    }
                }
                Use::Yield { source, name, expression, secret } => {
                    let value = self.take(source, name, expression, secret, names);
                    judgement.yields.push(YieldReport { source, span: expression, name: name.to_owned(), value });
                }
            }
        }
        judgement
    }

    fn lookup(&mut self) -> Lookup<'_> {
        Lookup::new(self.workspace, self.engine, self.settings, self.tray, self.cell, self.needs, self.memo)
    }

    /// `None` where the check holds.
    fn check(&mut self, source: SourceId, span: Span, names: &mut ResponseNames<'_>) -> Option<CheckFailure> {
        let mut lookup = self.lookup();
        let compiled = lookup.compile(source, span);
        let bound = match &compiled {
            Ok(compiled) => {
                lookup.bind(compiled, source, span, Stage::After(names)).map(|bindings| (compiled, bindings))
            }
            Err(problems) => Err(problems.clone()),
        };
        let failure = |notes, parts| {
            let expression = span.of(&self.workspace.source(source).text).to_owned();
            CheckFailure { source, span, label: None, expression, parts, notes, hint: None }
        };
        let (compiled, bindings) = match bound {
            Ok(bound) => bound,
            Err(problems) => return Some(failure(self.messages(&problems), Vec::new())),
        };
        let mut notes = match self.engine.evaluate(compiled, &bindings) {
            Ok(value) => match value.as_bool() {
                Some(true) => return None,
                Some(false) => Vec::new(),
                None => vec![format!("a check must be true or false, but this is {}", value.kind().words())],
            },
            Err(message) => vec![self.masker.mask(&message).into_owned()],
        };
        let explanation = self.engine.explain(compiled, &bindings);
        let masker = &*self.masker;
        let mask = |text: &str| masker.mask(text).into_owned();
        for note in &explanation.notes {
            let note = mask(note);
            if !notes.contains(&note) {
                notes.push(note);
            }
        }
        let parts = explanation.parts.into_iter().map(|part| {
            let value = part.value.map(|value| shown(&value, masker)).map_err(|message| mask(&message));
            (mask(&part.text), value)
        });
        // The reason for a failing part is said once, as a note or beside the part.
        let parts: Vec<_> =
            parts.filter(|(_, value)| value.as_ref().err().is_none_or(|message| !notes.contains(message))).collect();
        Some(failure(notes, parts))
    }

    fn take(
        &mut self,
        source: SourceId,
        name: &str,
        span: Span,
        secret: bool,
        names: &mut ResponseNames<'_>,
    ) -> Result<String, String> {
        let value = self
            .lookup()
            .evaluate(source, span, Stage::After(names))
            .map_err(|problems| self.messages(&problems).join("; "))?;
        if secret {
            self.masker.add(&value.to_text().map_or_else(|_| value.show(), std::borrow::Cow::into_owned));
        }
        let shown = if secret { MASK.to_owned() } else { shown(&value, self.masker) };
        self.tray.put(name, Yielded { value, cell: self.cell, secret });
        Ok(shown)
    }

    /// The words after `else`, with their marks resolved; a mark that cannot be is left as it stands.
    fn hint(&mut self, source: SourceId, span: Span, names: &mut ResponseNames<'_>) -> String {
        let text = &self.workspace.source(source).text;
        let template = Template::parse(text, span, false, &mut Vec::new());
        let mut out = String::new();
        for segment in &template.segments {
            match segment {
                Segment::Text(span) => out.push_str(span.of(text)),
                Segment::Escape(_) => {}
                Segment::Mark { span, expression } => {
                    match self.lookup().evaluate(source, *expression, Stage::After(names)) {
                        Ok(value) => out.push_str(&value.to_text().unwrap_or_else(|_| value.show().into())),
                        Err(_) => out.push_str(span.of(text)),
                    }
                }
            }
        }
        self.masker.mask(&out).into_owned()
    }

    fn messages(&self, problems: &[Problem]) -> Vec<String> {
        problems.iter().map(|problem| self.masker.mask(&problem.message).into_owned()).collect()
    }
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
