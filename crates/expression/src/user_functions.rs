//! Functions of a workspace's own: expressions with parameters. Each is compiled once, after those that it calls.

use crate::compile_error::CompileError;
use crate::functions::{self, Uses};
use std::sync::Arc;
use yieldtray_cel as cel;
use yieldtray_cel::{Environment, HostFunction, Kind, Program, Type};
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

/// The functions of a workspace, ready to be called.
#[derive(Debug, Default)]
pub(crate) struct UserFunctions {
    functions: Vec<(UserFunction, State)>,
}

/// Whether a function can be called.
#[derive(Debug)]
enum State {
    /// It was not compiled yet.
    New,
    /// It is being compiled: whoever calls it now calls it from itself.
    Begun,
    Ready(Arc<cel::UserFunction>, Uses),
    /// There is an error in its expression, which was reported there.
    Broken,
    /// The functions that call each other, from one to itself.
    Cycle(Vec<String>),
}

/// The names and functions that expressions may use.
impl Environment for UserFunctions {
    fn name(&self, name: &str) -> Option<Type> {
        crate::names::type_of(name)
    }

    fn function(&self, name: &str) -> Option<HostFunction<'_>> {
        functions::host_function(name)
    }

    /// The function of a name, if it can be called.
    fn user_function(&self, name: &str) -> Option<Arc<cel::UserFunction>> {
        match self.find(name)? {
            (_, State::Ready(function, _)) => Some(Arc::clone(function)),
            _ => None,
        }
    }

    fn function_names(&self) -> Vec<String> {
        let own = functions::FUNCTIONS.iter().map(|function| function.name);
        let functions = self.functions.iter().map(|(function, _)| function.name.as_str());
        own.chain(functions).map(str::to_owned).collect()
    }
}

impl UserFunctions {
    pub(crate) fn new(functions: &[UserFunction]) -> Self {
        let functions = functions.iter().map(|function| (function.clone(), State::New)).collect();
        let mut compiled = Self { functions };
        for index in 0..compiled.functions.len() {
            compiled.compile(index, &mut Vec::new());
        }
        compiled
    }

    fn find(&self, name: &str) -> Option<&(UserFunction, State)> {
        self.functions.iter().find(|(function, _)| function.name == name)
    }

    /// How a function is called.
    pub(crate) fn example(&self, name: &str) -> Option<String> {
        let own = self.find(name).map(|(function, _)| function.call());
        own.or_else(|| functions::function(name).map(|known| known.example.to_owned()))
    }

    /// Whether an expression draws random values or reads files, itself or in the functions that it calls.
    pub(crate) fn uses(&self, program: &Program) -> Uses {
        let calls = program.calls().iter();
        calls.fold(Uses::default(), |uses, call| match self.find(&call.name) {
            Some((_, State::Ready(_, own))) => uses.and(*own),
            Some(_) => uses,
            None => uses.and(functions::uses(&call.name)),
        })
    }

    /// Compiles a function, after those that it calls. `path` are those that are being compiled.
    fn compile(&mut self, index: usize, path: &mut Vec<usize>) {
        if !matches!(self.functions[index].1, State::New) {
            return;
        }
        self.functions[index].1 = State::Begun;
        path.push(index);
        let function = self.functions[index].0.clone();
        let tree = cel::parse(&function.is).tree;
        let called = tree.nodes().filter_map(|(_, node)| match &node.kind {
            Kind::Call { function, .. } => self.functions.iter().position(|(known, _)| *known.name == **function),
            _ => None,
        });
        let called: Vec<usize> = called.collect();
        let mut cycle = None;
        for other in called {
            if let Some(first) = path.iter().position(|known| *known == other) {
                let names = path[first..].iter().chain([&other]).map(|index| self.functions[*index].0.name.clone());
                cycle.get_or_insert(names.collect::<Vec<_>>());
                continue;
            }
            self.compile(other, path);
            if let State::Cycle(names) = &self.functions[other].1 {
                cycle.get_or_insert(names.clone());
            }
        }
        path.pop();
        self.functions[index].1 = match cycle {
            Some(names) => State::Cycle(names),
            None => {
                let (program, errors) = Program::compile_function(&function.is, &function.params, self);
                match errors.is_empty() {
                    true => {
                        let uses = self.uses(&program);
                        let (name, parameters) = (function.name, function.params);
                        State::Ready(Arc::new(cel::UserFunction { name, parameters, program }), uses)
                    }
                    false => State::Broken,
                }
            }
        };
    }

    /// Errors about calls of functions that exist, but cannot be called: says why.
    pub(crate) fn explain_calls(&self, program: &Program, errors: &mut [CompileError]) {
        for error in errors.iter_mut().filter(|error| error.code == Code::UnknownFunction) {
            let name = error.span.of(program.text());
            let (code, message, hint) = match self.find(name) {
                Some((_, State::Cycle(names))) => (
                    Code::VariableCycle,
                    format!("functions call each other recursively: {}", names.join(" → ")),
                    "remove one of the calls: recursion is not supported",
                ),
                Some((_, State::Broken)) => (
                    Code::BadExpression,
                    format!("cannot call `{name}`: its expression has an error"),
                    "see the configuration",
                ),
                _ => continue,
            };
            *error = CompileError::new(code, error.span, message, Some(hint.to_owned()));
        }
    }
}
