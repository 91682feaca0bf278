//! Why a check failed: the parts of its expression with the values that they had.

use crate::error::EvalError;
use crate::evaluation::Evaluation;
use crate::functions::schema::violations;
use crate::value::{Value, ValueKind};
use yieldtray_cel as cel;
use yieldtray_cel::{Binary, Kind, Loop, NodeId, Tree, Unary};
use yieldtray_source::Span;

/// One part of an expression.
#[derive(Clone, Debug)]
pub struct Part {
    /// The part as it is written, or an element: `body.lots[1]`.
    pub text: String,
    /// Where it is, counted from the start of the expression: of an element the list.
    pub span: Span,
    /// Its value, or why it has none.
    pub value: Result<Value, EvalError>,
}

/// The parts that decided, and what to know about them.
#[derive(Clone, Debug, Default)]
pub struct Explanation {
    /// The parts in the order of the expression, literals left out.
    pub parts: Vec<Part>,
    /// Remarks: which element, kinds that can never be equal.
    pub notes: Vec<String>,
    /// The two sides of an `==` that does not hold: text and value.
    pub operands: Option<[(String, Value); 2]>,
}

impl Evaluation<'_> {
    /// The parts that show why it has its value. Nothing is evaluated for it.
    pub fn explain(&self) -> Explanation {
        let tree = self.compiled.program.tree();
        let mut explainer = Explainer { evaluation: self, tree, explanation: Explanation::default() };
        explainer.node(tree.root(), false, None);
        explainer.explanation
    }

    /// The lists for which `all` is true because they are empty, as they are written. Beside `||` an empty list was
    /// thought of.
    pub fn vacuous_alls(&self) -> Vec<String> {
        let program = &self.compiled.program;
        let tree = program.tree();
        let (mut found, mut left) = (Vec::new(), vec![tree.root()]);
        while let Some(id) = left.pop() {
            match &tree.node(id).kind {
                Kind::Binary { operator: Binary::And, left: one, right: other, .. } => left.extend([*other, *one]),
                Kind::Macro { name, receiver, .. }
                    if &**name == "all" && self.record.find_loop(id).is_some_and(|found| found.length == 0) =>
                {
                    found.push(tree.node(*receiver).span.of(program.text()).to_owned());
                }
                _ => {}
            }
        }
        found
    }
}

struct Explainer<'e> {
    evaluation: &'e Evaluation<'e>,
    tree: &'e Tree,
    explanation: Explanation,
}

/// The loop around a part: its values are those of the element that was looked at last.
type Around<'l> = Option<&'l Loop>;

