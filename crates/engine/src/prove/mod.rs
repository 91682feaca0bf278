//! Would these checks notice if the API broke? An answer is altered in one respect at a time, and the checks
//! judge each altered copy; nothing is sent for it.

mod mutate;
mod mutation;
mod suggest;

use yieldtray_http::body_shape::Segment;
use yieldtray_workspace::secret::Masker;

pub use mutate::alter;
pub use mutation::changes;
pub use mutation::{Change, Field, words};
pub(crate) use suggest::candidates;

/// What became of the altered copies of one answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Proof {
    /// How many copies there were.
    pub altered: usize,
    /// The changes that nothing noticed, the most important first.
    pub gaps: Vec<Change>,
    /// A line that holds for the answer and notices the first gap that a line can close.
    pub suggestion: Option<String>,
}

impl Proof {
    /// Hides secrets in what it tells.
    pub(crate) fn mask(&mut self, masker: &Masker) {
        for gap in &mut self.gaps {
            match gap {
                Change::Field { path, .. } => {
                    for segment in &mut path.0 {
                        if let Segment::Key(name) = segment {
                            masker.hide(name);
                        }
                    }
                }
                Change::Header(name) => masker.hide(name),
                _ => {}
            }
        }
        if self.suggestion.as_ref().is_some_and(|line| masker.finds_in(line)) {
            self.suggestion = None;
        }
    }

    /// How many of the changes were noticed.
    pub fn noticed(&self) -> usize {
        self.altered - self.gaps.len()
    }
}
