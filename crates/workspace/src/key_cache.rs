//! The private keys that were read, for the lifetime of a workspace.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use yieldtray_credentials::key::SigningKey;

/// Where a key comes from.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub(crate) struct KeySource {
    /// The file, as the configuration writes it.
    pub(crate) file: String,
    /// Whether the private configuration names it.
    pub(crate) private: bool,
    /// The password of the key.
    pub(crate) password: Option<String>,
    /// The algorithm it signs with, if one is named.
    pub(crate) algorithm: Option<String>,
}

/// Keys by where they come from. A run uses one for many requests, and decrypting it takes time on purpose.
#[derive(Default)]
pub(crate) struct KeyCache(Mutex<HashMap<KeySource, SigningKey>>);

impl KeyCache {
    /// The key of `source`, read by `read` the first time. Errors are not kept.
    pub(crate) fn get_or_read<E>(
        &self,
        source: KeySource,
        read: impl FnOnce() -> Result<SigningKey, E>,
    ) -> Result<SigningKey, E> {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner).get(&source).cloned();
        if let Some(key) = known {
            return Ok(key);
        }
        let key = read()?;
        self.0.lock().unwrap_or_else(PoisonError::into_inner).insert(source, key.clone());
        Ok(key)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_read_once_for_each_source_and_an_error_every_time() {
        let (cache, mut reads) = (KeyCache::default(), 0);
        let source = |file: &str| KeySource { file: file.to_owned(), private: false, password: None, algorithm: None };
        let mut get = |file: &str, works: bool| {
            cache.get_or_read(source(file), || {
                reads += 1;
                if works { SigningKey::from_secret(&[7; 32], None).map_err(|_| "unfit") } else { Err("gone") }
            })
        };
        assert!(get("gate.pem", false).is_err() && get("gate.pem", true).is_ok());
        assert!(get("gate.pem", false).is_ok(), "it is known now");
        assert!(get("scale.pem", true).is_ok());
        assert_eq!(reads, 3);
    }
}
