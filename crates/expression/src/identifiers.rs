//! The names in an expression and what each is, also while it is being written.

use crate::user_functions::UserFunctions;
use yieldtray_cel::{Kind, Program};
use yieldtray_source::Span;

/// A name in an expression.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Identifier {
    /// Its bytes, counted from the start of the expression.
    pub span: Span,
    /// What it is.
    pub role: IdentifierRole,
}

/// What a name in an expression is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum IdentifierRole {
    /// A name that the expression does not give itself.
    Value,
    /// The variable of a macro.
    Local,
    /// A function or macro.
    Function,
    /// A member of a map.
    Member,
}

/// The names in an expression, in order. What cannot be read has none.
pub fn identifiers(expression: &str) -> Vec<Identifier> {
    let (program, _) = Program::compile(expression, &UserFunctions::default());
    let tree = program.tree();
    let mut found: Vec<Identifier> = Vec::new();
    let mut add = |span: Span, role| found.push(Identifier { span, role });
    for name in program.names() {
        program.places(name).for_each(|span| add(span, IdentifierRole::Value));
    }
    for (id, node) in tree.nodes() {
        match &node.kind {
            Kind::Name { .. } if program.is_local(id) => add(node.span, IdentifierRole::Local),
            Kind::Select { field_span, .. } => add(*field_span, IdentifierRole::Member),
            Kind::Has { field_span, .. } => {
                add(node.span.part(0, "has".len()), IdentifierRole::Function);
                add(*field_span, IdentifierRole::Member);
            }
            Kind::Call { name_span, receiver, .. } => {
                // The name space of a function belongs to its name.
                let in_name_space = |name: &str| name.contains('.');
                let is_full = program.calls().iter().any(|call| call.node == id && in_name_space(&call.name));
                let start =
                    receiver.filter(|_| is_full).map_or(*name_span, |receiver| tree.node(receiver).span).start();
                add(Span::new(start, name_span.end()), IdentifierRole::Function);
            }
            Kind::Macro { name_span, variables, .. } => {
                add(*name_span, IdentifierRole::Function);
                variables.iter().for_each(|(_, span)| add(*span, IdentifierRole::Local));
            }
            _ => {}
        }
    }
    found.sort_by_key(|identifier| (identifier.span.start(), identifier.span.end()));
    found.dedup_by_key(|identifier| identifier.span);
    found
}

/// Where an expression first uses a name that it does not give itself.
pub fn find_name(expression: &str, name: &str) -> Option<Span> {
    let (program, _) = Program::compile(expression, &UserFunctions::default());
    program.places(name).next()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_tell_their_role_also_while_they_are_written() {
        let text = "size(body.lots) > 1e3 && lots.all(lot, has(lot.id) && lot.id == r'x') && math.abs(kg";
        let found: Vec<(&str, IdentifierRole)> =
            identifiers(text).iter().map(|found| (found.span.of(text), found.role)).collect();
        use IdentifierRole::{Function, Local, Member, Value};
        assert_eq!(
            found,
            [
                ("size", Function),
                ("body", Value),
                ("lots", Member),
                ("lots", Value),
                ("all", Function),
                ("lot", Local),
                ("has", Function),
                ("lot", Local),
                ("id", Member),
                ("lot", Local),
                ("id", Member),
                ("math.abs", Function),
                ("kg", Value),
            ]
        );
        assert_eq!(find_name("type(bins) == int && int > 1", "int").map(|span| span.start()), Some(21));
        assert_eq!(find_name("'bins' + x.bins", "bins"), None);
    }
}
