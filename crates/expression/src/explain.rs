//! Why a check failed: the parts of its expression with their values, worked out from the same tree.

use super::error::EvalError;
use super::functions::schema::violations;
use super::tree::uncounted;
use super::unparse::unparse;
use super::{Value, fault, user_functions, value};
use crate::unparse;
use cel::common::ast::{CallExpr, ComprehensionExpr, Expr, IdedExpr, operators};
use cel::common::types::{CelBool, CelList, CelMap, CelString};
use cel::common::value::{CowVal, Val};
use cel::{Context, ExecutionError};

/// One part of an expression.
#[derive(Clone, Debug)]
pub struct Part {
    /// The part as text.
    pub text: String,
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

/// Operators that compare two sides.
const COMPARISONS: [&str; 6] = [
    operators::EQUALS,
    operators::NOT_EQUALS,
    operators::LESS,
    operators::LESS_EQUALS,
    operators::GREATER,
    operators::GREATER_EQUALS,
];

/// Operators whose operands are shown too.
const ARITHMETIC: [&str; 6] = [
    operators::ADD,
    operators::SUBSTRACT,
    operators::MULTIPLY,
    operators::DIVIDE,
    operators::MODULO,
    operators::NEGATE,
];

type Evaluated<'e, 'v> = Result<CowVal<'e, 'v>, ExecutionError>;

pub(super) fn explain<'e>(tree: &'e IdedExpr, context: &'e Context<'_, '_>) -> Explanation {
    let mut explainer = Explainer { context, explanation: Explanation::default() };
    explainer.node(tree, false);
    explainer.explanation
}

/// The reason a tree cannot be worked out: found at the deepest part that fails on its own.
pub(super) fn why(tree: &IdedExpr, context: &Context<'_, '_>) -> Option<String> {
    let error = evaluate(tree, context).err()?;
    let deeper = children(tree).into_iter().find_map(|child| why(child, context));
    Some(deeper.unwrap_or_else(|| describe_own(tree, context, &error)))
}

/// True if an `all` decides the value of a tree: then [`vacuous_alls`] may find something.
pub(super) fn has_all(tree: &IdedExpr) -> bool {
    match &tree.expr {
        Expr::Call(call) if call.func_name == operators::LOGICAL_AND => call.args.iter().any(has_all),
        Expr::Comprehension(comprehension) => is_all(comprehension),
        _ => false,
    }
}

fn is_all(comprehension: &ComprehensionExpr) -> bool {
    unparse::short_form(comprehension).is_some_and(|short| short.name == "all")
}

/// The lists for which `all` is vacuously true, since they are empty. Beside `||` an empty list was thought of.
pub(super) fn vacuous_alls(tree: &IdedExpr, context: &Context<'_, '_>) -> Vec<String> {
    match &tree.expr {
        Expr::Call(call) if call.func_name == operators::LOGICAL_AND => {
            call.args.iter().flat_map(|side| vacuous_alls(side, context)).collect()
        }
        Expr::Comprehension(comprehension) if is_all(comprehension) => {
            let empty = evaluate(&comprehension.iter_range, context).is_ok_and(|range| {
                range.downcast_ref::<CelList<'_>>().is_some_and(|list| list.inner().is_empty())
                    || range.downcast_ref::<CelMap<'_>>().is_some_and(|map| map.inner().is_empty())
            });
            if empty { vec![unparse(&comprehension.iter_range)] } else { Vec::new() }
        }
        _ => Vec::new(),
    }
}

fn evaluate<'e, 'v>(node: &'e IdedExpr, context: &'e Context<'_, 'v>) -> Evaluated<'e, 'v> {
    cel::Value::resolve_val(node, context)
}

