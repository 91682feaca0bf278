//! A tree to text that is read as the same tree.

use crate::literal::Literal;
use crate::tree::{Binary, Kind, NodeId, Tree, Unary};
use std::fmt::Write as _;
use std::sync::Arc;

/// How tightly a conditional, an operator before its operand, and a member bind; operators in between are
/// [`Binary::precedence`].
const CONDITIONAL: u8 = 1;
const UNARY: u8 = 7;
const MEMBER: u8 = 8;

/// The text of a tree that was read without errors, with no more parentheses than it needs.
pub fn print(tree: &Tree) -> String {
    let mut printer = Printer { tree, out: String::new() };
    printer.write(tree.root(), CONDITIONAL);
    printer.out
}

struct Printer<'t> {
    tree: &'t Tree,
    out: String,
}

impl Printer<'_> {
    /// Writes a node, in parentheses if it binds less tightly than `least`.
    fn write(&mut self, id: NodeId, least: u8) {
        let kind = &self.tree.node(id).kind;
        if precedence(kind) < least {
            self.out.push('(');
            self.write(id, CONDITIONAL);
            self.out.push(')');
            return;
        }
        match kind {
            Kind::Error => {}
            Kind::Literal(literal) => self.literal(literal),
            Kind::Name { name, absolute } => {
                self.out.push_str(if *absolute { "." } else { "" });
                self.out.push_str(name);
            }
            Kind::Has { operand, field, .. } => {
                self.out.push_str("has(");
                self.write(*operand, MEMBER);
                self.member(field, false);
                self.out.push(')');
            }
            Kind::Call { receiver: None, function, arguments, absolute, .. } => {
                self.out.push_str(if *absolute { "." } else { "" });
                self.out.push_str(function);
                self.arguments(&[], self.tree.list(*arguments));
            }
            Kind::Select { .. } | Kind::Index { .. } | Kind::Call { .. } | Kind::Macro { .. } => self.chain(id),
            Kind::Unary { operator, operand } => {
                self.out.push(if *operator == Unary::Not { '!' } else { '-' });
                let kind = &self.tree.node(*operand).kind;
                let is_other = matches!(kind, Kind::Unary { operator: own, .. } if own != operator);
                // A minus sign before digits would become a part of the number.
                let least = match *operator == Unary::Negate && self.starts_with_digits(*operand) || is_other {
                    true => MEMBER + 1,
                    false => UNARY,
                };
                self.write(*operand, least);
            }
            Kind::Binary { .. } => self.binary(id),
            Kind::Conditional { condition, yes, no } => {
                self.write(*condition, CONDITIONAL + 1);
                self.out.push_str(" ? ");
                self.write(*yes, CONDITIONAL + 1);
                self.out.push_str(" : ");
                self.write(*no, CONDITIONAL);
            }
            Kind::List(elements) => {
                self.out.push('[');
                for (index, element) in elements.iter().enumerate() {
                    self.separate(index, element.optional);
                    self.write(element.value, CONDITIONAL);
                }
                self.out.push(']');
            }
            Kind::Map(entries) => {
                self.out.push('{');
                for (index, entry) in entries.iter().enumerate() {
                    self.separate(index, entry.optional);
                    self.write(entry.key, CONDITIONAL);
                    self.out.push_str(": ");
                    self.write(entry.value, CONDITIONAL);
                }
                self.out.push('}');
            }
            Kind::Message { name, fields } => {
                self.out.push_str(name);
                self.out.push('{');
                for (index, field) in fields.iter().enumerate() {
                    self.separate(index, field.optional);
                    self.field_name(&field.name);
                    self.out.push_str(": ");
                    self.write(field.value, CONDITIONAL);
                }
                self.out.push('}');
            }
        }
    }

    fn separate(&mut self, index: usize, optional: bool) {
        self.out.push_str(if index > 0 { ", " } else { "" });
        self.out.push_str(if optional { "?" } else { "" });
    }

    /// Operators one after another, in a loop: there may be thousands.
    fn binary(&mut self, id: NodeId) {
        let mut chain: Vec<(Binary, NodeId)> = Vec::new();
        let (mut first, mut least) = (id, 0);
        while let Kind::Binary { operator, left, right, .. } = self.tree.node(first).kind {
            if operator.precedence() < least {
                break;
            }
            chain.push((operator, right));
            (first, least) = (left, operator.precedence());
        }
        self.write(first, least);
        for (operator, right) in chain.into_iter().rev() {
            let _ = write!(self.out, " {} ", operator.as_str());
            self.write(right, operator.precedence() + 1);
        }
    }

    /// Members, indices and methods one after another, in a loop.
    fn chain(&mut self, id: NodeId) {
        let mut chain = vec![id];
        let mut first = self.operand(id);
        while let Some(inner) = first.filter(|inner| self.operand(*inner).is_some()) {
            chain.push(inner);
            first = self.operand(inner);
        }
        if let Some(first) = first {
            self.write(first, MEMBER);
        }
        for id in chain.into_iter().rev() {
            match &self.tree.node(id).kind {
                Kind::Select { field, optional, .. } => self.member(field, *optional),
                Kind::Index { index, optional, .. } => {
                    self.out.push_str(if *optional { "[?" } else { "[" });
                    self.write(*index, CONDITIONAL);
                    self.out.push(']');
                }
                Kind::Call { function, arguments, .. } => {
                    self.out.push('.');
                    self.out.push_str(function);
                    self.arguments(&[], self.tree.list(*arguments));
                }
                Kind::Macro { name, receiver, variables, arguments, .. } => {
                    let arguments = self.tree.list(*arguments);
                    match &**name {
                        "cel.bind" => {
                            self.out.push_str(name);
                            self.arguments(variables, &[&[*receiver], arguments].concat());
                        }
                        _ => {
                            self.out.push('.');
                            self.out.push_str(name);
                            self.arguments(variables, arguments);
                        }
                    }
                }
                _ => {}
            }
        }
    }

    /// The operand of a member, an index or a method.
    fn operand(&self, id: NodeId) -> Option<NodeId> {
        match &self.tree.node(id).kind {
            Kind::Select { operand, .. } | Kind::Index { operand, .. } => Some(*operand),
            Kind::Call { receiver, .. } => *receiver,
            Kind::Macro { name, receiver, .. } => (&**name != "cel.bind").then_some(*receiver),
            _ => None,
        }
    }

    /// Whether the text of a node begins with the digits of a number.
    fn starts_with_digits(&self, id: NodeId) -> bool {
        let first = std::iter::successors(Some(id), |id| self.operand(*id)).last();
        first.is_some_and(|first| matches!(&self.tree.node(first).kind, Kind::Literal(number) if is_positive(number)))
    }

    fn member(&mut self, field: &str, optional: bool) {
        self.out.push_str(if optional { ".?" } else { "." });
        self.field_name(field);
    }

    fn field_name(&mut self, field: &str) {
        let is_plain = field.starts_with(|c: char| c.is_ascii_alphabetic() || c == '_')
            && field.chars().all(|c| c.is_ascii_alphanumeric() || c == '_')
            && !matches!(field, "true" | "false" | "null" | "in");
        match is_plain {
            true => self.out.push_str(field),
            false => drop(write!(self.out, "`{field}`")),
        }
    }

    fn arguments(&mut self, variables: &[(Arc<str>, yieldtray_source::Span)], arguments: &[NodeId]) {
        self.out.push('(');
        for (index, (variable, _)) in variables.iter().enumerate() {
            self.separate(index, false);
            self.out.push_str(variable);
        }
        for (index, argument) in arguments.iter().enumerate() {
            self.separate(index + variables.len(), false);
            self.write(*argument, CONDITIONAL);
        }
        self.out.push(')');
    }

    fn literal(&mut self, literal: &Literal) {
        // Writing to a string does not fail.
        let _ = match literal {
            Literal::Null => write!(self.out, "null"),
            Literal::Bool(truth) => write!(self.out, "{truth}"),
            Literal::Int(number) => write!(self.out, "{number}"),
            Literal::Uint(number) => write!(self.out, "{number}u"),
            Literal::Double(number) => write!(self.out, "{number:?}"),
            Literal::String(text) => {
                self.out.push('"');
                text.chars().for_each(|c| self.character(c));
                write!(self.out, "\"")
            }
            Literal::Bytes(bytes) => {
                self.out.push_str("b\"");
                for byte in bytes.iter() {
                    match byte {
                        b'"' | b'\\' => self.out.extend(['\\', char::from(*byte)]),
                        b' '..=b'~' => self.out.push(char::from(*byte)),
                        _ => drop(write!(self.out, "\\x{byte:02x}")),
                    }
                }
                write!(self.out, "\"")
            }
        };
    }

    fn character(&mut self, c: char) {
        match c {
            '"' | '\\' => self.out.extend(['\\', c]),
            '\n' => self.out.push_str("\\n"),
            '\r' => self.out.push_str("\\r"),
            '\t' => self.out.push_str("\\t"),
            c if c.is_control() => drop(write!(self.out, "\\u{:04x}", c as u32)),
            c => self.out.push(c),
        }
    }
}

fn is_positive(literal: &Literal) -> bool {
    match literal {
        Literal::Int(number) => *number >= 0,
        Literal::Double(number) => number.is_sign_positive(),
        _ => false,
    }
}

fn precedence(kind: &Kind) -> u8 {
    match kind {
        Kind::Conditional { .. } => CONDITIONAL,
        Kind::Binary { operator, .. } => operator.precedence(),
        Kind::Unary { .. } => UNARY,
        _ => MEMBER,
    }
}
