//! Spinning before sleeping. To wake a sleeping thread takes longer than a server on the same machine takes to
//! respond; so for a moment the thread polls instead. If responses take longer than that, it is tried ever more
//! rarely, and costs next to nothing.

use std::time::{Duration, Instant};

/// About twice the cost of a sleep and wake-up.
const SPIN_LIMIT: Duration = Duration::from_micros(60);

/// After vain vigils in a row, none is kept for so many times at most.
const MAX_SKIPPED_SPINS: u32 = 255;

/// Decides whether it is worth staying awake.
#[derive(Default)]
pub(super) struct SpinWait {
    /// How many times none is kept.
    left_out: u32,
    /// How many it will be if the next one is vain.
    next: u32,
}

impl SpinWait {
    /// Looks until there is something, for a moment at most.
    pub(super) async fn keep<T>(&mut self, mut look: impl FnMut() -> Option<T>) -> Option<T> {
        if self.left_out > 0 {
            self.left_out -= 1;
            return None;
        }
        let since = Instant::now();
        loop {
            // Lets the runtime poll for events.
            tokio::task::yield_now().await;
            if let Some(found) = look() {
                self.next = 0;
                return Some(found);
            }
            if since.elapsed() >= SPIN_LIMIT {
                break;
            }
        }
        self.left_out = self.next;
        self.next = (self.next * 2 + 1).min(MAX_SKIPPED_SPINS);
        None
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The number of polls, in so many waits in which the response arrives at poll `at`, if ever.
    fn looks(spin_wait: &mut SpinWait, on_tick: usize, at: Option<usize>) -> Vec<usize> {
        let runtime = tokio::runtime::Builder::new_current_thread().build().expect("a runtime");
        let mut wait = || {
            let mut looked = 0;
            runtime.block_on(spin_wait.keep(|| {
                looked += 1;
                (Some(looked) == at).then_some(())
            }));
            looked
        };
        (0..on_tick).map(|_| wait()).collect()
    }

    #[test]
    fn answers_from_nearby_are_looked_for_each_time() {
        assert_eq!(looks(&mut SpinWait::default(), 5, Some(1)), [1; 5]);
    }

    #[test]
    fn vain_vigils_become_rare_and_one_that_pays_begins_anew() {
        let mut spin_wait = SpinWait::default();
        let kept = looks(&mut spin_wait, 8, None).into_iter().map(|looks| looks > 0);
        let at: Vec<usize> = kept.enumerate().filter_map(|(wait, kept)| kept.then_some(wait)).collect();
        assert_eq!(at, [0, 1, 3, 7]);
        assert_eq!(looks(&mut spin_wait, 10, Some(1)), [0, 0, 0, 0, 0, 0, 0, 1, 1, 1]);
        looks(&mut spin_wait, 20_000, None);
        let rare = looks(&mut spin_wait, 2_560, None).into_iter().filter(|looks| *looks > 0).count();
        assert_eq!(rare, 10, "each {} times", MAX_SKIPPED_SPINS + 1);
    }
}
