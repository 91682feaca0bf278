//! Types, as far as they are known before anything is evaluated.

use std::fmt;
use std::sync::Arc;

/// A type. What is not known is [`Type::Dyn`], which fits everything.
#[derive(Clone)]
pub enum Type {
    /// Any type: it is known only when the value is there.
    Dyn,
    /// The type of what does not exist, as the members of `[]`: any other type takes its place.
    Open,
    /// The type of `null`.
    Null,
    /// Truth values.
    Bool,
    /// Integers.
    Int,
    /// Unsigned integers.
    Uint,
    /// Doubles.
    Double,
    /// Texts.
    String,
    /// Bytes.
    Bytes,
    /// Points in time.
    Timestamp,
    /// Lengths of time.
    Duration,
    /// Types.
    Type,
    /// Lists with members of a type.
    List(Arc<Type>),
    /// Maps with keys and values of these types.
    Map(Arc<Type>, Arc<Type>),
    /// Values that may be missing.
    Optional(Arc<Type>),
    /// A type or `null`.
    Nullable(Arc<Type>),
    /// Maps whose members the host knows.
    Record(Arc<dyn Schema>),
    /// A type that is known by its name alone, with the types it is made of.
    Opaque(Arc<str>, Arc<[Type]>),
    /// In a signature, the type with this number, which is the same in all places.
    Parameter(u8),
}

/// The members of a map, as the host knows them.
pub trait Schema: Send + Sync {
    /// The type of a member; none if there can be no such member.
    fn member(&self, name: &str) -> Option<Type>;

    /// The names of the members, for suggestions.
    fn members(&self) -> Vec<String>;
}

impl Type {
    /// Lists of a type.
    pub fn list(member: Type) -> Self {
        Type::List(Arc::new(member))
    }

    /// Maps from texts to values of a type.
    pub fn map(value: Type) -> Self {
        Type::Map(Arc::new(Type::String), Arc::new(value))
    }

    /// Optional values of a type.
    pub fn optional(value: Type) -> Self {
        Type::Optional(Arc::new(value))
    }

    /// Whether nothing is known of it.
    pub fn is_dyn(&self) -> bool {
        matches!(self, Type::Dyn | Type::Open)
    }

    /// True if it is a number, or may be one.
    pub(crate) fn may_be_number(&self) -> bool {
        match self {
            Type::Nullable(inner) => inner.may_be_number(),
            other => other.is_dyn() || matches!(other, Type::Int | Type::Uint | Type::Double),
        }
    }

    /// The type of a value that is of one type or of the other.
    pub(crate) fn join(&self, other: &Type) -> Type {
        match (self, other) {
            (Type::Open, other) | (other, Type::Open) => other.clone(),
            (Type::Dyn, _) | (_, Type::Dyn) => Type::Dyn,
            (Type::List(a), Type::List(b)) => Type::list(a.join(b)),
            (Type::Map(ak, av), Type::Map(bk, bv)) => Type::Map(Arc::new(ak.join(bk)), Arc::new(av.join(bv))),
            (Type::Optional(a), Type::Optional(b)) => Type::optional(a.join(b)),
            (Type::Opaque(a, of), Type::Opaque(b, by)) if a == b && of.len() == by.len() => {
                Type::Opaque(Arc::clone(a), of.iter().zip(by.iter()).map(|(a, b)| a.join(b)).collect())
            }
            (Type::Nullable(inner), other) | (other, Type::Nullable(inner)) => match other {
                Type::Null => Type::Nullable(Arc::clone(inner)),
                other => match inner.join(other.not_null()) {
                    Type::Dyn => Type::Dyn,
                    joined => Type::Nullable(Arc::new(joined)),
                },
            },
            // Of these a null has always been a value too.
            (
                Type::Null,
                other @ (Type::Timestamp | Type::Duration | Type::Optional(_) | Type::Record(_) | Type::Opaque(..)),
            )
            | (
                other @ (Type::Timestamp | Type::Duration | Type::Optional(_) | Type::Record(_) | Type::Opaque(..)),
                Type::Null,
            ) => other.clone(),
            (a, b) if a.same(b) => a.clone(),
            _ => Type::Dyn,
        }
    }

