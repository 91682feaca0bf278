//! The commits of request files. Git is asked while requests are under way.

use crate::git;
use crate::project::trust::Trust;
use std::collections::HashSet;
use std::path::Path;
use std::sync::mpsc::{self, Receiver};
use std::thread;
use std::time::Duration;

/// With more files than this, git is asked about all there are below the root.
const MAX_NAMED_FILES: usize = 64;

/// The time to wait for git after everything else is done.
const GIT_TIMEOUT: Duration = Duration::from_secs(2);

/// The digits of a commit hash that are logged.
const REVISION_DIGITS: usize = 12;

/// The pending question, or its answer.
pub(crate) enum Revisions {
    /// On its way.
    Asked(Receiver<Option<Answer>>),
    /// The output of git; `None` if it failed.
    Known(Option<Answer>),
}

/// The status of a checkout.
#[derive(Debug, PartialEq, Eq)]
pub(crate) struct Answer {
    commit: String,
    /// Files that are other than in the commit, or not in it, from the workspace's root on.
    changed: HashSet<String>,
}

impl Revisions {
    /// Asks about these files of the workspace at `root`, if it may start git.
    pub(crate) fn ask(root: &Path, files: &[String], trust: &Trust) -> Self {
        // A process is not started for nothing: without a repository there is nothing to ask.
        let Some(top) = git::checkout_of(root).filter(|_| trust.allows()) else { return Self::Known(None) };
        let below = root.strip_prefix(top).unwrap_or(Path::new("")).to_string_lossy().replace('\\', "/");
        let status = ["status", "--porcelain=v2", "--branch", "--untracked-files=all", "-z", "--"];
        let mut git = git::command(root, status);
        match files.len() {
            ..=MAX_NAMED_FILES => git.args(files),
            _ => git.arg("."),
        };
        let (sender, receiver) = mpsc::channel();
        // To start a process takes as long as a small request.
        thread::spawn(move || {
            let said = git.output().ok().filter(|output| output.status.success());
            let _ = sender.send(said.and_then(|output| read(&String::from_utf8_lossy(&output.stdout), &below)));
        });
        Self::Asked(receiver)
    }

    /// The commit, with a `+` behind it where the file is other than there.
    pub(crate) fn of(&mut self, file: &str) -> Option<String> {
        if let Self::Asked(receiver) = self {
            *self = Self::Known(receiver.recv_timeout(GIT_TIMEOUT).ok().flatten());
        }
        let Self::Known(Some(Answer { commit, changed })) = self else { return None };
        Some(format!("{commit}{}", if changed.contains(file) { "+" } else { "" }))
    }
}

/// Reads what `git status --porcelain=v2 --branch -z` says; `below` is the path of the workspace in the checkout.
fn read(said: &str, below: &str) -> Option<Answer> {
    let (mut commit, mut changed) = (None, HashSet::new());
    let mut add = |path: Option<&str>| {
        let own = path.and_then(|path| path.strip_prefix(below));
        changed.extend(own.map(|path| path.trim_start_matches('/').to_owned()));
    };
    let mut lines = said.split('\0');
    while let Some(line) = lines.next() {
        match line.split_once(' ') {
            Some(("#", rest)) => {
                if let Some(id) = rest.strip_prefix("branch.oid ").filter(|id| *id != "(initial)") {
                    commit = Some(id.get(..REVISION_DIGITS).unwrap_or(id).to_owned());
                }
            }
            // A fixed number of fields, then the path, which may contain spaces.
            Some(("1", rest)) => add(rest.splitn(8, ' ').nth(7)),
            Some(("u", rest)) => add(rest.splitn(10, ' ').nth(9)),
            Some(("2", rest)) => {
                add(rest.splitn(9, ' ').nth(8));
                // The name it had follows.
                lines.next();
            }
            Some(("?", path)) => add(Some(path)),
            _ => {}
        }
    }
    commit.map(|commit| Answer { commit, changed })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_git_says_is_read() {
        let said = "# branch.oid 0123456789abcdef0123\0# branch.head main\0\
            1 .M N... 100644 100644 100644 aa bb api/requests/a b.http\0\
            2 R. N... 100644 100644 100644 aa bb R100 api/new.http\0api/old.http\0? api/fresh.http\0? other.http\0";
        let answer = read(said, "api").expect("there is a commit");
        let mut changed: Vec<&str> = answer.changed.iter().map(String::as_str).collect();
        changed.sort_unstable();
        assert_eq!(
            (answer.commit.as_str(), changed),
            ("0123456789ab", vec!["fresh.http", "new.http", "requests/a b.http"])
        );
        let mut known = Revisions::Known(Some(answer));
        assert_eq!(known.of("new.http").as_deref(), Some("0123456789ab+"));
        assert_eq!(known.of("old.http").as_deref(), Some("0123456789ab"));
        assert_eq!(read("# branch.oid (initial)\0? a.http\0", ""), None);
        assert_eq!(Revisions::Known(None).of("a.http"), None);
    }
}
