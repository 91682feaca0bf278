//! Kinds of values that are ours: the crate that runs expressions hands them on and knows nothing of them.

/// Makes `$name`, which is `Clone` and `Debug`, a value of a kind called `$kind`; with `equal`, two that
/// are equal in Rust are equal in an expression.
macro_rules! opaque {
    ($name:ident, $kind:literal $(, $equal:ident)?) => {
        impl cel::common::value::Val for $name {
            fn get_type(&self) -> &cel::common::types::Type {
                <Self as cel::common::value::Val>::cel_type()
            }

            fn cel_type() -> &'static cel::common::types::Type {
                static KIND: cel::common::types::Type = cel::common::types::Type::new_unspecified_type($kind);
                &KIND
            }

            $(fn equals(&self, other: &dyn cel::common::value::Val) -> bool {
                // Named so that the comparison is asked for where the kind is made.
                let $equal = other.downcast_ref::<$name>();
                $equal == Some(self)
            })?

            fn clone_as_boxed<'v>(&self) -> Box<dyn cel::common::value::Val + 'v>
            where
                Self: 'v,
            {
                Box::new(self.clone())
            }

            fn as_any(&self) -> Option<&dyn std::any::Any> {
                Some(self)
            }
        }

        impl cel::common::value::StaticVal for $name {}
    };
}

pub(super) use opaque;