    fn not_null(&self) -> &Type {
        match self {
            Type::Nullable(inner) => inner,
            other => other,
        }
    }

    /// Whether both are the same type without parts.
    fn same(&self, other: &Type) -> bool {
        match (self, other) {
            (Type::Record(a), Type::Record(b)) => Arc::ptr_eq(a, b),
            (a, b) => std::mem::discriminant(a) == std::mem::discriminant(b),
        }
    }

    /// Whether a value of this type can be one of the other type.
    pub(crate) fn fits(&self, other: &Type) -> bool {
        match (self, other) {
            (a, b) if a.is_dyn() || b.is_dyn() => true,
            (Type::Nullable(a), Type::Nullable(b)) => a.fits(b),
            (Type::Nullable(a), Type::Null) | (Type::Null, Type::Nullable(a)) => !a.is_dyn(),
            (Type::Nullable(a), b) => a.fits(b),
            (a, Type::Nullable(b)) => a.fits(b),
            (Type::List(a), Type::List(b)) | (Type::Optional(a), Type::Optional(b)) => a.fits(b),
            (Type::Map(ak, av), Type::Map(bk, bv)) => ak.fits(bk) && av.fits(bv),
            (Type::Record(_), Type::Map(key, _)) | (Type::Map(key, _), Type::Record(_)) => key.fits(&Type::String),
            (Type::Record(_), Type::Record(_)) => true,
            (Type::Opaque(a, of), Type::Opaque(b, by)) => {
                a == b && of.len() == by.len() && of.iter().zip(by.iter()).all(|(a, b)| a.fits(b))
            }
            (a, b) => a.same(b),
        }
    }

    /// Whether a value of this type can equal one of the other type.
    pub(crate) fn can_equal(&self, other: &Type) -> bool {
        match (self, other) {
            // Empty ones are equal, whatever their types.
            (Type::List(_), Type::List(_)) | (Type::Optional(_), Type::Optional(_)) => true,
            (Type::Map(..) | Type::Record(_), Type::Map(..) | Type::Record(_)) => true,
            (a, b) => a.may_be_number() && b.may_be_number() || a.fits(b) || b.fits(a),
        }
    }
}

impl fmt::Display for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Type::Dyn | Type::Open => f.write_str("dyn"),
            Type::Null => f.write_str("null_type"),
            Type::Bool => f.write_str("bool"),
            Type::Int => f.write_str("int"),
            Type::Uint => f.write_str("uint"),
            Type::Double => f.write_str("double"),
            Type::String => f.write_str("string"),
            Type::Bytes => f.write_str("bytes"),
            Type::Timestamp => f.write_str("timestamp"),
            Type::Duration => f.write_str("duration"),
            Type::Type => f.write_str("type"),
            Type::List(member) => write!(f, "list({member})"),
            Type::Map(key, value) => write!(f, "map({key}, {value})"),
            Type::Optional(value) => write!(f, "optional({value})"),
            Type::Nullable(inner) => write!(f, "{inner} or null"),
            Type::Record(_) => f.write_str("map(string, dyn)"),
            Type::Opaque(name, parts) if parts.is_empty() => f.write_str(name),
            Type::Opaque(name, parts) => {
                write!(f, "{name}(")?;
                for (index, part) in parts.iter().enumerate() {
                    write!(f, "{}{part}", if index > 0 { ", " } else { "" })?;
                }
                f.write_str(")")
            }
            Type::Parameter(number) => write!(f, "{}", char::from(b'A' + number.min(&25))),
        }
    }
}

impl fmt::Debug for Type {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}
