//! Looks up the names and functions of a tree, checks the types as far as they are known, and makes the operation of each node.

mod calls;
mod error;
mod macros;
mod members;
mod operators;

#[cfg(test)]
mod tests;

pub use error::CheckErrorKind;

use crate::environment::Environment;
use crate::eval_error::EvalErrorKind;
use crate::literal::Literal;
use crate::parser::MAX_DEPTH;
use crate::program::{CalledFunction, Operation};
use crate::tree::{Binary, Kind, NodeId, Tree, Unary};
use crate::types::Type;
use crate::value::Value;
use std::sync::Arc;
use yieldtray_source::{Span, closest};

/// The type of that name, which is a value.
pub fn type_name(name: &str) -> Option<&'static str> {
    // A match, not a list: it is asked for every name.
    Some(match name {
        "bool" => "bool",
        "int" => "int",
        "uint" => "uint",
        "double" => "double",
        "string" => "string",
        "bytes" => "bytes",
        "list" => "list",
        "map" => "map",
        "null_type" => "null_type",
        "type" => "type",
        "optional_type" => "optional_type",
        "google.protobuf.Timestamp" => "google.protobuf.Timestamp",
        "google.protobuf.Duration" => "google.protobuf.Duration",
        "net.IP" => "net.IP",
        "net.CIDR" => "net.CIDR",
        _ => return None,
    })
}

/// Whether names of types or functions of the libraries begin with this name and a dot.
fn is_name_space(name: &str) -> bool {
    matches!(
        name,
        "math" | "strings" | "lists" | "sets" | "base64" | "optional" | "regex" | "ip" | "cel" | "google" | "net"
    )
}

/// The result of checking a tree.
pub(crate) struct Checked {
    pub(crate) operations: Vec<Operation>,
    pub(crate) names: Vec<Arc<str>>,
    pub(crate) calls: Vec<CalledFunction>,
    pub(crate) errors: Vec<(Span, CheckErrorKind)>,
    pub(crate) result: Type,
    pub(crate) levels: usize,
}

pub(crate) struct Checker<'t> {
    tree: &'t Tree,
    environment: &'t dyn Environment,
    operations: Vec<Operation>,
    /// The variables that are bound, innermost last.
    locals: Vec<(Arc<str>, Type)>,
    names: Vec<Arc<str>>,
    calls: Vec<CalledFunction>,
    errors: Vec<(Span, CheckErrorKind)>,
    /// Nodes whose first operand is being checked.
    pending: Vec<NodeId>,
    depth: usize,
    levels: usize,
}

impl<'t> Checker<'t> {
    pub(crate) fn check(tree: &'t Tree, parameters: &[String], environment: &'t dyn Environment) -> Checked {
        let operations = tree.nodes().map(|_| Operation::Fail(EvalErrorKind::Syntax)).collect();
        let locals = parameters.iter().map(|parameter| (parameter.as_str().into(), Type::Dyn)).collect();
        let mut checker = Self {
            tree,
            environment,
            operations,
            locals,
            names: Vec::new(),
            calls: Vec::new(),
            errors: Vec::new(),
            pending: Vec::new(),
            depth: 0,
            levels: 0,
        };
        let result = checker.node(tree.root());
        if checker.levels > MAX_DEPTH {
            checker.errors.push((tree.node(tree.root()).span, CheckErrorKind::Levels(MAX_DEPTH)));
        }
        checker.calls.sort_by_key(|call| tree.node(call.node).span.start());
        Checked {
            operations: checker.operations,
            names: checker.names,
            calls: checker.calls,
            errors: checker.errors,
            result,
            levels: checker.levels,
        }
    }

    fn error(&mut self, span: Span, kind: CheckErrorKind) {
        self.errors.push((span, kind));
    }

    fn span(&self, node: NodeId) -> Span {
        self.tree.node(node).span
    }

    /// Checks a node. Chains of operators and members are followed in a loop: there may be thousands.
    fn node(&mut self, id: NodeId) -> Type {
        self.depth += 1;
        self.levels = self.levels.max(self.depth);
        let base = self.pending.len();
        let mut at = id;
        while let Some(first) = self.first_operand(at) {
            self.pending.push(at);
            at = first;
        }
        let mut found = self.leaf(at);
        while self.pending.len() > base {
            let Some(at) = self.pending.pop() else { break };
            found = self.apply(at, found);
        }
        self.depth -= 1;
        found
    }

