//! The state of a workspace between processes: one SQLite file in the folder `.yieldtray/` at its root. Two processes
//! may use it at once; one that is killed leaves it readable.
//!
//! Secrets are sealed with a key that is in the user's own state folder, so that neither a copy of the folder nor a
//! backup of it discloses them.

mod credentials;
mod damage;
mod folder;
pub mod log;
mod seal;
mod store;
mod sync;
mod tables;

pub use credentials::{Credential, Kind};
pub use damage::quarantine;
pub use folder::{STATE_FOLDER, StateFolder};
pub use seal::{Key, user_key_file, user_state_folder};
pub use store::{CapturedRow, Store};

/// Why the state cannot be read or written.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The file was written by a newer version.
    #[error("`{file}` was written by a newer version of yieldtray (format {found}, this version supports {known})")]
    Newer {
        /// The file's name.
        file: String,
        /// Its form.
        found: i64,
        /// The newest form that is known here.
        known: i64,
    },
    /// SQLite refuses.
    #[error("{0}")]
    Database(#[from] rusqlite::Error),
    /// The folder or the key cannot be made or read.
    #[error("{what}: {error}")]
    File {
        /// The operation.
        what: String,
        /// The system's error.
        error: std::io::Error,
    },
    /// Secrets cannot be sealed.
    #[error("no home directory for the key that encrypts secrets")]
    NoKey,
    /// The system gives no random bytes.
    #[error("the system provides no random bytes, so secrets cannot be encrypted")]
    NoRandom,
    /// The state is not this user's own.
    #[error("{0}")]
    Untrusted(String),
}

impl Error {
    /// Whether the file itself is damaged, or none of SQLite's: then nothing can be read from it any more.
    pub fn is_damage(&self) -> bool {
        use rusqlite::ErrorCode::{DatabaseCorrupt, NotADatabase};
        matches!(self, Error::Database(rusqlite::Error::SqliteFailure(error, _))
            if matches!(error.code, DatabaseCorrupt | NotADatabase))
    }

    fn file(what: impl Into<String>, error: std::io::Error) -> Self {
        Error::File { what: what.into(), error }
    }
}
