//! Calls of functions.

use super::{CheckErrorKind, Checker};
use crate::eval_error::EvalErrorKind;
use crate::functions::{MACROS, function, library};
use crate::program::{CalledFunction, Callee, Operation};
use crate::signature::Signature;
use crate::tree::{Kind, NodeId};
use crate::types::Type;
use std::sync::Arc;
use yieldtray_source::{Span, closest};

impl Checker<'_> {
    /// The full name of a function in a name space, as `math.greatest`, if that is what a method of a name is.
    pub(super) fn in_name_space(&self, receiver: NodeId, name: &str) -> Option<String> {
        let full = self.dotted(receiver)? + "." + name;
        let is_known = function(&full)
            .is_some_and(|known| known.parsed_signatures().iter().any(|s| s.receiver.is_none()))
            || self.environment.function(&full).is_some()
            || matches!(&*full, "cel.block" | "cel.index" | "cel.iterVar");
        is_known.then_some(full)
    }

    /// A call. For a method the receiver has a type already.
    pub(super) fn call(
        &mut self,
        id: NodeId,
        name: &str,
        name_span: Span,
        receiver: Option<(NodeId, Type)>,
        arguments: &[NodeId],
    ) -> Type {
        match (name, arguments) {
            ("cel.block", [values, result]) => return self.block(id, *values, *result),
            ("cel.index" | "cel.iterVar", numbers) => return self.numbered(id, name, numbers),
            _ => {}
        }
        let is_method = receiver.is_some();
        let receiver_node = receiver.as_ref().map(|(node, _)| *node);
        let mut types: Vec<Type> = receiver.into_iter().map(|(_, found)| found).collect();
        for argument in arguments {
            types.push(self.node(*argument));
        }
        self.calls.push(CalledFunction { name: name.into(), node: id });
        let (callee, found) = match self.callee(name, name_span, is_method, &types, arguments) {
            Some(callee) => callee,
            None => {
                self.operations[id.index()] = Operation::Fail(EvalErrorKind::UnknownFunction(name.to_owned()));
                return Type::Dyn;
            }
        };
        if let Callee::User(function) = &callee {
            self.levels = self.levels.max(self.depth + function.program.levels());
            let function = Arc::clone(function);
            for name in function.program.names() {
                self.free_name(name);
            }
        }
        self.operations[id.index()] = Operation::Call { callee, receiver: receiver_node, arguments: arguments.into() };
        found
    }

    /// The function that is called and the type of its result. None, with an error, if the function does not exist.
    fn callee(
        &mut self,
        name: &str,
        name_span: Span,
        is_method: bool,
        types: &[Type],
        arguments: &[NodeId],
    ) -> Option<(Callee, Type)> {
        if let Some(function) = self.environment.user_function(name) {
            if function.parameters.len() != types.len() {
                let takes = vec![function.parameters.len()];
                self.wrong_count(name, name_span, types.len(), takes, is_method);
                return None;
            }
            let found = function.program.result_type().clone();
            return Some((Callee::User(function), found));
        }
        // The host's own way to call a function comes before that of the library.
        let environment = self.environment;
        let count = arguments.len();
        let host = environment.function(name);
        if let Some(host) = host
            && host.signatures.iter().any(|signature| signature.takes(is_method, count))
        {
            let found = self.overload(name, name_span, host.signatures, is_method, types, count);
            return Some((Callee::Host(host.id, name.into()), found));
        }
        let library = function(name);
        if let Some(known) = library
            && known.parsed_signatures().iter().any(|signature| signature.takes(is_method, count))
        {
            let found = self.overload(name, name_span, known.parsed_signatures(), is_method, types, count);
            return Some((Callee::Library(known), found));
        }
        let own = host.iter().flat_map(|host| host.signatures);
        let known: Vec<&Signature> = own.chain(library.iter().flat_map(|known| known.parsed_signatures())).collect();
        if known.is_empty() {
            self.unknown_function(name, name_span);
        } else {
            let counts =
                known.iter().map(|signature| signature.parameters.len() + usize::from(signature.receiver.is_some()));
            let mut takes: Vec<usize> = counts.collect();
            takes.sort_unstable();
            takes.dedup();
            self.wrong_count(name, name_span, types.len(), takes, is_method);
        }
        None
    }

    /// The type of the result of the ways to call a function that fit; an error if none does.
    fn overload(
        &mut self,
        name: &str,
        name_span: Span,
        signatures: &[Signature],
        is_method: bool,
        types: &[Type],
        count: usize,
    ) -> Type {
        let fitting = signatures.iter().filter(|signature| signature.takes(is_method, count));
        let mut results = fitting.filter_map(|signature| signature.result_for(types));
        let Some(first) = results.next() else {
            let (function, arguments) = (name.to_owned(), types.to_vec());
            self.error(name_span, CheckErrorKind::NoOverload { function, arguments });
            return Type::Dyn;
        };
        // Where a type is not known there may be several; known types choose the first.
        if types.iter().all(|found| !found.is_dyn()) { first } else { results.fold(first, |a, b| a.join(&b)) }
    }

    fn wrong_count(&mut self, name: &str, at: Span, found: usize, takes: Vec<usize>, is_method: bool) {
        self.error(at, CheckErrorKind::ArgumentCount { name: name.to_owned(), found, takes, is_method });
    }

    fn unknown_function(&mut self, name: &str, at: Span) {
        let own = self.environment.function_names();
        let known = own.iter().map(String::as_str).chain(library().map(|known| known.name));
        let known = known.chain(MACROS.iter().map(|(name, ..)| *name));
        let suggestion = closest(name, known).map(str::to_owned);
        self.error(at, CheckErrorKind::UnknownFunction { name: name.to_owned(), suggestion });
    }

    /// `cel.block([a, b], result)`: `cel.index(0)` is `a` in `b` and in the result.
    fn block(&mut self, id: NodeId, values: NodeId, result: NodeId) -> Type {
        let Kind::List(elements) = &self.tree.node(values).kind else {
            let found = self.node(values);
            let (at, function) = (self.span(values), "cel.block".to_owned());
            self.error(at, CheckErrorKind::NoOverload { function, arguments: vec![found] });
            return Type::Dyn;
        };
        let before = self.locals.len();
        for (index, element) in elements.iter().enumerate() {
            let found = self.node(element.value);
            self.locals.push((format!("cel.index({index})").into(), found));
        }
        let found = self.node(result);
        self.locals.truncate(before);
        let values = elements.iter().map(|element| element.value).collect();
        self.operations[id.index()] = Operation::Block { values, result };
        found
    }

    /// `cel.index(0)` of a block, and `cel.iterVar(0, 0)` of a macro: variables with numbers instead of a name.
    fn numbered(&mut self, id: NodeId, name: &str, numbers: &[NodeId]) -> Type {
        let number = |node: &NodeId| match &self.tree.node(*node).kind {
            Kind::Literal(crate::literal::Literal::Int(number)) => number.to_string(),
            _ => String::new(),
        };
        let numbers: Vec<String> = numbers.iter().map(number).collect();
        let Some(local) = self.local(&format!("{name}({})", numbers.join(", "))) else {
            let at = self.span(id);
            self.unknown_function(name, at);
            self.operations[id.index()] = Operation::Fail(EvalErrorKind::UnknownFunction(name.to_owned()));
            return Type::Dyn;
        };
        self.operations[id.index()] = Operation::Local(local);
        self.locals[local].1.clone()
    }
}
