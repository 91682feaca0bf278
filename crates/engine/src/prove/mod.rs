//! Would these checks notice if the API broke? An answer is altered in one respect at a time, and the checks
//! judge each altered copy; nothing is sent for it.

mod mutate;
mod mutation;
mod suggest;

use yieldtray_http::body_shape::Segment;
use yieldtray_workspace::secret::Masker;

pub use mutate::mutate;
pub use mutation::{Field, Mutation, mutations, words};
pub(crate) use suggest::suggestions;

/// What became of the altered copies of one answer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MutationReport {
    /// How many copies there were.
    pub mutants: usize,
    /// The changes that nothing noticed, the most important first.
    pub survivors: Vec<Mutation>,
    /// A line that holds for the answer and notices the first gap that a line can close.
    pub suggestion: Option<String>,
}

impl MutationReport {
    /// Hides secrets in what it tells.
    pub(crate) fn mask(&mut self, masker: &Masker) {
        for gap in &mut self.survivors {
            match gap {
                Mutation::Field { path, .. } => {
                    for segment in &mut path.0 {
                        if let Segment::Key(name) = segment {
                            masker.hide(name);
                        }
                    }
                }
                Mutation::Header(name) => masker.hide(name),
                _ => {}
            }
        }
        if self.suggestion.as_ref().is_some_and(|line| masker.finds_in(line)) {
            self.suggestion = None;
        }
    }

    /// How many of the changes were noticed.
    pub fn detected(&self) -> usize {
        self.mutants - self.survivors.len()
    }
}
