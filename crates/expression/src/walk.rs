//! Walks a parsed expression: collects the names and functions that it uses, and adds the random source and the
//! counting of steps.

use super::files::FILES;
use super::functions;
use super::tree::{STEP, is_operator, is_type_name};
use crate::random::RANDOM;
use cel::common::ast::{CallExpr, ComprehensionExpr, EntryExpr, Expr, IdedExpr, LiteralValue, operators};

/// The members of `body` that expressions read: only these are made into values.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum BodyAccess {
    /// They do not name it.
    #[default]
    Nothing,
    /// Only these members: `body.id`, `has(body.id)`.
    Members(Vec<String>),
    /// Only what functions select that take JSON as it is: `path(body, …)`, `pointer(body, …)`.
    Document,
    /// All of it may matter.
    Whole,
}

impl BodyAccess {
    fn member(&mut self, name: &str) {
        match self {
            BodyAccess::Nothing => *self = BodyAccess::Members(vec![name.to_owned()]),
            BodyAccess::Members(names) if !names.iter().any(|known| known == name) => names.push(name.to_owned()),
            BodyAccess::Document => *self = BodyAccess::Whole,
            BodyAccess::Members(_) | BodyAccess::Whole => {}
        }
    }

    /// All of it goes to a function that takes JSON as it is.
    fn document(&mut self) {
        *self = match self {
            BodyAccess::Nothing | BodyAccess::Document => BodyAccess::Document,
            BodyAccess::Members(_) | BodyAccess::Whole => BodyAccess::Whole,
        };
    }

    /// The members that either reads.
    #[must_use]
    pub fn and(mut self, other: &BodyAccess) -> BodyAccess {
        match other {
            BodyAccess::Nothing => {}
            BodyAccess::Members(names) => names.iter().for_each(|name| self.member(name)),
            BodyAccess::Document => self.document(),
            BodyAccess::Whole => self = BodyAccess::Whole,
        }
        self
    }
}

/// The requirements of an expression.
#[derive(Default)]
pub(super) struct Requirements {
    /// Free names, each once, in order of appearance.
    pub names: Vec<String>,
    /// The members of `body` that it reads.
    pub body: BodyAccess,
    /// The environment variables it names.
    pub variables: Vec<String>,
    /// Those of them that it does not only test with `has`.
    pub required_variables: Vec<String>,
    /// True if it uses `env` other than by naming a variable.
    pub whole_env: bool,
    /// True if it calls a function that generates values.
    pub made_up: bool,
    /// True if it reads files.
    pub reads_files: bool,
    /// Calls: the function's name and how many arguments it got, a receiver counted as the first.
    pub calls: Vec<(String, usize)>,
    /// Calls whose last argument is a literal text: the function's name and the text.
    pub constants: Vec<(String, String)>,
}

impl Requirements {
    fn variable(&mut self, name: &str, required: bool) {
        if !self.variables.iter().any(|known| known == name) {
            self.variables.push(name.to_owned());
        }
        if required && !self.required_variables.iter().any(|known| known == name) {
            self.required_variables.push(name.to_owned());
        }
    }
}

/// Collects what `tree` uses and adds to it what running it needs.
pub(super) fn prepare(tree: &mut IdedExpr) -> Requirements {
    let mut walker = Walker { uses: Requirements::default(), bound: Vec::new() };
    walker.walk(tree);
    walker.uses
}

struct Walker {
    uses: Requirements,
    /// Variables of the comprehensions around the node.
    bound: Vec<String>,
}

impl Walker {
    fn walk(&mut self, node: &mut IdedExpr) {
        match &mut node.expr {
            Expr::Ident(name) => {
                if self.name(name) {
                    match name.as_str() {
                        "body" => self.uses.body = BodyAccess::Whole,
                        "env" => self.uses.whole_env = true,
                        _ => {}
                    }
                }
            }
            Expr::Select(select) => match &select.operand.expr {
                Expr::Ident(name) if name == "body" && self.name(name) => self.uses.body.member(&select.field),
                Expr::Ident(name) if name == "env" && self.name(name) => {
                    self.uses.variable(&select.field, !select.test);
                }
                _ => self.walk(&mut select.operand),
            },
            Expr::Call(call) => self.call(call),
            Expr::List(list) => list.elements.iter_mut().for_each(|element| self.walk(element)),
            Expr::Map(map) => map.entries.iter_mut().for_each(|entry| self.entry(&mut entry.expr)),
            Expr::Struct(structure) => structure.entries.iter_mut().for_each(|entry| self.entry(&mut entry.expr)),
            Expr::Comprehension(comprehension) => self.comprehension(comprehension),
            Expr::Literal(_) | Expr::Unspecified => {}
        }
        if may_grow(node) {
            wrap(node);
        }
    }

    /// Takes note of a name; `false` for one that the expression itself gives.
    fn name(&mut self, name: &String) -> bool {
        let free = !name.starts_with('@') && !self.bound.contains(name);
        if free && !self.uses.names.contains(name) {
            self.uses.names.push(name.clone());
        }
        free
    }

    fn entry(&mut self, entry: &mut EntryExpr) {
        match entry {
            EntryExpr::MapEntry(entry) => {
                self.walk(&mut entry.key);
                self.walk(&mut entry.value);
            }
            EntryExpr::StructField(field) => self.walk(&mut field.value),
        }
    }

