//! The types of members and of what is at an index.

use super::{CheckErrorKind, Checker};
use crate::program::Operation;
use crate::tree::NodeId;
use crate::types::Type;
use crate::value::Value;
use std::sync::Arc;
use yieldtray_source::Span;

impl Checker<'_> {
    /// The type of a member.
    pub(super) fn member(&mut self, operand: NodeId, of: Type, member: &str, at: Span) -> Type {
        match of {
            Type::Dyn | Type::Open | Type::Null => Type::Dyn,
            Type::Optional(value) => self.member(operand, (*value).clone(), member, at),
            Type::Nullable(inner) => self.member(operand, (*inner).clone(), member, at),
            Type::Map(key, value) if Type::String.fits(&key) => (*value).clone(),
            Type::Record(schema) => schema.member(member).unwrap_or_else(|| {
                let (operand, member, known) = (self.span(operand), member.to_owned(), schema.members());
                self.error(at, CheckErrorKind::NoMember { operand, member, known });
                Type::Dyn
            }),
            operand_type => {
                let (operand, member) = (self.span(operand), member.to_owned());
                self.error(at, CheckErrorKind::NoMembers { operand, operand_type, member });
                Type::Dyn
            }
        }
    }

    /// The type of what is at an index or key.
    pub(super) fn index(&mut self, (operand, of): (NodeId, Type), (index, by): (NodeId, Type), optional: bool) -> Type {
        let is_optional = optional || matches!(of, Type::Optional(_));
        let of = match of {
            Type::Optional(value) => (*value).clone(),
            other => other,
        };
        let found = match &of {
            Type::List(member) if by.may_be_number() => (**member).clone(),
            Type::Map(key, value) if by.fits(key) || by.may_be_number() && key.may_be_number() => (**value).clone(),
            // A member that is named as a constant is checked like one after a dot.
            Type::Record(_) if by.fits(&Type::String) => match &self.operations[index.index()] {
                Operation::Constant(Value::String(name)) => {
                    let (name, at) = (Arc::clone(name), self.span(index));
                    self.member(operand, of, &name, at)
                }
                _ => Type::Dyn,
            },
            other if other.is_dyn() => Type::Dyn,
            Type::Nullable(_) => Type::Dyn,
            _ => {
                let (at, function) = (self.span(index), "[ ]".to_owned());
                self.error(at, CheckErrorKind::NoOverload { function, arguments: vec![of, by] });
                Type::Dyn
            }
        };
        if is_optional { Type::optional(found) } else { found }
    }
}
