//! A name and a password.

use std::fmt;

/// A name and a password, for a server that asks for proof of them. Neither is ever printed.
#[derive(Clone, PartialEq, Eq)]
pub struct Login {
    /// The user.
    pub user: String,
    /// The password.
    pub password: String,
}

impl fmt::Debug for Login {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Login")
    }
}
