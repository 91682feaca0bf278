//! Whether git would keep the private configuration, found without starting git.

use crate::git;
use ignore::WalkBuilder;
use std::path::Path;
use yieldtray_source::access::LOCAL_FILE;
use yieldtray_source::{Code, Problem, Span};

/// The problem if git tracks the private configuration at `root` (`tracked`), or would with the next commit.
pub(crate) fn tracked_problem(root: &Path, tracked: bool) -> Option<Problem> {
    git::checkout_of(root)?;
    if !(tracked || would_be_added(root)) {
        return None;
    }
    let message = format!("`{LOCAL_FILE}` holds private values but is tracked by git, or not ignored");
    let hint = format!("add `{LOCAL_FILE}` to `.gitignore`, and run `git rm --cached {LOCAL_FILE}` if it is tracked");
    Some(Problem::error(Code::TrackedFile, Span::default(), message).with_hint(hint))
}

/// Whether no rule of git ignores the file.
fn would_be_added(root: &Path) -> bool {
    let mut walk = WalkBuilder::new(root);
    walk.max_depth(Some(1)).hidden(false).ignore(false);
    let wanted = root.join(LOCAL_FILE);
    let only = wanted.clone();
    walk.filter_entry(move |entry| entry.depth() == 0 || entry.path() == only);
    walk.build().flatten().any(|entry| entry.path() == wanted)
}
