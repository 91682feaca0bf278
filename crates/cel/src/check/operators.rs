//! The types of operators.

use super::{CheckErrorKind, Checker, type_name};
use crate::program::Operation;
use crate::tree::{Binary, Kind, NodeId};
use crate::types::Type;
use crate::value::Value;
use yieldtray_source::Span;

impl Checker<'_> {
    /// `==`, `!=` and `in`. The side that a type is compared with is a type, even if a value has that name.
    pub(super) fn equality(
        &mut self,
        id: NodeId,
        operator: Binary,
        operator_span: Span,
        (left, left_type): (NodeId, Type),
        right: NodeId,
    ) -> Type {
        let right_type = match self.is_type_call(left) {
            true => self.as_types(right).unwrap_or_else(|| self.node(right)),
            false => self.node(right),
        };
        self.operations[id.index()] = Operation::Binary(operator, left, right);
        match operator {
            Binary::In => self.contains(operator_span, left_type, right_type),
            _ if !left_type.can_equal(&right_type) => {
                let (left, right) = (left_type, right_type);
                self.error(operator_span, CheckErrorKind::NeverEqual { left, right });
                Type::Bool
            }
            _ => Type::Bool,
        }
    }

    fn contains(&mut self, operator_span: Span, left: Type, right: Type) -> Type {
        let is_possible = match &right {
            Type::List(member) => left.can_equal(member),
            Type::Map(key, _) => left.can_equal(key),
            Type::Record(_) => left.can_equal(&Type::String),
            other => other.is_dyn() || matches!(other, Type::Nullable(_)),
        };
        if !is_possible {
            let (function, arguments) = ("in".to_owned(), vec![left, right]);
            self.error(operator_span, CheckErrorKind::NoOverload { function, arguments });
        }
        Type::Bool
    }

    /// Whether a node asks for the type of something: `type(x)`.
    fn is_type_call(&self, id: NodeId) -> bool {
        matches!(&self.tree.node(id).kind, Kind::Call { function, receiver: None, arguments, .. }
            if &**function == "type" && self.tree.list(*arguments).len() == 1)
    }

    /// Makes a name of a type, or a list of such names, types. None if it is something else.
    pub(super) fn as_types(&mut self, id: NodeId) -> Option<Type> {
        let name = match &self.tree.node(id).kind {
            Kind::Name { name, .. } if self.local(name).is_none() => name.to_string(),
            Kind::Select { .. } => self.dotted(id)?,
            Kind::List(elements) => {
                let values: Vec<NodeId> = elements.iter().map(|element| element.value).collect();
                for value in &values {
                    let is_type =
                        matches!(&self.tree.node(*value).kind, Kind::Name { name, .. } if type_name(name).is_some());
                    if !is_type {
                        return None;
                    }
                }
                values.iter().for_each(|value| drop(self.as_types(*value)));
                self.operations[id.index()] = Operation::List(values.into_iter().map(|value| (value, false)).collect());
                return Some(Type::list(Type::Type));
            }
            _ => return None,
        };
        let name = type_name(&name)?;
        self.operations[id.index()] = Operation::Constant(Value::Type(name));
        Some(Type::Type)
    }

    /// Whether a comparison has the name of a type on its left side and asks for a type on its right side.
    pub(super) fn compares_type(&self, id: NodeId) -> bool {
        let Kind::Binary { operator: Binary::Equal | Binary::NotEqual | Binary::In, left, right, .. } =
            self.tree.node(id).kind
        else {
            return false;
        };
        let is_type = |id: NodeId| match &self.tree.node(id).kind {
            Kind::Name { name, .. } => self.local(name).is_none() && type_name(name).is_some(),
            Kind::Select { .. } => self.dotted(id).is_some_and(|name| type_name(&name).is_some()),
            _ => false,
        };
        self.is_type_call(right) && is_type(left)
    }

    /// Any other operator between two operands.
    pub(super) fn operator(
        &mut self,
        operator: Binary,
        operator_span: Span,
        (left, a): (NodeId, Type),
        (right, b): (NodeId, Type),
    ) -> Type {
        let not_null = |found: Type| match found {
            Type::Nullable(inner) => (*inner).clone(),
            other => other,
        };
        let (a, b) = (not_null(a), not_null(b));
        let found = match operator {
            Binary::And | Binary::Or => {
                for (side, found) in [(left, &a), (right, &b)] {
                    if !found.fits(&Type::Bool) {
                        let at = self.span(side);
                        let (function, arguments) = (operator.as_str().to_owned(), vec![found.clone()]);
                        self.error(at, CheckErrorKind::NoOverload { function, arguments });
                    }
                }
                return Type::Bool;
            }
            Binary::Less | Binary::LessOrEqual | Binary::Greater | Binary::GreaterOrEqual => order(&a, &b),
            _ => arithmetic(operator, &a, &b),
        };
        found.unwrap_or_else(|| {
            let (function, arguments) = (operator.as_str().to_owned(), vec![a, b]);
            self.error(operator_span, CheckErrorKind::NoOverload { function, arguments });
            Type::Dyn
        })
    }
}

/// The type of `<`; none if values of these types have no order.
fn order(a: &Type, b: &Type) -> Option<Type> {
    let has_order = |found: &Type| {
        found.may_be_number()
            || matches!(found, Type::Bool | Type::String | Type::Bytes | Type::Timestamp | Type::Duration)
    };
    (has_order(a) && has_order(b) && a.can_equal(b)).then_some(Type::Bool)
}

/// The type of a sum, product or the like; none if there is none of values of these types.
fn arithmetic(operator: Binary, a: &Type, b: &Type) -> Option<Type> {
    use Type::{Bytes, Double, Duration, Int, List, String, Timestamp, Uint};
    if a.is_dyn() && b.is_dyn() {
        return Some(Type::Dyn);
    }
    Some(match (operator, a, b) {
        (Binary::Modulo, Double, _) | (Binary::Modulo, _, Double) => return None,
        (_, Int, Int) => Int,
        (_, Uint, Uint) => Uint,
        (_, Double, Double) => Double,
        (Binary::Add, String, String) => String,
        (Binary::Add, Bytes, Bytes) => Bytes,
        (Binary::Add, List(a), List(b)) => Type::list(a.join(b)),
        (Binary::Add, Timestamp, Duration) | (Binary::Add, Duration, Timestamp) => Timestamp,
        (Binary::Add | Binary::Subtract, Duration, Duration) => Duration,
        (Binary::Subtract, Timestamp, Timestamp) => Duration,
        (Binary::Subtract, Timestamp, Duration) => Timestamp,
        // Of an operand that is not known, the other one says which operators there are.
        (Binary::Add, other @ (String | Bytes | List(_) | Int | Uint | Double), unknown)
        | (Binary::Add, unknown, other @ (String | Bytes | List(_) | Int | Uint | Double))
            if unknown.is_dyn() =>
        {
            match other {
                List(_) => Type::list(Type::Dyn),
                other => other.clone(),
            }
        }
        (Binary::Add | Binary::Subtract, Timestamp | Duration, unknown) if unknown.is_dyn() => Type::Dyn,
        (Binary::Add | Binary::Subtract, unknown, Timestamp | Duration) if unknown.is_dyn() => Type::Dyn,
        (_, other @ (Int | Uint | Double), unknown) | (_, unknown, other @ (Int | Uint | Double))
            if unknown.is_dyn() =>
        {
            other.clone()
        }
        _ => return None,
    })
}
