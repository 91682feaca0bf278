//! Environment variables: those that a workspace may read, and the names of those it may not.

use std::fmt;

/// The environment variables of the process and of `.env`, as far as a workspace may read them. All of them are
/// secret unless a configuration says otherwise.
#[derive(Clone, Default)]
pub struct Variables {
    readable: Vec<(String, String)>,
    withheld: Vec<String>,
}

impl fmt::Debug for Variables {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_list().entries(self.readable.iter().map(|(name, _)| name)).finish()
    }
}

impl Variables {
    /// The variables of `.env`, and over them those of the process whose names `may_read` accepts.
    pub fn new(
        dot_env: Vec<(String, String)>,
        process: impl IntoIterator<Item = (String, String)>,
        may_read: impl Fn(&str) -> bool,
    ) -> Self {
        let (mut readable, mut withheld) = (dot_env, Vec::new());
        for (name, value) in process {
            if may_read(&name) {
                readable.push((name, value));
            } else {
                withheld.push(name);
            }
        }
        Self { readable, withheld }
    }

    /// The value of a variable that may be read.
    pub fn get(&self, name: &str) -> Option<&str> {
        self.readable.iter().rev().find(|(own, _)| own == name).map(|(_, value)| value.as_str())
    }

    /// Whether a variable is set in the process, but may not be read.
    pub fn withholds(&self, name: &str) -> bool {
        self.get(name).is_none() && self.withheld.iter().any(|own| own == name)
    }

    /// Every variable that may be read.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &str)> {
        self.readable.iter().map(|(name, value)| (name.as_str(), value.as_str()))
    }
}

impl From<Vec<(String, String)>> for Variables {
    fn from(readable: Vec<(String, String)>) -> Self {
        Self { readable, withheld: Vec::new() }
    }
}

/// Says how a variable that is set can be read.
pub(crate) fn how_to_read(name: &str) -> String {
    format!(
        "to allow it, add `{name}` to `allow` in `[env]` of `{}` and run `yieldtray allow`, or pass `--read-env {name}`",
        yieldtray_source::access::LOCAL_FILE
    )
}

/// True if a name matches one of `patterns`, in which `*` matches any characters.
pub fn is_listed(name: &str, patterns: &[String]) -> bool {
    patterns.iter().any(|pattern| yieldtray_source::glob::glob_match(pattern, name))
}
