//! Expressions that are ready to be evaluated.

use crate::eval_error::EvalErrorKind;
use crate::functions::Function;
use crate::tree::{Binary, NodeId, Tree};
use crate::types::Type;
use crate::value::Value;
use std::sync::Arc;
use yieldtray_source::Span;

/// An expression: its text, its tree, and what each node does.
#[derive(Debug)]
pub struct Program {
    pub(crate) text: Arc<str>,
    pub(crate) tree: Tree,
    pub(crate) operations: Box<[Operation]>,
    pub(crate) names: Box<[Arc<str>]>,
    pub(crate) calls: Box<[CalledFunction]>,
    pub(crate) result: Type,
    pub(crate) levels: usize,
}

/// A function that is itself an expression.
#[derive(Debug)]
pub struct UserFunction {
    /// Its name.
    pub name: String,
    /// Its parameters.
    pub parameters: Vec<String>,
    /// Its expression, compiled with [`Program::compile_function`].
    pub program: Program,
}

/// A call of a function, a method included, and not of a macro.
#[derive(Clone, Debug)]
pub struct CalledFunction {
    /// The name of the function, with its name space.
    pub name: Arc<str>,
    /// The node of the call.
    pub node: NodeId,
}

/// The operation of a node.
#[derive(Debug)]
pub(crate) enum Operation {
    /// Fails.
    Fail(EvalErrorKind),
    Constant(Value),
    /// The variable of a macro, or a parameter, by its place among those that are bound.
    Local(usize),
    /// A free name, by its index.
    Global(usize),
    /// A free name if it has a value, else a type of that name.
    GlobalOrType(usize, &'static str),
    Select {
        operand: NodeId,
        field: Arc<str>,
        optional: bool,
    },
    Has {
        operand: NodeId,
        field: Arc<str>,
    },
    Index {
        operand: NodeId,
        index: NodeId,
        optional: bool,
    },
    Call {
        callee: Callee,
        /// The value before the dot, which is the first argument.
        receiver: Option<NodeId>,
        arguments: Box<[NodeId]>,
    },
    Macro {
        kind: MacroKind,
        receiver: NodeId,
        arguments: Box<[NodeId]>,
    },
    Not(NodeId),
    Negate(NodeId),
    And(NodeId, NodeId),
    Or(NodeId, NodeId),
    Binary(Binary, NodeId, NodeId),
    Conditional {
        condition: NodeId,
        yes: NodeId,
        no: NodeId,
    },
    List(Box<[(NodeId, bool)]>),
    Map(Box<[(NodeId, NodeId, bool)]>),
    /// Values, each of which may use those before it, and what uses them.
    Block {
        values: Box<[NodeId]>,
        result: NodeId,
    },
}

/// The function that is called.
#[derive(Clone)]
pub(crate) enum Callee {
    Library(&'static Function),
    Host(usize, Arc<str>),
    User(Arc<UserFunction>),
}

impl std::fmt::Debug for Callee {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Callee::Library(function) => function.name,
            Callee::Host(_, name) => name,
            Callee::User(function) => &function.name,
        })
    }
}

/// How a macro evaluates its arguments. `pair` if it binds two variables: index and element, or key and value.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum MacroKind {
    All { pair: bool },
    Exists { pair: bool },
    ExistsOne { pair: bool },
    Map { pair: bool },
    Filter,
    TransformMap,
    TransformMapEntry,
    SortBy,
    OptMap,
    OptFlatMap,
    Bind,
}

impl Program {
    /// The text.
    pub fn text(&self) -> &str {
        &self.text
    }

    pub(crate) fn shared_text(&self) -> Arc<str> {
        Arc::clone(&self.text)
    }

    /// The tree of the text.
    pub fn tree(&self) -> &Tree {
        &self.tree
    }

    /// The names that the expression does not give itself, and those of the functions that it calls, each once, in
    /// order of appearance.
    pub fn names(&self) -> &[Arc<str>] {
        &self.names
    }

    /// Where the expression uses a name that it does not give itself; nowhere if only a function that it calls does.
    pub fn places(&self, name: &str) -> impl Iterator<Item = Span> + '_ {
        let index = self.names.iter().position(|known| **known == *name);
        let is_it = move |operation: &Operation| match operation {
            Operation::Global(found) | Operation::GlobalOrType(found, _) => Some(*found) == index,
            _ => false,
        };
        let nodes = self.tree.nodes().filter(move |(id, _)| is_it(&self.operations[id.index()]));
        nodes.map(|(_, node)| node.span)
    }

    /// The calls of functions, in order of appearance.
    pub fn calls(&self) -> &[CalledFunction] {
        &self.calls
    }

    /// The function that a call calls, if it is itself an expression.
    pub fn user_function(&self, call: NodeId) -> Option<&Arc<UserFunction>> {
        match &self.operations[call.index()] {
            Operation::Call { callee: Callee::User(function), .. } => Some(function),
            _ => None,
        }
    }

    /// The constant that a node is.
    pub fn constant(&self, node: NodeId) -> Option<&Value> {
        match &self.operations[node.index()] {
            Operation::Constant(value) => Some(value),
            _ => None,
        }
    }

    /// Whether a node is a variable of a macro, or a parameter.
    pub fn is_local(&self, node: NodeId) -> bool {
        matches!(&self.operations[node.index()], Operation::Local(_))
    }

    /// The type of its value, as far as it is known.
    pub fn result_type(&self) -> &Type {
        &self.result
    }

    /// How many levels are nested, those of the functions that it calls included.
    pub(crate) fn levels(&self) -> usize {
        self.levels
    }
}
