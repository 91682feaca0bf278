use yieldtray_expression::{Kind as ValueKind, Value};
use yieldtray_source::Span;
use yieldtray_source::{Code, Problem};
use yieldtray_syntax::Kind;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::{Lookup, Stage};

/// A question of `% ask`, ready to be put.
#[derive(Clone, Debug)]
pub struct Question {
    /// The cell that asks.
    pub cell: CellId,
    /// The name the answer gets.
    pub name: String,
    /// The words.
    pub text: String,
    /// Whether the answer may not be seen.
    pub secret: bool,
    /// What is taken when nothing is answered.
    pub default: Option<Value>,
    /// The answers there are; none where any will do.
    pub choices: Option<Vec<Value>>,
}

impl Question {
    /// The value of an answer typed as text, by [`Value::typed`]; a secret is always text. Nothing typed is
    /// the default.
    pub fn read(&self, typed: &str) -> Value {
        if typed.is_empty()
            && let Some(default) = &self.default
        {
            return default.clone();
        }
        if self.secret { Value::text(typed) } else { Value::typed(typed) }
    }
}

/// What is taken without asking: name, question, value, and whether it is secret.
type Taken = Vec<(String, String, Value, bool)>;

/// The first question a cell still has, what is wrong with its questions, and what is taken for those
/// that nobody can be asked.
pub(super) fn questions(lookup: &mut Lookup<'_>) -> (Option<Question>, Vec<Problem>, Taken) {
    let (workspace, cell) = (lookup.workspace, lookup.cell);
    let reach = lookup.reach;
    let text = &workspace.source(cell.source).text;
    let (mut problems, mut taken) = (Vec::new(), Vec::new());
    for line in workspace.cell(cell).instructions() {
        let Kind::Ask { name, question, secret, default, choices } = line.kind else { continue };
        let (name, words) = (name.of(text), question.of(text));
        if reach.settings.set_value(name).is_some() {
            continue;
        }
        if let Some(answer) = reach.answers.get(name, words) {
            // Who comes to it first may not be who is heard first: each says that the default was taken.
            let taken = !reach.settings.can_ask;
            problems.extend(taken.then(|| default_taken(name, answer, secret, line.span).in_source(cell.source)));
            continue;
        }
        let secrets_before = lookup.memo.secrets.len();
        let mut evaluate = |span| match lookup.evaluate(cell.source, span, Stage::Before) {
            Ok(value) => Some(value),
            Err(found) => {
                problems.extend(found);
                None
            }
        };
        let given = default.map(&mut evaluate);
        let offered = choices.map(|span| (span, evaluate(span)));
        if given == Some(None) || matches!(offered, Some((_, None))) {
            continue;
        }
        // What would be shown in the question is a secret: then so is the answer.
        let secret = secret || lookup.memo.secrets.len() > secrets_before;
        let default = given.flatten();
        let mut choices = None;
        if let Some((span, Some(list))) = offered {
            match list.members() {
                Some(members) if !members.is_empty() => choices = Some(members),
                members => {
                    let is = if members.is_some() { "an empty list" } else { list.kind().words() };
                    let message = format!("`% ask` offers a choice `from` a list, but this is {is}");
                    let problem = Problem::mistake(Code::FailedExpression, span, message);
                    let hint = "give a list with members, as in `from ['gala', 'fuji']`";
                    problems.push(problem.with_hint(hint).in_source(cell.source));
                    continue;
                }
            }
        }
        if reach.settings.can_ask {
            let (name, text) = (name.to_owned(), words.to_owned());
            return (Some(Question { cell, name, text, secret, default, choices }), problems, taken);
        }
        // In a build job the default is what somebody would have said; that it was taken is worth a word.
        if let Some(default) = default {
            problems.push(default_taken(name, &default, secret, line.span).in_source(cell.source));
            taken.push((name.to_owned(), words.to_owned(), default, secret));
        }
    }
    (None, problems, taken)
}

fn default_taken(name: &str, default: &Value, secret: bool, line: Span) -> Problem {
    let shown = match secret || default.kind() == ValueKind::Bytes {
        true => String::new(),
        false => format!(", {}", default.show()),
    };
    let message = format!("nobody can be asked for `{name}`: its default is taken{shown}");
    Problem::remark(Code::DefaultTaken, line, message).with_hint(format!("pass `--set {name}=…` for another"))
}
