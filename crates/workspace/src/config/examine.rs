//! Problems of a configuration as a whole.

use super::model::{Config, unknown_environment};
use super::user_functions;
use yieldtray_source::Problem;

impl Config {
    /// Problems of the configuration as a whole: an unknown environment, functions that do not fit each other.
    pub fn examine(&self) -> Vec<Problem> {
        let mut problems = user_functions::examine(self);
        if let Some((name, source, span)) = &self.environment
            && self.environment(name).is_none()
        {
            problems.push(unknown_environment(name, *span, self).in_source(*source));
        }
        problems
    }
}
