//! Functions of a workspace's own: expressions with parameters. A call is replaced by the function's
//! body around which its arguments are bound, so that each argument is worked out once and the crate
//! that runs expressions needs to know nothing of it.

use super::parse::CompileError;
use super::tree::{self, function_of};
use cel::common::ast::{ComprehensionExpr, EntryExpr, Expr, IdedExpr, ListExpr, LiteralValue};
use yieldtray_source::{Code, SourceId, Span};

/// A function as the configuration describes it.
#[derive(Clone, Debug)]
pub struct UserFunction {
    /// Its name.
    pub name: String,
    /// Its parameters.
    pub params: Vec<String>,
    /// Its expression.
    pub is: String,
    /// Its result, in a line.
    pub help: Option<String>,
    /// The configuration it is in.
    pub source: SourceId,
    /// The span of its name.
    pub span: Span,
    /// The span of its expression, quotes included.
    pub body: Span,
}

impl UserFunction {
    /// The function as it is called: `lot_label(lot, row)`.
    pub fn call(&self) -> String {
        format!("{}({})", self.name, self.params.join(", "))
    }
}

/// The variable for a parameter inside a body: a name that cannot be written, and another for each function, so that
/// it hides no caller's name.
fn bound_name(function: &str, param: &str) -> String {
    format!("@{function}.{param}")
}

/// Calls of user functions that one expression may expand to, nested ones included.
const MAX_CALLS: usize = 200;

/// The functions of a workspace, ready to be called.
#[derive(Debug, Default)]
pub(super) struct UserFunctions {
    functions: Vec<CompiledFunction>,
}

#[derive(Debug)]
struct CompiledFunction {
    name: String,
    params: Vec<String>,
    /// The body with its parameters renamed; `None` where it cannot be read.
    body: Option<IdedExpr>,
}

impl UserFunctions {
    pub(super) fn new(functions: &[UserFunction]) -> Self {
        let ready = functions.iter().map(|function| {
            let body = super::parse::parse(&function.is).ok().map(|mut body| {
                rename(&mut body, function, &mut Vec::new());
                body
            });
            CompiledFunction { name: function.name.clone(), params: function.params.clone(), body }
        });
        Self { functions: ready.collect() }
    }

    pub(super) fn names(&self) -> impl Iterator<Item = &str> {
        self.functions.iter().map(|function| function.name.as_str())
    }

    /// Puts the bodies of own functions where they are called. The faults have no place yet: whoever
    /// knows the text finds the name in it. `true` where anything was put in.
    pub(super) fn expand(&self, tree: &mut IdedExpr) -> Result<bool, CompileError> {
        if self.functions.is_empty() {
            return Ok(false);
        }
        let mut expander = Expander { own: self, calls: 0, path: Vec::new() };
        expander.expand(tree)?;
        Ok(expander.calls > 0)
    }
}

struct Expander<'o> {
    own: &'o UserFunctions,
    calls: usize,
    /// The functions whose bodies contain the node.
    path: Vec<usize>,
}

impl Expander<'_> {
    fn expand(&mut self, node: &mut IdedExpr) -> Result<(), CompileError> {
        tree::each_child(node, &mut |child| self.expand(child))?;
        let Expr::Call(call) = &mut node.expr else { return Ok(()) };
        let Some(index) = self.own.functions.iter().position(|own| own.name == call.func_name) else { return Ok(()) };
        let own = &self.own.functions[index];
        let arguments: Vec<IdedExpr> =
            call.target.take().map(|target| *target).into_iter().chain(std::mem::take(&mut call.args)).collect();
        if arguments.len() != own.params.len() {
            let wants = match own.params.len() {
                0 => "no arguments".to_owned(),
                1 => "1 argument".to_owned(),
                more => format!("{more} arguments"),
            };
            let message = format!("`{}` takes {wants}, but got {}", own.name, arguments.len());
            let hint = format!("write it as in `{}({})`", own.name, own.params.join(", "));
            return Err(fault(Code::WrongArguments, &own.name, message, hint));
        }
        if self.path.contains(&index) {
            let names: Vec<&str> =
                self.path.iter().chain([&index]).map(|index| self.own.functions[*index].name.as_str()).collect();
            let message = format!("functions that call each other: {}", names.join(" → "));
            return Err(fault(Code::ValueCycle, &own.name, message, "a function may not come back to itself"));
        }
        self.calls += 1;
        if self.calls > MAX_CALLS {
            let message = format!("`{}` comes to more than {MAX_CALLS} calls of functions", own.name);
            return Err(fault(Code::BadExpression, &own.name, message, "name what is used twice with `% let`"));
        }
        let Some(mut body) = own.body.clone() else {
            // The error in it was reported there.
            let message = format!("`{}` cannot be called: its expression has a mistake", own.name);
            return Err(fault(Code::BadExpression, &own.name, message, "see the configuration"));
        };
        self.path.push(index);
        self.expand(&mut body)?;
        self.path.pop();
        // Without parameters there is nothing to bind, but the call must still be distinguishable from its body.
        let marks = [String::new()];
        let params = if own.params.is_empty() { &marks[..] } else { &own.params[..] };
        let mut arguments = arguments.into_iter();
        let bindings: Vec<(&String, IdedExpr)> =
            params.iter().map(|param| (param, arguments.next().unwrap_or_else(null))).collect();
        for (param, argument) in bindings.into_iter().rev() {
            body = bind(bound_name(&own.name, param), argument, body);
        }
        *node = body;
        Ok(())
    }
}

