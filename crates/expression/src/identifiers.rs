//! The names in an expression and their roles, also while it is being written.

use crate::engine::Engine;
use yieldtray_cel::{Kind, Program};
use yieldtray_source::{Code, Span};

/// A name in an expression.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Identifier {
    /// Its bytes, counted from the start of the expression.
    pub span: Span,
    /// Its role.
    pub role: IdentifierRole,
}

/// The role of a name in an expression.
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

impl Engine {
    /// The names in an expression, in order. What cannot be read has none.
    pub fn identifiers(&self, expression: &str) -> Vec<Identifier> {
        self.with_program(expression, identifiers)
    }

    /// Where an expression first uses a name that it does not give itself.
    pub fn find_name(&self, expression: &str, name: &str) -> Option<Span> {
        self.with_program(expression, |program| program.places(name).next())
    }

    /// Hands on the names that an expression does not give itself, each once, also if types or functions in it do not
    /// fit. One that does not follow the grammar has none: what looks like a name may be something else.
    pub fn each_name(&self, expression: &str, visit: impl FnMut(&str)) {
        let is_readable = match self.compile(expression) {
            Ok(_) => true,
            Err(errors) => errors.iter().all(|error| error.code != Code::BadExpression),
        };
        if is_readable {
            self.with_program(expression, |program| program.names().iter().map(|name| &**name).for_each(visit));
        }
    }

    /// Looks at the program of an expression, which there is even if it cannot be evaluated.
    fn with_program<T>(&self, expression: &str, look: impl FnOnce(&Program) -> T) -> T {
        match self.compile(expression) {
            Ok(compiled) => look(&compiled.program),
            Err(_) => look(&Program::compile(expression, self.functions()).0),
        }
    }
}

fn identifiers(program: &Program) -> Vec<Identifier> {
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_tell_their_role_also_while_they_are_written() {
        let engine = Engine::default();
        let text = "size(body.lots) > 1e3 && lots.all(lot, has(lot.id) && lot.id == r'x') && math.abs(kg";
        let found: Vec<(&str, IdentifierRole)> =
            engine.identifiers(text).iter().map(|found| (found.span.of(text), found.role)).collect();
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
        assert_eq!(engine.find_name("type(bins) == int && int > 1", "int").map(|span| span.start()), Some(21));
        assert_eq!(engine.find_name("'bins' + x.bins", "bins"), None);
    }

    #[test]
    fn names_are_told_also_if_types_do_not_fit() {
        let names = |text: &str| {
            let mut names = Vec::new();
            Engine::default().each_name(text, |name| names.push(name.to_owned()));
            names
        };
        assert_eq!(names("status == 'a' && trays.all(t, t > bins)"), ["status", "trays", "bins"]);
        assert!(names("not trays").is_empty(), "`not` is no name");
    }
}
