//! The records that were read lately, so that many requests to one operation read it once.

use crate::index::IndexError;
use rustc_hash::FxHashMap;
use std::fmt;
use std::sync::{Arc, Mutex, PoisonError};

/// Records that are kept; then all of them make room.
const MAX_RECORDS: usize = 256;

/// Records of one kind by their names.
pub(crate) struct Recent<T>(Mutex<FxHashMap<String, Arc<T>>>);

impl<T> Default for Recent<T> {
    fn default() -> Self {
        Self(Mutex::default())
    }
}

impl<T> fmt::Debug for Recent<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Recent")
    }
}

impl<T> Recent<T> {
    /// The record of that name, which `read` reads if it is not here.
    pub(crate) fn get(
        &self,
        name: &str,
        read: impl FnOnce() -> Result<Option<T>, IndexError>,
    ) -> Result<Option<Arc<T>>, IndexError> {
        let known = self.0.lock().unwrap_or_else(PoisonError::into_inner).get(name).cloned();
        if known.is_some() {
            return Ok(known);
        }
        let Some(record) = read()?.map(Arc::new) else { return Ok(None) };
        let mut known = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if known.len() >= MAX_RECORDS {
            known.clear();
        }
        known.insert(name.to_owned(), Arc::clone(&record));
        Ok(Some(record))
    }
}
