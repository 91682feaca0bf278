//! Macros: which variables they bind, and the type of what they give.

use super::{CheckErrorKind, Checker};
use crate::program::{MacroKind, Operation};
use crate::tree::NodeId;
use crate::types::Type;
use std::sync::Arc;
use yieldtray_source::Span;

impl Checker<'_> {
    /// A macro whose receiver has a type already.
    pub(super) fn macro_call(
        &mut self,
        id: NodeId,
        name: &str,
        (receiver, of): (NodeId, Type),
        variables: &[(Arc<str>, Span)],
        arguments: &[NodeId],
    ) -> Type {
        let pair = variables.len() == 2;
        let kind = match name {
            "all" => MacroKind::All { pair },
            "exists" => MacroKind::Exists { pair },
            "exists_one" | "existsOne" => MacroKind::ExistsOne { pair },
            "map" | "transformList" => MacroKind::Map { pair },
            "filter" => MacroKind::Filter,
            "transformMap" => MacroKind::TransformMap,
            "transformMapEntry" => MacroKind::TransformMapEntry,
            "sortBy" => MacroKind::SortBy,
            "optMap" => MacroKind::OptMap,
            "optFlatMap" => MacroKind::OptFlatMap,
            _ => MacroKind::Bind,
        };
        let bound = match kind {
            MacroKind::Bind => vec![of.clone()],
            MacroKind::OptMap | MacroKind::OptFlatMap => vec![self.optional_part(receiver, true, of.clone())],
            _ => {
                let (key, value) = self.element_types(receiver, &of);
                // With one variable it is the element of a list, or the key of a map.
                match (pair, &of) {
                    (true, _) => vec![key, value],
                    (false, Type::Map(..) | Type::Record(_)) => vec![key],
                    (false, _) => vec![value],
                }
            }
        };
        let before = self.locals.len();
        // A variable that could not be read has no name that anything could use.
        let names = variables.iter().map(|(name, _)| name.clone()).chain(std::iter::repeat("".into()));
        self.locals.extend(names.zip(bound.iter().cloned()));
        let found: Vec<Type> = arguments.iter().map(|argument| self.node(*argument)).collect();
        self.locals.truncate(before);
        self.operations[id.index()] = Operation::Macro { kind, receiver, arguments: arguments.into() };
        let last = found.last().cloned().unwrap_or(Type::Dyn);
        // With two arguments the first one is a filter.
        let has_condition = arguments.len() == 2
            || matches!(
                kind,
                MacroKind::All { .. } | MacroKind::Exists { .. } | MacroKind::ExistsOne { .. } | MacroKind::Filter
            );
        if has_condition
            && let (Some(argument), Some(found)) = (arguments.first(), found.first())
            && !found.fits(&Type::Bool)
        {
            let at = self.span(*argument);
            self.error(at, CheckErrorKind::Condition(found.clone()));
        }
        match kind {
            MacroKind::All { .. } | MacroKind::Exists { .. } | MacroKind::ExistsOne { .. } => Type::Bool,
            MacroKind::Map { .. } => Type::list(last),
            MacroKind::Filter | MacroKind::SortBy => match of {
                Type::List(_) => of,
                _ => Type::list(bound.into_iter().next().unwrap_or(Type::Dyn)),
            },
            MacroKind::TransformMap => {
                Type::Map(Arc::new(bound.into_iter().next().unwrap_or(Type::Dyn)), Arc::new(last))
            }
            MacroKind::TransformMapEntry => last,
            MacroKind::OptMap => Type::optional(last),
            MacroKind::OptFlatMap => match last {
                Type::Optional(_) => last,
                other if other.is_dyn() => Type::optional(Type::Dyn),
                other => {
                    let at = arguments.last().map_or(Span::empty(0), |argument| self.span(*argument));
                    self.error(at, CheckErrorKind::NotOptional(other));
                    Type::optional(Type::Dyn)
                }
            },
            MacroKind::Bind => last,
        }
    }

    /// The types of index and element of a list, or of key and value of a map.
    fn element_types(&mut self, receiver: NodeId, of: &Type) -> (Type, Type) {
        match of {
            Type::List(member) => (Type::Int, (**member).clone()),
            Type::Map(key, value) => ((**key).clone(), (**value).clone()),
            Type::Record(_) => (Type::String, Type::Dyn),
            Type::Nullable(inner) => self.element_types(receiver, inner),
            other if other.is_dyn() => (Type::Dyn, Type::Dyn),
            other => {
                let at = self.span(receiver);
                self.error(at, CheckErrorKind::NotIterable(other.clone()));
                (Type::Dyn, Type::Dyn)
            }
        }
    }
}