    /// The operand of a node that is evaluated first, if there is always one.
    fn first_operand(&self, id: NodeId) -> Option<NodeId> {
        match &self.tree.node(id).kind {
            Kind::Select { operand, .. } => self.qualified_name(id).is_none().then_some(*operand),
            Kind::Has { operand, .. } | Kind::Index { operand, .. } | Kind::Unary { operand, .. } => Some(*operand),
            Kind::Call { receiver: Some(receiver), function, .. } => {
                self.in_name_space(*receiver, function).is_none().then_some(*receiver)
            }
            Kind::Macro { receiver, .. } => Some(*receiver),
            Kind::Binary { left, .. } => (!self.compares_type(id)).then_some(*left),
            Kind::Conditional { condition, .. } => Some(*condition),
            _ => None,
        }
    }

    /// Whether members of a name may be one name, as `math.abs` is.
    fn may_be_dotted(&self, id: NodeId) -> bool {
        /// No name has more parts; chains of members may have thousands.
        const MAX_PARTS: usize = 16;
        let mut at = id;
        for _ in 0..MAX_PARTS {
            match &self.tree.node(at).kind {
                Kind::Select { operand, optional: false, .. } => at = *operand,
                _ => break,
            }
        }
        matches!(&self.tree.node(at).kind, Kind::Name { name, .. }
            if is_name_space(name) || self.environment.is_name_space(name) || !self.environment.container().is_empty())
    }

    /// The dotted name that members of a name are, if it is not the variable of a macro.
    fn dotted(&self, id: NodeId) -> Option<String> {
        if !self.may_be_dotted(id) {
            return None;
        }
        let mut parts: Vec<&str> = Vec::new();
        let mut at = id;
        loop {
            match &self.tree.node(at).kind {
                Kind::Select { operand, field, optional: false, .. } => {
                    parts.push(field);
                    at = *operand;
                }
                Kind::Name { name, absolute } if *absolute || self.local(name).is_none() => {
                    parts.push(name);
                    break;
                }
                _ => return None,
            }
        }
        parts.reverse();
        Some(parts.join("."))
    }

    /// The name that the host has for members of a name: `a.b` may be one name.
    fn qualified_name(&self, id: NodeId) -> Option<String> {
        let name = self.dotted(id)?;
        type_name(&name).map(str::to_owned).or_else(|| self.resolved(&name))
    }

    /// The name by which the host knows a name: in its name space first.
    fn resolved(&self, name: &str) -> Option<String> {
        let mut space = self.environment.container();
        while !space.is_empty() {
            let full = format!("{space}.{name}");
            if self.environment.name(&full).is_some() {
                return Some(full);
            }
            space = space.rsplit_once('.').map_or("", |(outer, _)| outer);
        }
        self.environment.name(name).is_some().then(|| name.to_owned())
    }

    fn local(&self, name: &str) -> Option<usize> {
        self.locals.iter().rposition(|(local, _)| **local == *name)
    }