/// The parts that are worked out before `node` itself. The inside of a loop is not: its variable has
/// no value out here.
fn children(node: &IdedExpr) -> Vec<&IdedExpr> {
    match &node.expr {
        Expr::Select(select) => vec![&select.operand],
        Expr::Call(call) => call.target.iter().map(|target| &**target).chain(&call.args).collect(),
        Expr::List(list) => list.elements.iter().collect(),
        Expr::Comprehension(comprehension) => match user_functions::replaced_call(comprehension) {
            Some((_, arguments)) => arguments,
            None => vec![&comprehension.iter_range],
        },
        _ => Vec::new(),
    }
}

/// The error at `node`, whose children have no error.
fn describe_own(node: &IdedExpr, context: &Context<'_, '_>, error: &ExecutionError) -> String {
    let (operand, key) = match &node.expr {
        Expr::Select(select) => (&*select.operand, select.field.clone()),
        Expr::Call(CallExpr { func_name, args, .. }) if func_name == operators::INDEX && args.len() == 2 => {
            let key = evaluate(&args[1], context).ok();
            let key = key.and_then(|key| key.downcast_ref::<CelString<'_>>().map(|key| key.inner().to_owned()));
            match key {
                Some(key) => (&args[0], key),
                None => return describe_list(&args[0], context, error),
            }
        }
        _ => return fault::describe(error),
    };
    let Ok(held) = evaluate(operand, context) else { return fault::describe(error) };
    let of = unparse(operand);
    if let Some(map) = held.downcast_ref::<CelMap<'_>>() {
        let mut names: Vec<String> = map.inner().keys().map(super::json::key_text).collect();
        names.sort_unstable();
        let there = match names.len() {
            0 => "it is empty".to_owned(),
            1..=12 => format!("there is {}", yieldtray_source::join_words(&names)),
            more => format!("there is {} and {} more", yieldtray_source::join_words(&names[..10]), more - 10),
        };
        let meant = yieldtray_source::closest(&key, names.iter().map(String::as_str));
        let meant = meant.map(|meant| format!("; did you mean `{meant}`?")).unwrap_or_default();
        return format!("`{of}` has no `{key}`: {there}{meant}");
    }
    format!("`{of}` is {}, so it has no `{key}`", value::kind(&*held).describe())
}

fn describe_list(list: &IdedExpr, context: &Context<'_, '_>, error: &ExecutionError) -> String {
    match evaluate(list, context) {
        Ok(held) => match held.downcast_ref::<CelList<'_>>() {
            Some(members) => format!("{}: `{}` has {}", fault::describe(error), unparse(list), members.inner().len()),
            None => fault::describe(error),
        },
        Err(_) => fault::describe(error),
    }
}

struct Explainer<'e, 'p, 'v> {
    context: &'e Context<'p, 'v>,
    explanation: Explanation,
}

impl<'e> Explainer<'e, '_, '_> {
    /// Explains why a part does not hold; of one that is `negated`, why it does.
    fn node(&mut self, node: &'e IdedExpr, negated: bool) {
        let node = uncounted(node);
        match &node.expr {
            Expr::Call(call) => self.call(node, call, negated),
            // A call of a user function: its value and its arguments.
            Expr::Comprehension(comprehension)
                if let Some((_, arguments)) = user_functions::replaced_call(comprehension) =>
            {
                self.operand(node);
                arguments.into_iter().for_each(|argument| self.operand(argument));
            }
            Expr::Comprehension(comprehension) => self.comprehension(comprehension, negated),
            _ => self.operand(node),
        }
    }

