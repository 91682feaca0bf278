//! Questions of `% ask`.

use yieldtray_expression::{Value, ValueKind};
use yieldtray_source::{Code, Problem, Span};
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::{Phase, Resolver};

/// A question of `% ask`.
#[derive(Clone, Debug)]
pub struct Question {
    /// The cell that asks.
    pub cell: CellId,
    /// The name that the answer is stored under.
    pub name: String,
    /// The question, as it is written.
    pub text: String,
    /// True if the answer is a secret.
    pub secret: bool,
    /// The answer if nothing is typed.
    pub default: Option<Value>,
    /// The choices; `None` if any answer is allowed.
    pub choices: Option<Vec<Value>>,
}

impl Question {
    /// The value of a typed answer, by [`Value::infer`]; a secret is always text. If nothing was typed, the default.
    pub fn read(&self, typed: &str) -> Value {
        if typed.is_empty()
            && let Some(default) = &self.default
        {
            return default.clone();
        }
        if self.secret { Value::text(typed) } else { Value::infer(typed) }
    }
}

/// The default of a question that cannot be asked, since nobody is there.
pub(crate) struct DefaultAnswer {
    pub(crate) name: String,
    pub(crate) question: String,
    pub(crate) value: Value,
    pub(crate) secret: bool,
}

/// The first question that a cell still has, the problems of its questions, and the defaults of those that cannot be
/// asked.
pub(crate) fn next_question(resolver: &mut Resolver<'_>) -> (Option<Question>, Vec<Problem>, Vec<DefaultAnswer>) {
    let (workspace, cell) = (resolver.workspace, resolver.cell);
    let context = resolver.context;
    let text = &workspace.source(cell.source).text;
    let (mut problems, mut defaults) = (Vec::new(), Vec::new());
    for line in workspace.cell(cell).instructions() {
        let InstructionKind::Ask { name, question, secret, default, choices } = line.kind else { continue };
        let (name, question_text) = (name.of(text), question.of(text));
        if context.settings.set_value(name).is_some() {
            continue;
        }
        if let Some(answer) = context.answers.get(name, question_text) {
            // Lanes may emit in another order than they ask in, so each cell reports the default; the event buffer
            // emits it once.
            let is_default = !context.settings.can_ask;
            problems.extend(is_default.then(|| default_taken(name, answer, secret, line.span).in_source(cell.source)));
            continue;
        }
        let secrets_before = resolver.cache.secrets.len();
        let mut evaluate = |span| match resolver.evaluate(cell.source, span, Phase::Request) {
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
        // The question would show a secret, so its answer is one too.
        let secret = secret || resolver.cache.secrets.len() > secrets_before;
        let default = given.flatten();
        let mut choices = None;
        if let Some((span, Some(list))) = offered {
            match list.members() {
                Some(members) if !members.is_empty() => choices = Some(members),
                members => {
                    let is = if members.is_some() { "an empty list" } else { list.kind().describe() };
                    let message = format!("the choices of `% ask … from` must be a list, but this is {is}");
                    let problem = Problem::error(Code::FailedExpression, span, message);
                    let hint = "use a non-empty list, for example `from ['gala', 'fuji']`";
                    problems.push(problem.with_hint(hint).in_source(cell.source));
                    continue;
                }
            }
        }
        if context.settings.can_ask {
            let (name, text) = (name.to_owned(), question_text.to_owned());
            return (Some(Question { cell, name, text, secret, default, choices }), problems, defaults);
        }
        // In a build job the default is what somebody would have answered; the report says so.
        if let Some(default) = default {
            problems.push(default_taken(name, &default, secret, line.span).in_source(cell.source));
            defaults.push(DefaultAnswer {
                name: name.to_owned(),
                question: question_text.to_owned(),
                value: default,
                secret,
            });
        }
    }
    (None, problems, defaults)
}

fn default_taken(name: &str, default: &Value, secret: bool, line: Span) -> Problem {
    let shown = match secret || default.kind() == ValueKind::Bytes {
        true => String::new(),
        false => format!(", {}", default.show()),
    };
    let message = format!("cannot prompt for `{name}`: using its default{shown}");
    Problem::warning(Code::DefaultUsed, line, message).with_hint(format!("pass `--set {name}=…` to use another value"))
}
