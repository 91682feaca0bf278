//! Whether git would keep the private configuration. Git itself is asked, while the command does its
//! work; where there is no git or no repository, nobody complains.

use std::path::Path;
use std::process::{Child, Command, Stdio};
use yieldtray_core::problem::{Code, Problem};
use yieldtray_core::syntax::Span;
use yieldtray_core::workspace::LOCAL_FILE;

/// The question, on its way.
pub(crate) struct PrivateFile(Child);

impl PrivateFile {
    /// Asks about the private configuration at `root`.
    pub(crate) fn ask(root: &Path) -> Option<Self> {
        // A process is not started for nothing: without a repository there is nothing to ask.
        root.ancestors().find(|folder| folder.join(".git").exists())?;
        let asked = Command::new("git")
            .args(["check-ignore", "--quiet", LOCAL_FILE])
            .current_dir(root)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn();
        asked.ok().map(Self)
    }

    /// What is wrong, if git would keep it: git says 0 for an ignored file, 1 for one that it tracks or
    /// would add, and more where it cannot tell.
    pub(crate) fn problem(mut self) -> Option<Problem> {
        let status = self.0.wait().ok()?;
        (status.code() == Some(1)).then(|| {
            let message =
                format!("git keeps `{LOCAL_FILE}`, or would with the next commit, but it holds private values");
            Problem::mistake(Code::TrackedFile, Span::default(), message)
                .with_hint(format!("add `{LOCAL_FILE}` to `.gitignore`, and `git rm --cached` it if it is tracked"))
        })
    }
}
