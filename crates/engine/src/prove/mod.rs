//! Mutation testing of checks: a response is changed in one respect at a time, and the checks judge each mutant.
//! Nothing is sent for it.

mod mutate;
mod mutation;
mod other_value;
mod suggest;

use yieldtray_http::body_shape::Segment;
use yieldtray_workspace::secret::Masker;

pub use mutate::mutate;
pub use mutation::{Field, Mutation, describe, mutations};
pub(crate) use suggest::suggestions;

/// The result of mutation testing on one response.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct MutationReport {
    /// How many copies there were.
    pub mutants: usize,
    /// The changes that nothing noticed, the most important first.
    pub survivors: Vec<Mutation>,
    /// A check that holds for the response and detects the first gap that a check can close.
    pub suggestion: Option<String>,
}

impl MutationReport {
    /// Masks secrets in its texts.
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