impl Explainer<'_> {
    fn source(&self, id: NodeId) -> &str {
        self.tree.node(id).span.of(self.evaluation.compiled.program.text())
    }

    /// The outcome of a part; none if it was not evaluated.
    fn outcome(&self, id: NodeId, around: Around<'_>) -> Option<&Result<cel::Value, cel::EvalError>> {
        match around {
            Some(around) => self.evaluation.record.part_in(around, id),
            None => self.evaluation.record.part(id),
        }
    }

    fn value(&self, id: NodeId, around: Around<'_>) -> Option<&cel::Value> {
        self.outcome(id, around)?.as_ref().ok()
    }

    fn holds(&self, id: NodeId, around: Around<'_>) -> Option<bool> {
        self.outcome(id, around).map(|outcome| matches!(outcome, Ok(cel::Value::Bool(true))))
    }

    /// Explains why a part does not hold; of one that is `negated`, why it does. Chains are followed in a loop.
    fn node(&mut self, id: NodeId, negated: bool, around: Around<'_>) {
        let mut left = vec![(id, negated)];
        while let Some((id, negated)) = left.pop() {
            match &self.tree.node(id).kind {
                // The deciding sides: of `&&` one that is false, of `||` both; the other way round if negated.
                Kind::Binary { operator: operator @ (Binary::And | Binary::Or), left: one, right: other, .. } => {
                    let both = (*operator == Binary::Or) != negated;
                    for side in [*other, *one] {
                        match self.holds(side, around) {
                            Some(holds) if both || holds == negated => left.push((side, negated)),
                            _ => {}
                        }
                    }
                }
                Kind::Unary { operator: Unary::Not, operand } => left.push((*operand, !negated)),
                Kind::Conditional { condition, yes, no } => {
                    self.operand(*condition, around);
                    let branch = if self.holds(*condition, around) == Some(true) { *yes } else { *no };
                    left.push((branch, negated));
                }
                Kind::Binary { operator, left: one, right: other, .. } => {
                    self.operand(*one, around);
                    self.operand(*other, around);
                    self.sides(id, *operator, [*one, *other], around);
                }
                Kind::Call { .. } => self.call(id, around),
                Kind::Macro { .. } => self.quantifier(id, negated, around),
                _ => self.operand(id, around),
            }
        }
    }

    fn call(&mut self, id: NodeId, around: Around<'_>) {
        let Kind::Call { function, receiver, arguments, .. } = &self.tree.node(id).kind else { return };
        let arguments: Vec<NodeId> = receiver.iter().chain(self.tree.list(*arguments)).copied().collect();
        // Which part breaks which rule says more than the whole value.
        if let ("conforms", [value, path]) = (&**function, &arguments[..])
            && let (Some(value), Some(path)) = (self.value(*value, around), self.value(*path, around))
        {
            let broken = violations(self.evaluation.files.as_ref(), value, path);
            if !broken.is_empty() {
                return self.explanation.notes.extend(broken);
            }
        }
        if self.evaluation.compiled.program.user_function(id).is_some() {
            self.operand(id, around);
        }
        for argument in arguments {
            self.operand(argument, around);
        }
    }

    /// A part that is not a literal, with its value. A sum says little without what was added up.
    fn operand(&mut self, id: NodeId, around: Around<'_>) {
        let mut left = vec![id];
        while let Some(id) = left.pop() {
            if is_literal(self.tree, id) {
                continue;
            }
            let text = self.source(id).to_owned();
            let value = match self.outcome(id, around) {
                Some(Ok(value)) => shown(value),
                Some(Err(error)) => Err(EvalError::of(&self.evaluation.compiled.program, error)),
                None => continue,
            };
            // The same text may give other values: `random(1, 9) == random(1, 9)`.
            if self.explanation.parts.iter().any(|part| part.text == text && part.value == value) {
                continue;
            }
            let node = self.tree.node(id);
            self.explanation.parts.push(Part { text, span: node.span, value });
            match &node.kind {
                Kind::Binary {
                    operator: Binary::Add | Binary::Subtract | Binary::Multiply | Binary::Divide | Binary::Modulo,
                    left: one,
                    right: other,
                    ..
                } => left.extend([*other, *one]),
                Kind::Unary { operator: Unary::Negate, operand } => left.push(*operand),
                _ => {}
            }
        }
    }

    /// Notes on the two sides of a comparison, beside their values.
    fn sides(&mut self, id: NodeId, operator: Binary, sides: [NodeId; 2], around: Around<'_>) {
        let [Some(left), Some(right)] = sides.map(|side| self.value(side, around).cloned()) else { return };
        let kinds = [ValueKind::of(&left), ValueKind::of(&right)];
        if matches!(operator, Binary::Equal | Binary::NotEqual) {
            self.note_kinds(kinds);
        }
        if operator != Binary::In {
            self.note_numbers(sides, kinds);
        }
        let failed = operator == Binary::Equal && self.holds(id, around) == Some(false);
        if failed && self.explanation.operands.is_none() {
            let side = |id, value| (self.source(id).to_owned(), Value(value));
            self.explanation.operands = Some([side(sides[0], left), side(sides[1], right)]);
        }
    }

    /// Text never equals a number, a common error.
    fn note_kinds(&mut self, [left, right]: [ValueKind; 2]) {
        let numbers = [ValueKind::Integer, ValueKind::Double, ValueKind::LongNumber];
        let null = left == ValueKind::Null || right == ValueKind::Null;
        if left != right && !null && !(numbers.contains(&left) && numbers.contains(&right)) {
            self.explanation.notes.push(format!("{} never equals {}", left.describe(), right.describe()));
        }
    }

    /// Text beside a number: how to read the number in it, or that a literal needs no quotes.
    fn note_numbers(&mut self, sides: [NodeId; 2], kinds: [ValueKind; 2]) {
        use ValueKind::{Double, Integer, Text};
        let (text, reads) = match kinds {
            [Text, Integer] => (sides[0], "int"),
            [Text, Double] => (sides[0], "double"),
            [Integer, Text] => (sides[1], "int"),
            [Double, Text] => (sides[1], "double"),
            _ => return,
        };
        self.explanation.notes.push(match is_literal(self.tree, text) {
            true => "remove the quotes to compare with a number".to_owned(),
            false => format!("use `{reads}({})` to convert it to a number", self.source(text)),
        });
    }

    /// `all` and `exists`: the element that decided.
    fn quantifier(&mut self, id: NodeId, negated: bool, around: Around<'_>) {
        let Kind::Macro { name, receiver: range, arguments, variables, .. } = &self.tree.node(id).kind else { return };
        let (range, condition) = (*range, self.tree.list(*arguments).first().copied());
        let found = match around {
            // The record of a loop in a loop may be of another element.
            None => self.evaluation.record.find_loop(id).cloned(),
            Some(_) => None,
        };
        let (Some(found), Some(condition)) = (found, condition) else { return self.operand(range, around) };
        let of = self.source(range).to_owned();
        match (&**name, &found.deciding) {
            ("all", None) => {
                if negated {
                    self.explanation.notes.push(match found.length {
                        0 => format!("`{of}` is empty, so `all` is always true"),
                        1 => format!("the only element of `{of}` satisfies the condition"),
                        more => format!("all {more} elements of `{of}` satisfy the condition"),
                    });
                }
                self.operand(range, around);
            }
            ("exists", None) => {
                self.explanation.notes.push(match found.length {
                    0 => format!("`{of}` is empty"),
                    1 => format!("the only element of `{of}` does not satisfy the condition"),
                    more => format!("none of the {more} elements of `{of}` satisfies the condition"),
                });
                self.operand(range, around);
            }
            (_, Some(element)) => {
                let text = format!("{of}{}", index_text(&element.key));
                self.explanation.notes.push(match &element.outcome {
                    Ok(value) if value.as_bool() == Some(true) => format!("is true for `{text}`"),
                    Ok(_) => format!("is false for `{text}`"),
                    Err(error) => {
                        let reason = EvalError::of(&self.evaluation.compiled.program, error);
                        format!("cannot be evaluated for `{text}`: {reason}")
                    }
                });
                let span = self.tree.node(range).span;
                self.explanation.parts.push(Part { text, span, value: shown(&element.value) });
                if element.is_last && element.outcome.is_ok() {
                    let before = self.explanation.parts.len();
                    self.node(condition, negated, Some(&found));
                    // The variable itself is the element, which is shown already.
                    let is_variable = |part: &mut Part| variables.iter().any(|(variable, _)| **variable == *part.text);
                    self.explanation.parts.extract_if(before.., is_variable).for_each(drop);
                }
            }
            _ => self.operand(range, around),
        }
    }
}

/// The value of a part. One that is large only since it has the same part again and again could not be written.
fn shown(value: &cel::Value) -> Result<Value, EvalError> {
    let limit = cel::Limits::default().bytes;
    match value.size_in_bytes(limit + 1) > limit {
        true => Err(EvalError::new(format!("the value is larger than the limit of {} MiB", limit >> 20))),
        false => Ok(Value(value.clone())),
    }
}

/// The index or key of an element, as it is written: `[1]`, `["gala"]`.
fn index_text(key: &cel::Value) -> String {
    format!("[{}]", key.to_json_text())
}

fn is_literal(tree: &Tree, id: NodeId) -> bool {
    match &tree.node(id).kind {
        Kind::Literal(_) => true,
        Kind::List(elements) => elements.iter().all(|element| is_literal(tree, element.value)),
        Kind::Unary { operator: Unary::Negate, operand } => is_literal(tree, *operand),
        Kind::Call { function, receiver: None, arguments, .. } if matches!(&**function, "timestamp" | "duration") => {
            tree.list(*arguments).iter().all(|argument| is_literal(tree, *argument))
        }
        _ => false,
    }
}
