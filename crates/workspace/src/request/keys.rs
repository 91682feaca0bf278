//! Private keys that a configuration names.

use crate::config::ProfileEntry;
use crate::key_cache::KeySource;
use crate::scope::Resolver;
use std::io;
use std::path::Path;
use yieldtray_credentials::key::{KeyError, SigningKey};
use yieldtray_source::{Code, Problem};

/// The key in `file`, which the configuration names at `entry`. Each is read once.
pub(super) fn signing_key(
    resolver: &Resolver<'_>,
    entry: &ProfileEntry,
    file: &str,
    password: Option<&str>,
    algorithm: Option<&str>,
) -> Result<SigningKey, Box<Problem>> {
    let owned = |text: Option<&str>| text.map(str::to_owned);
    let source = KeySource {
        file: file.to_owned(),
        private: entry.private,
        password: owned(password),
        algorithm: owned(algorithm),
    };
    resolver.workspace.keys.get_or_read(source, || read(resolver, entry, file, password, algorithm))
}

fn read(
    resolver: &Resolver<'_>,
    entry: &ProfileEntry,
    file: &str,
    password: Option<&str>,
    algorithm: Option<&str>,
) -> Result<SigningKey, Box<Problem>> {
    let problem = |message: String, hint: &str| {
        let problem = Problem::error(Code::InvalidValue, entry.span, message).with_hint(hint);
        Box::new(problem.in_source(entry.source))
    };
    let files = resolver.context.outside().files;
    let read = if entry.private { files.read_private(Path::new(file)) } else { files.read_data(Path::new(file)) };
    let pem = read.map_err(|error| {
        let hint = match error.kind() {
            io::ErrorKind::PermissionDenied if entry.private => {
                "review `yieldtray.local.toml`, then run `yieldtray allow`"
            }
            _ => "the path is relative to the workspace root; only the local configuration may use paths outside it",
        };
        problem(format!("the key `{file}` cannot be read: {error}"), hint)
    })?;
    SigningKey::from_pem(&pem, password, algorithm).map_err(|error| {
        let hint = match error {
            KeyError::PasswordNeeded | KeyError::NotDecrypted => {
                "set `key_password`, for example to `\"{{key_password}}\"`"
            }
            _ => "for example `openssl genpkey -algorithm ED25519 -out key.pem` writes a key",
        };
        problem(format!("cannot use the key `{file}`: {error}"), hint)
    })
}