    fn call(&mut self, call: &mut CallExpr) {
        // `env["NAME"]`
        if let (operators::INDEX, [IdedExpr { expr: Expr::Ident(name), .. }, index]) =
            (call.func_name.as_str(), call.args.as_slice())
            && name == "env"
            && let Expr::Literal(LiteralValue::String(variable)) = &index.expr
        {
            let variable = variable.inner().to_owned();
            if self.name(&"env".to_owned()) {
                self.uses.variable(&variable, true);
                return;
            }
        }
        // The operand that a type is compared with is a type, even if a value has that name.
        if let [left, right] = call.args.as_mut_slice()
            && matches!(call.func_name.as_str(), operators::EQUALS | operators::NOT_EQUALS | operators::IN)
            && (is_type_call(left) || is_type_call(right))
        {
            for side in [left, right] {
                if !is_type(side) {
                    self.walk(side);
                }
            }
            return;
        }
        if let Some(target) = &mut call.target {
            self.walk(target);
        }
        let takes_json = call.target.is_none() && matches!(call.func_name.as_str(), "path" | "pointer");
        for (index, argument) in call.args.iter_mut().enumerate() {
            match &argument.expr {
                Expr::Ident(name) if takes_json && index == 0 && name == "body" && self.name(name) => {
                    self.uses.body.document();
                }
                _ => self.walk(argument),
            }
        }
        if is_operator(&call.func_name) {
            return;
        }
        // Operators have names that no function may have.
        if let Some(IdedExpr { expr: Expr::Literal(LiteralValue::String(literal)), .. }) = call.args.last()
            && call.func_name.starts_with(|c: char| c.is_ascii_alphabetic())
        {
            self.uses.constants.push((call.func_name.clone(), literal.inner().to_owned()));
        }
        let arguments = call.args.len() + usize::from(call.target.is_some());
        self.uses.calls.push((call.func_name.clone(), arguments));
        let hidden = functions::by_name(&call.func_name).and_then(|function| function.hidden);
        if let Some(name) = hidden.filter(|_| call.target.is_none()) {
            call.args.insert(0, IdedExpr { id: 0, expr: Expr::Ident(name.to_owned()) });
            self.uses.made_up |= name == RANDOM;
            self.uses.reads_files |= name == FILES;
        }
    }

    fn comprehension(&mut self, comprehension: &mut ComprehensionExpr) {
        if super::tree::function_of(&comprehension.accu_var).is_some() {
            // A call of an own function: nothing runs in turns, and its bindings hide no name.
            self.walk(&mut comprehension.accu_init);
            return self.walk(&mut comprehension.result);
        }
        self.walk(&mut comprehension.iter_range);
        self.bound.push(comprehension.iter_var.clone());
        self.walk(&mut comprehension.loop_step);
        self.bound.pop();
        count_steps(comprehension);
    }
}

/// Whether a node asks for the type of something: `type(x)`.
fn is_type_call(node: &IdedExpr) -> bool {
    matches!(&node.expr, Expr::Call(call) if call.func_name == "type" && call.args.len() == 1)
}

/// Whether a node names a type, or is a list of such names.
fn is_type(node: &IdedExpr) -> bool {
    match &node.expr {
        Expr::Ident(name) => is_type_name(name),
        Expr::List(list) => list.elements.iter().all(is_type),
        _ => false,
    }
}

/// Makes each turn of a loop count a step. `map` and `filter` append to a list, which the
/// interpreter does in place only while their condition is the literal `true`: there the count goes
/// into the step instead.
fn count_steps(comprehension: &mut ComprehensionExpr) {
    if !matches!(comprehension.loop_cond.expr, Expr::Literal(_)) {
        wrap(&mut comprehension.loop_cond);
        return;
    }
    let Expr::Call(step) = &mut comprehension.loop_step.expr else { return wrap(&mut comprehension.loop_cond) };
    match (step.func_name.as_str(), step.args.as_mut_slice()) {
        (operators::CONDITIONAL, [guard, ..]) => wrap(guard),
        (operators::ADD, [_, items]) => match &mut items.expr {
            Expr::List(list) => list.elements.iter_mut().for_each(wrap),
            _ => wrap(&mut comprehension.loop_cond),
        },
        _ => wrap(&mut comprehension.loop_cond),
    }
}

/// True if a node adds two operands that are not literals: repeated, that doubles a text until memory ends. Additions
/// of a loop to its own list are counted by the loop.
fn may_grow(node: &IdedExpr) -> bool {
    let Expr::Call(call) = &node.expr else { return false };
    let literal = |side: &IdedExpr| matches!(side.expr, Expr::Literal(_));
    let of_loop = |side: &IdedExpr| matches!(&side.expr, Expr::Ident(name) if name.starts_with(['@', '_']));
    call.func_name == operators::ADD && !call.args.iter().any(|side| literal(side) || of_loop(side))
}

fn wrap(node: &mut IdedExpr) {
    let inner = std::mem::take(node);
    let call = CallExpr { func_name: STEP.to_owned(), target: None, args: vec![made(), inner] };
    *node = IdedExpr { id: 0, expr: Expr::Call(call) };
}

fn made() -> IdedExpr {
    IdedExpr { id: 0, expr: Expr::Ident(RANDOM.to_owned()) }
}