fn fault(code: Code, name: &str, message: String, hint: impl Into<String>) -> CompileError {
    CompileError {
        code,
        span: Span::empty(0),
        message,
        hint: Some(hint.into()),
        replacement: None,
        about: Some(name.to_owned()),
    }
}

fn null() -> IdedExpr {
    IdedExpr { id: 0, expr: Expr::Literal(LiteralValue::Null) }
}

/// `result` in which `variable` is `value`: a loop over nothing, whose accumulator is all it has.
fn bind(variable: String, value: IdedExpr, result: IdedExpr) -> IdedExpr {
    let expr = Expr::Comprehension(Box::new(ComprehensionExpr {
        iter_range: IdedExpr { id: 0, expr: Expr::List(ListExpr { elements: Vec::new(), ..ListExpr::default() }) },
        iter_var: "@nothing".to_owned(),
        iter_var2: None,
        accu_init: value,
        loop_cond: IdedExpr { id: 0, expr: Expr::Literal(LiteralValue::Boolean(false.into())) },
        loop_step: IdedExpr { id: 0, expr: Expr::Ident(variable.clone()) },
        accu_var: variable,
        result,
    }));
    IdedExpr { id: 0, expr }
}

/// A call of a user function that was expanded: its name, its arguments, and its body.
pub(super) fn replaced_call(comprehension: &ComprehensionExpr) -> Option<(&str, Vec<&IdedExpr>)> {
    let name = function_of(&comprehension.accu_var)?;
    let mut arguments = Vec::new();
    let mut inner = comprehension;
    loop {
        if !inner.accu_var.ends_with('.') {
            arguments.push(&inner.accu_init);
        }
        match &inner.result.expr {
            Expr::Comprehension(next) if function_of(&next.accu_var) == Some(name) => inner = next,
            _ => return Some((name, arguments)),
        }
    }
}

/// Gives the parameters in a body the names they are bound by, but not variables of its own loops.
fn rename(node: &mut IdedExpr, function: &UserFunction, hidden: &mut Vec<String>) {
    match &mut node.expr {
        Expr::Ident(name) => {
            if function.params.contains(name) && !hidden.contains(name) {
                *name = bound_name(&function.name, name);
            }
        }
        Expr::Comprehension(comprehension) => {
            rename(&mut comprehension.iter_range, function, hidden);
            rename(&mut comprehension.accu_init, function, hidden);
            hidden.push(comprehension.iter_var.clone());
            rename(&mut comprehension.loop_cond, function, hidden);
            rename(&mut comprehension.loop_step, function, hidden);
            rename(&mut comprehension.result, function, hidden);
            hidden.pop();
        }
        Expr::Map(map) => {
            for entry in &mut map.entries {
                if let EntryExpr::MapEntry(entry) = &mut entry.expr {
                    rename(&mut entry.key, function, hidden);
                    rename(&mut entry.value, function, hidden);
                }
            }
        }
        _ => {
            let _ = tree::each_child(node, &mut |child| {
                rename(child, function, hidden);
                Ok::<(), ()>(())
            });
        }
    }
}