    fn call(&mut self, node: &'e IdedExpr, call: &'e CallExpr, negated: bool) {
        // Which part breaks which rule says more than the whole value.
        if let ("conforms", [reader, value, path]) = (call.func_name.as_str(), call.args.as_slice())
            && let (Ok(reader), Ok(value), Ok(path)) =
                (evaluate(reader, self.context), evaluate(value, self.context), evaluate(path, self.context))
        {
            let broken = violations(&*reader, &*value, &*path);
            if !broken.is_empty() {
                return self.explanation.notes.extend(broken);
            }
        }
        match (call.func_name.as_str(), call.args.as_slice()) {
            // The deciding sides: of `&&` one that is false, of `||` both; the other way round if negated.
            (name @ (operators::LOGICAL_AND | operators::LOGICAL_OR), [left, right]) => {
                let both = (name == operators::LOGICAL_OR) != negated;
                for side in [left, right] {
                    if both || self.holds(side) == negated {
                        self.node(side, negated);
                    }
                }
            }
            (operators::LOGICAL_NOT, [operand]) => self.node(operand, !negated),
            (operators::CONDITIONAL, [condition, yes, no]) => {
                self.operand(condition);
                let branch = if self.holds(condition) { yes } else { no };
                self.node(branch, negated);
            }
            (name, [left, right]) if COMPARISONS.contains(&name) => {
                self.operand(left);
                self.operand(right);
                self.sides(node, name, [left, right]);
            }
            (operators::INDEX, _) => self.operand(node),
            (_, arguments) => {
                if let Some(target) = &call.target {
                    self.operand(target);
                }
                arguments.iter().for_each(|argument| self.operand(argument));
            }
        }
    }

    fn holds(&self, node: &'e IdedExpr) -> bool {
        evaluate(node, self.context).is_ok_and(|value| value.downcast_ref::<CelBool>().is_some_and(|b| *b.inner()))
    }

    /// A part that is not a literal, with its value.
    fn operand(&mut self, node: &'e IdedExpr) {
        let node = uncounted(node);
        if is_literal(node) {
            return;
        }
        let text = unparse(node);
        if text.starts_with('@') || self.explanation.parts.iter().any(|part| part.text == text) {
            return;
        }
        let value = match evaluate(node, self.context) {
            Ok(value) => Ok(Value::copy_of(value.as_ref())),
            Err(error) => Err(EvalError::new(why(node, self.context).unwrap_or_else(|| fault::describe(&error)))),
        };
        self.explanation.parts.push(Part { text, value });
        // A sum says little without what was added up.
        if let Expr::Call(call) = &node.expr
            && ARITHMETIC.contains(&call.func_name.as_str())
        {
            call.args.iter().for_each(|argument| self.operand(argument));
        }
    }

