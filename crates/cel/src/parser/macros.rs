//! Macros: calls whose arguments are not all evaluated before them.

use super::Parser;
use crate::error::SyntaxErrorKind;
use crate::literal::Literal;
use crate::tree::{Kind, NodeId};
use std::sync::Arc;
use yieldtray_source::Span;

impl Parser<'_> {
    /// The node of a call; that of a macro, if it is one.
    pub(super) fn call_or_macro(
        &mut self,
        span: Span,
        function: Arc<str>,
        name_span: Span,
        receiver: Option<NodeId>,
        arguments: Vec<NodeId>,
        absolute: bool,
    ) -> NodeId {
        if let (None, "has", [argument], false) = (receiver, &*function, &arguments[..], absolute) {
            let kind = match &self.tree.node(*argument).kind {
                Kind::Select { operand, field, field_span, optional: false } => {
                    Kind::Has { operand: *operand, field: field.clone(), field_span: *field_span }
                }
                Kind::Error => Kind::Error,
                _ => {
                    let at = self.span_of(*argument);
                    self.error(at, SyntaxErrorKind::HasWithoutMember);
                    Kind::Error
                }
            };
            return self.tree.add(span, kind);
        }
        if let Some(receiver) = receiver {
            let is_cel =
                matches!(&self.tree.node(receiver).kind, Kind::Name { name, absolute: false } if &**name == "cel");
            if is_cel && &*function == "bind" && arguments.len() == 3 {
                let name_span = Span::new(self.span_of(receiver).start(), name_span.end());
                return self.macro_call(
                    span,
                    "cel.bind".into(),
                    name_span,
                    arguments[1],
                    &arguments[..1],
                    &arguments[2..],
                );
            }
            if let Some(variables) = variables_of(&function, arguments.len(), |at| self.is_name(arguments[at])) {
                let (variables, rest) = arguments.split_at(variables);
                return self.macro_call(span, function, name_span, receiver, variables, rest);
            }
        }
        let arguments = self.tree.add_list(&arguments);
        self.tree.add(span, Kind::Call { function, name_span, receiver, arguments, absolute })
    }

    fn is_name(&self, node: NodeId) -> bool {
        matches!(self.tree.node(node).kind, Kind::Name { absolute: false, .. })
    }

    fn macro_call(
        &mut self,
        span: Span,
        name: Arc<str>,
        name_span: Span,
        receiver: NodeId,
        variables: &[NodeId],
        arguments: &[NodeId],
    ) -> NodeId {
        let mut names: Vec<(Arc<str>, Span)> = Vec::with_capacity(variables.len());
        for variable in variables {
            let node = self.tree.node(*variable);
            let (span, own) = match &node.kind {
                Kind::Name { name: own, absolute: false } => (node.span, Some(Arc::clone(own))),
                Kind::Error => continue,
                kind => (node.span, self.numbered_variable(kind)),
            };
            let Some(own) = own else {
                self.error(span, SyntaxErrorKind::MacroVariable(name.to_string()));
                continue;
            };
            if names.iter().any(|(other, _)| *other == own) {
                self.error(span, SyntaxErrorKind::SameVariable(name.to_string()));
            }
            names.push((own, span));
        }
        if &*name == "transformMapEntry"
            && let Some(entry) = arguments.last()
        {
            let node = self.tree.node(*entry);
            let is_entry = matches!(&node.kind, Kind::Map(entries) if entries.len() == 1) || node.kind == Kind::Error;
            let at = node.span;
            if !is_entry {
                self.error(at, SyntaxErrorKind::MacroEntry);
            }
        }
        let arguments = self.tree.add_list(arguments);
        self.tree.add(span, Kind::Macro { name, name_span, receiver, variables: names, arguments })
    }

    /// `cel.iterVar(0, 1)`: a variable with numbers instead of a name, as what makes expressions from others writes them.
    fn numbered_variable(&self, kind: &Kind) -> Option<Arc<str>> {
        let Kind::Call { function, receiver: Some(receiver), arguments, .. } = kind else { return None };
        let is_cel = matches!(&self.tree.node(*receiver).kind, Kind::Name { name, .. } if &**name == "cel");
        let number = |node: NodeId| match self.tree.node(node).kind {
            Kind::Literal(Literal::Int(number)) => Some(number),
            _ => None,
        };
        match self.tree.list(*arguments) {
            [depth, index] if is_cel && &**function == "iterVar" => {
                Some(format!("cel.iterVar({}, {})", number(*depth)?, number(*index)?).into())
            }
            _ => None,
        }
    }
}

/// How many of the arguments of a method are variables, if it is a macro.
fn variables_of(function: &str, arguments: usize, is_name: impl Fn(usize) -> bool) -> Option<usize> {
    Some(match (function, arguments) {
        ("all" | "exists" | "exists_one" | "existsOne" | "filter" | "optMap" | "optFlatMap" | "sortBy", 2) => 1,
        ("map", 2 | 3) => 1,
        ("all" | "exists" | "existsOne" | "exists_one", 3) => 2,
        ("transformList" | "transformMap" | "transformMapEntry", 3 | 4) if is_name(0) && is_name(1) => 2,
        _ => return None,
    })
}
