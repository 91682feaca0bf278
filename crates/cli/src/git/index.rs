//! The names in git's index (gitformat-index(5), versions 2 to 4), read without starting git.

use super::{checkout_of, repository_of};
use crate::files::read_regular;
use std::path::Path;

/// The largest index that is read, in bytes: one of some million files.
const MAX_INDEX_BYTES: u64 = 1 << 30;

/// Whether git tracks `file`, which is inside a checkout or not. An index that cannot be read tracks nothing that
/// is known.
pub(crate) fn tracks(file: &Path) -> bool {
    let Some(checkout) = file.parent().and_then(checkout_of) else { return false };
    let Ok(inside) = file.strip_prefix(checkout) else { return false };
    let inside = inside.to_string_lossy().replace('\\', "/");
    let index =
        repository_of(checkout).and_then(|repository| read_regular(&repository.join("index"), MAX_INDEX_BYTES).ok());
    index.is_some_and(|index| has(&index, inside.as_bytes()))
}

/// Whether an index has a name. Where its form is not known, it may have any.
fn has(index: &[u8], wanted: &[u8]) -> bool {
    let number = |at: usize| Some(u32::from_be_bytes(index.get(at..at + 4)?.try_into().ok()?));
    let (Some(b"DIRC"), Some(version @ 2..=4), Some(count)) = (index.get(..4), number(4), number(8)) else {
        return true;
    };
    // An object's name has 20 bytes, or 32 in a repository of SHA-256.
    let found = [20, 32].into_iter().find_map(|object| search(index, version, count, object, wanted));
    found.unwrap_or(true)
}

/// `None` where the index does not have this form.
fn search(index: &[u8], version: u32, count: u32, object: usize, wanted: &[u8]) -> Option<bool> {
    const NAMED: usize = 40;
    const EXTENDED: u8 = 0x40;
    let (mut at, mut name, mut found) = (12, Vec::new(), false);
    for _ in 0..count {
        let start = at;
        let flags = *index.get(start + NAMED + object)?;
        at = start + NAMED + object + 2 + if flags & EXTENDED != 0 { 2 } else { 0 };
        if version == 4 {
            let (cut, after) = offset(index, at)?;
            name.truncate(name.len().checked_sub(cut)?);
            at = after;
        } else {
            name.clear();
        }
        let length = index.get(at..)?.iter().position(|byte| *byte == 0)?;
        name.extend_from_slice(&index[at..at + length]);
        at += length + 1;
        if version < 4 {
            // Entries are filled up to a multiple of eight bytes.
            at = start + (at - start).next_multiple_of(8);
        }
        if name.is_empty() || name.contains(&b'\n') && version < 4 && object == 20 {
            return None;
        }
        found |= name == wanted;
    }
    // Behind the entries there are extensions, each with a name of four letters, and the index's own digest.
    let rest = index.len().checked_sub(at)?;
    let fits = rest == object || index.get(at..at + 4)?.iter().all(u8::is_ascii_alphabetic);
    fits.then_some(found)
}

/// A number of variable length, as git writes offsets.
fn offset(index: &[u8], mut at: usize) -> Option<(usize, usize)> {
    let mut byte = *index.get(at)?;
    let mut value = usize::from(byte & 0x7f);
    while byte & 0x80 != 0 {
        at += 1;
        byte = *index.get(at)?;
        value = value.checked_add(1)?.checked_shl(7)? | usize::from(byte & 0x7f);
    }
    Some((value, at + 1))
}

#[cfg(test)]
mod tests {
    use super::*;
    #[cfg(feature = "other-programs")]
    use std::process::Command;

    #[cfg(feature = "other-programs")]
    #[test]
    fn names_are_found_in_each_version_that_git_writes() {
        for (format, versions) in [("sha1", ["2", "3", "4"]), ("sha256", ["2", "4", "4"])] {
            for version in versions {
                let checkout = tempfile::tempdir().expect("a folder");
                let git = |arguments: &[&str]| {
                    let run = Command::new("git").args(arguments).current_dir(checkout.path()).output();
                    assert!(run.expect("git runs").status.success(), "{arguments:?}");
                };
                git(&["init", "-q", &format!("--object-format={format}")]);
                std::fs::create_dir(checkout.path().join("api")).expect("a folder");
                for name in ["a.http", "api/yieldtray.local.toml", "api/yieldtray.toml", "b"] {
                    std::fs::write(checkout.path().join(name), "x").expect("a file");
                }
                git(&["config", "index.version", version]);
                git(&["add", "a.http", "api/yieldtray.local.toml", "b"]);
                // Version 3 is written for entries with more flags.
                git(&["add", "-N", if version == "3" { "api/yieldtray.toml" } else { "b" }]);
                let tracked = |name: &str| tracks(&checkout.path().join(name));
                assert!(tracked("api/yieldtray.local.toml") && tracked("b"), "{format} {version}");
                assert!(!tracked("yieldtray.local.toml") && !tracked("api"), "{format} {version}");
                assert!(!tracks(Path::new("/yieldtray.local.toml")));
            }
        }
    }

    #[test]
    fn what_is_no_index_may_track_anything() {
        assert!(has(b"DIRC\0\0\0\x09\0\0\0\0", b"a"));
        assert!(has(b"", b"a"));
        assert!(!has(b"DIRC\0\0\0\x02\0\0\0\0xxxxxxxxxxxxxxxxxxxx", b"a"));
    }
}