    /// Notes on the two sides of a comparison, beside their values.
    fn sides(&mut self, node: &'e IdedExpr, name: &str, sides: [&'e IdedExpr; 2]) {
        let [Ok(left), Ok(right)] = sides.map(|side| evaluate(side, self.context)) else { return };
        let kinds = [value::kind(&*left), value::kind(&*right)];
        if name == operators::EQUALS || name == operators::NOT_EQUALS {
            self.note_kinds(kinds);
        }
        self.note_numbers(sides, kinds);
        if name == operators::EQUALS && self.explanation.operands.is_none() && !self.holds(node) {
            let side = |node, value: &CowVal<'_, '_>| (unparse(node), Value::copy_of(value.as_ref()));
            self.explanation.operands = Some([side(sides[0], &left), side(sides[1], &right)]);
        }
    }

    /// `"5" == 5` is never true, a common error.
    fn note_kinds(&mut self, [left, right]: [value::ValueKind; 2]) {
        let numbers = [value::ValueKind::Integer, value::ValueKind::Double];
        let null = left == value::ValueKind::Null || right == value::ValueKind::Null;
        if left != right && !null && !(numbers.contains(&left) && numbers.contains(&right)) {
            self.explanation.notes.push(format!("{} never equals {}", left.describe(), right.describe()));
        }
    }

    /// Text beside a number: how to read the number in it, or that a literal needs no quotes.
    fn note_numbers(&mut self, sides: [&'e IdedExpr; 2], kinds: [value::ValueKind; 2]) {
        use value::ValueKind::{Double, Integer, Text};
        let (text, reads) = match kinds {
            [Text, Integer] => (sides[0], "int"),
            [Text, Double] => (sides[0], "double"),
            [Integer, Text] => (sides[1], "int"),
            [Double, Text] => (sides[1], "double"),
            _ => return,
        };
        self.explanation.notes.push(match is_literal(text) {
            true => "without quotes it would be a number".to_owned(),
            false => format!("`{reads}({})` reads the number in it", unparse(text)),
        });
    }

    fn comprehension(&mut self, comprehension: &'e ComprehensionExpr, negated: bool) {
        let range = &comprehension.iter_range;
        let Some(short) = unparse::short_form(comprehension) else { return self.operand(range) };
        let Ok(held) = evaluate(range, self.context) else { return self.operand(range) };
        let of = unparse(range);
        let elements: Vec<(String, Box<dyn Val + '_>)> = if let Some(list) = held.downcast_ref::<CelList<'_>>() {
            let numbered = list.inner().iter().enumerate();
            numbered.map(|(index, element)| (format!("{of}[{index}]"), element.clone_as_boxed())).collect()
        } else if let Some(map) = held.downcast_ref::<CelMap<'_>>() {
            map.inner().keys().map(|key| (unparse::element(&of, key), key.inner().clone_as_boxed())).collect()
        } else {
            return self.operand(range);
        };
        match short.name {
            "all" if negated => {
                self.explanation.notes.push(match elements.len() {
                    0 => format!("`{of}` is empty, so `all` holds of nothing in it"),
                    1 => format!("the one element of `{of}` is so"),
                    more => format!("all {more} elements of `{of}` are so"),
                });
                self.operand(range);
            }
            "exists" if negated => {
                for (text, element) in elements {
                    let shown = Value::copy_of(&*element);
                    let mut inner = self.context.new_inner_scope();
                    inner.add_variable_as_val(&comprehension.iter_var, element);
                    let verdict = evaluate(short.each, &inner);
                    if verdict.is_ok_and(|verdict| verdict.downcast_ref::<CelBool>().is_some_and(|b| *b.inner())) {
                        self.explanation.notes.push(format!("`{text}` is so"));
                        return self.explanation.parts.push(Part { text, value: Ok(shown) });
                    }
                }
                self.operand(range);
            }
            "all" => {
                for (text, element) in elements {
                    let shown = Value::copy_of(&*element);
                    let mut inner = self.context.new_inner_scope();
                    inner.add_variable_as_val(&comprehension.iter_var, element);
                    match evaluate(short.each, &inner) {
                        Ok(verdict) if verdict.downcast_ref::<CelBool>().is_some_and(|b| *b.inner()) => {}
                        Ok(_) => return self.element(text, shown, None),
                        Err(error) => {
                            let reason = why(short.each, &inner).unwrap_or_else(|| fault::describe(&error));
                            return self.element(text, shown, Some(reason));
                        }
                    }
                }
            }
            "exists" => {
                self.explanation.notes.push(match elements.len() {
                    0 => format!("`{of}` is empty"),
                    1 => format!("the one element of `{of}` is not so"),
                    more => format!("none of the {more} elements of `{of}` is so"),
                });
                self.operand(range);
            }
            _ => self.operand(range),
        }
    }

    fn element(&mut self, text: String, value: Value, reason: Option<String>) {
        self.explanation.notes.push(match reason {
            None => format!("`{text}` is not so"),
            Some(reason) => format!("`{text}` cannot be judged: {reason}"),
        });
        self.explanation.parts.push(Part { text, value: Ok(value) });
    }
}

fn is_literal(node: &IdedExpr) -> bool {
    match &node.expr {
        Expr::Literal(_) => true,
        Expr::List(list) => list.elements.iter().all(is_literal),
        Expr::Call(call) if [operators::NEGATE, "timestamp", "duration"].contains(&call.func_name.as_str()) => {
            call.args.iter().all(is_literal)
        }
        _ => false,
    }
}