    /// A node of which no operand was checked yet.
    fn leaf(&mut self, id: NodeId) -> Type {
        let node = self.tree.node(id);
        let span = node.span;
        match &node.kind {
            Kind::Error => Type::Dyn,
            Kind::Literal(literal) => {
                let (value, found) = constant(literal);
                self.operations[id.index()] = Operation::Constant(value);
                found
            }
            Kind::Name { name, absolute } => self.name(id, name, *absolute),
            Kind::Select { .. } => {
                let name = self.qualified_name(id).unwrap_or_default();
                self.global(id, &name.into(), span)
            }
            Kind::Call { function, receiver, arguments, name_span, .. } => {
                let full = receiver.and_then(|receiver| self.in_name_space(receiver, function));
                let arguments = self.tree.list(*arguments);
                match full {
                    Some(full) => {
                        let start = receiver.map_or(*name_span, |receiver| self.span(receiver)).start();
                        self.call(id, &full, Span::new(start, name_span.end()), None, arguments)
                    }
                    None => self.call(id, function, *name_span, None, arguments),
                }
            }
            Kind::List(elements) => {
                let mut member = Type::Open;
                for element in elements {
                    let found = self.node(element.value);
                    member = member.join(&self.optional_part(element.value, element.optional, found));
                }
                let elements = elements.iter().map(|element| (element.value, element.optional));
                self.operations[id.index()] = Operation::List(elements.collect());
                Type::list(member)
            }
            Kind::Map(entries) => {
                let (mut key, mut value) = (Type::Open, Type::Open);
                for entry in entries {
                    let found = self.node(entry.key);
                    let is_key = found.is_dyn() || matches!(found, Type::Bool | Type::Int | Type::Uint | Type::String);
                    if !is_key {
                        let at = self.span(entry.key);
                        self.error(at, CheckErrorKind::KeyType(found.clone()));
                    }
                    key = key.join(&found);
                    let found = self.node(entry.value);
                    value = value.join(&self.optional_part(entry.value, entry.optional, found));
                }
                let entries = entries.iter().map(|entry| (entry.key, entry.value, entry.optional));
                self.operations[id.index()] = Operation::Map(entries.collect());
                Type::Map(Arc::new(key), Arc::new(value))
            }
            Kind::Message { name, fields } => {
                for field in fields {
                    self.node(field.value);
                }
                self.operations[id.index()] = Operation::Fail(EvalErrorKind::UnknownType(name.to_string()));
                self.error(span, CheckErrorKind::UnknownType(name.to_string()));
                Type::Dyn
            }
            Kind::Binary { operator, operator_span, left, right } => {
                let left_type = self.as_types(*left).unwrap_or(Type::Dyn);
                self.equality(id, *operator, *operator_span, (*left, left_type), *right)
            }
            // All others have an operand that is checked first.
            _ => Type::Dyn,
        }
    }

    /// The type of a value after `?`, which is an optional.
    fn optional_part(&mut self, node: NodeId, optional: bool, found: Type) -> Type {
        match found {
            Type::Optional(value) if optional => (*value).clone(),
            other if optional && !other.is_dyn() => {
                let at = self.span(node);
                self.error(at, CheckErrorKind::NotOptional(other));
                Type::Dyn
            }
            _ if optional => Type::Dyn,
            other => other,
        }
    }

    fn name(&mut self, id: NodeId, name: &Arc<str>, absolute: bool) -> Type {
        let span = self.span(id);
        if let Some(local) = self.local(name).filter(|_| !absolute) {
            self.operations[id.index()] = Operation::Local(local);
            return self.locals[local].1.clone();
        }
        if absolute || self.environment.container().is_empty() {
            return self.global(id, name, span);
        }
        match self.resolved(name) {
            Some(full) => self.global(id, &full.into(), span),
            None => self.global(id, name, span),
        }
    }

    /// A name of the host, or of a type.
    fn global(&mut self, id: NodeId, name: &Arc<str>, span: Span) -> Type {
        let known = self.environment.name(name);
        if let (None, false) = (&known, self.environment.is_open()) {
            if let Some(type_name) = type_name(name) {
                self.operations[id.index()] = Operation::Constant(Value::Type(type_name));
                return Type::Type;
            }
            let names = self.environment.names();
            let locals = self.locals.iter().map(|(local, _)| &**local);
            let suggestion = closest(name, names.iter().map(String::as_str).chain(locals)).map(str::to_owned);
            self.operations[id.index()] = Operation::Fail(EvalErrorKind::UnknownName(name.to_string()));
            self.error(span, CheckErrorKind::UnknownName { name: name.to_string(), suggestion });
            return Type::Dyn;
        }
        let index = self.free_name(name);
        self.operations[id.index()] = match type_name(name) {
            Some(type_name) => Operation::GlobalOrType(index, type_name),
            None => Operation::Global(index),
        };
        known.unwrap_or(Type::Dyn)
    }

    /// The index of a free name.
    fn free_name(&mut self, name: &Arc<str>) -> usize {
        self.names.iter().position(|known| known == name).unwrap_or_else(|| {
            self.names.push(Arc::clone(name));
            self.names.len() - 1
        })
    }

    /// A node whose first operand has a type.
    fn apply(&mut self, id: NodeId, first: Type) -> Type {
        let node = self.tree.node(id);
        let span = node.span;
        match &node.kind {
            Kind::Select { operand, field, field_span, optional } => {
                let (operand, optional) = (*operand, *optional);
                self.operations[id.index()] = Operation::Select { operand, field: Arc::clone(field), optional };
                let is_optional = optional || matches!(first, Type::Optional(_));
                let found = self.member(operand, first, field, *field_span);
                if is_optional { Type::optional(found) } else { found }
            }
            Kind::Has { operand, field, field_span } => {
                self.operations[id.index()] = Operation::Has { operand: *operand, field: Arc::clone(field) };
                self.member(*operand, first, field, *field_span);
                Type::Bool
            }
            Kind::Index { operand, index, optional } => {
                let (operand, index, optional) = (*operand, *index, *optional);
                let by = self.node(index);
                self.operations[id.index()] = Operation::Index { operand, index, optional };
                self.index((operand, first), (index, by), optional)
            }
            Kind::Unary { operator: Unary::Not, operand } => {
                self.operations[id.index()] = Operation::Not(*operand);
                if !first.fits(&Type::Bool) {
                    let (function, arguments) = ("!".to_owned(), vec![first]);
                    self.error(span, CheckErrorKind::NoOverload { function, arguments });
                }
                Type::Bool
            }
            Kind::Unary { operator: Unary::Negate, operand } => {
                self.operations[id.index()] = Operation::Negate(*operand);
                match first {
                    Type::Int | Type::Double | Type::Duration => first,
                    other if other.may_be_number() && !matches!(other, Type::Uint) => other,
                    other => {
                        let (function, arguments) = ("-".to_owned(), vec![other]);
                        self.error(span, CheckErrorKind::NoOverload { function, arguments });
                        Type::Dyn
                    }
                }
            }
            Kind::Binary { operator, operator_span, left, right } => {
                let (operator, left, right) = (*operator, *left, *right);
                if matches!(operator, Binary::Equal | Binary::NotEqual | Binary::In) {
                    return self.equality(id, operator, *operator_span, (left, first), right);
                }
                let second = self.node(right);
                self.operations[id.index()] = match operator {
                    Binary::And => Operation::And(left, right),
                    Binary::Or => Operation::Or(left, right),
                    other => Operation::Binary(other, left, right),
                };
                self.operator(operator, *operator_span, (left, first), (right, second))
            }
            Kind::Conditional { condition, yes, no } => {
                let (condition, yes, no) = (*condition, *yes, *no);
                if !first.fits(&Type::Bool) {
                    let at = self.span(condition);
                    self.error(at, CheckErrorKind::Condition(first));
                }
                let (a, b) = (self.node(yes), self.node(no));
                self.operations[id.index()] = Operation::Conditional { condition, yes, no };
                a.join(&b)
            }
            Kind::Call { function, receiver, arguments, name_span, .. } => {
                let receiver = receiver.map(|receiver| (receiver, first));
                self.call(id, function, *name_span, receiver, self.tree.list(*arguments))
            }
            Kind::Macro { name, receiver, variables, arguments, .. } => {
                self.macro_call(id, name, (*receiver, first), variables, self.tree.list(*arguments))
            }
            _ => Type::Dyn,
        }
    }
}

/// The value of a literal, and its type.
fn constant(literal: &Literal) -> (Value, Type) {
    match literal {
        Literal::Null => (Value::Null, Type::Null),
        Literal::Bool(truth) => (Value::Bool(*truth), Type::Bool),
        Literal::Int(number) => (Value::Int(*number), Type::Int),
        Literal::Uint(number) => (Value::Uint(*number), Type::Uint),
        Literal::Double(number) => (Value::Double(*number), Type::Double),
        Literal::String(text) => (Value::String(Arc::clone(text)), Type::String),
        Literal::Bytes(bytes) => (Value::Bytes(Arc::clone(bytes)), Type::Bytes),
    }
}
