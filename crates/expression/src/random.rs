//! Random values and the time.

use chrono::{DateTime, FixedOffset};
use rustc_hash::FxHashSet;
use std::fmt;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use yieldtray_cel::Limits;

/// Returns the current time; this crate has no clock of its own.
pub type Clock = Box<dyn Fn() -> DateTime<FixedOffset> + Send + Sync>;

/// Bytes that one value, or all values that one evaluation makes on the way to it, may have.
const MAX_VALUE_BYTES: u64 = 64 << 20;

/// The same where a value is only shown beside its name.
const MAX_SHOWN_BYTES: u64 = 1 << 20;

/// Where random values and the time come from. The same seed gives the same values in the same order. Clones share
/// their state; [`RandomSource::fork`] has its own.
#[derive(Clone)]
pub struct RandomSource {
    shared: Arc<Shared>,
    state: Arc<RngState>,
}

/// The state shared by all forks of a source.
struct Shared {
    seed: u64,
    /// Whether any random value was drawn: only then does the seed matter.
    was_used: AtomicBool,
    /// Values that must not be drawn twice.
    used_values: Mutex<FxHashSet<String>>,
    clock: Clock,
    /// How many bytes one value may have.
    max_bytes: u64,
}

/// The state of one fork.
type RngState = Mutex<fastrand::Rng>;

impl RandomSource {
    /// A source that starts from `seed` and asks `clock` for the time.
    pub fn new(seed: u64, clock: Clock) -> Self {
        Self::with_limit(seed, clock, MAX_VALUE_BYTES)
    }

    /// A source for values that are only shown: one may have a megabyte.
    pub fn for_showing(seed: u64, clock: Clock) -> Self {
        Self::with_limit(seed, clock, MAX_SHOWN_BYTES)
    }

    /// A source for expressions that draw nothing: its time is 1970, and its seed is 0.
    pub fn fixed() -> Self {
        Self::new(0, Box::new(|| DateTime::UNIX_EPOCH.fixed_offset()))
    }

    fn with_limit(seed: u64, clock: Clock, max_bytes: u64) -> Self {
        let (was_used, used_values) = (AtomicBool::new(false), Mutex::default());
        let shared = Shared { seed, was_used, used_values, clock, max_bytes };
        Self { shared: Arc::new(shared), state: Arc::new(Mutex::new(fastrand::Rng::with_seed(seed))) }
    }

    /// A source of the same seed and clock with a state of its own.
    #[must_use]
    pub fn fork(&self) -> Self {
        let Self { shared, .. } = self;
        Self { shared: Arc::clone(shared), state: Arc::new(Mutex::new(fastrand::Rng::with_seed(shared.seed))) }
    }

    /// Seeds the random values of a subject. They depend on the seed and on its words and numbers alone, and not on what
    /// was drawn before for others. `seed` takes the place of the source's own.
    pub fn begin<'a>(&self, seed: Option<u64>, parts: impl Iterator<Item = &'a [u8]>, numbers: &[usize]) {
        // FNV-1a: the same on every machine and in every version, which a library's hasher does not promise.
        let mut hash = 0xcbf2_9ce4_8422_2325 ^ seed.unwrap_or(self.shared.seed);
        let mut hash_byte = |byte: u8| hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
        for word in parts {
            word.iter().copied().for_each(&mut hash_byte);
            hash_byte(0);
        }
        numbers.iter().for_each(|number| (*number as u64).to_le_bytes().into_iter().for_each(&mut hash_byte));
        *self.state.lock().unwrap_or_else(PoisonError::into_inner) = fastrand::Rng::with_seed(hash);
    }

    /// The time.
    pub fn now(&self) -> DateTime<FixedOffset> {
        (self.shared.clock)()
    }

    /// A boundary of a multipart body: letters and digits that no body is likely to hold. The body does not depend on
    /// them, so they do not count as random values.
    pub fn boundary(&self) -> String {
        let mut rng = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        format!("yieldtray-{:016x}{:016x}", rng.u64(..), rng.u64(..))
    }

    pub(super) fn draw<T>(&self, draw: impl FnOnce(&mut fastrand::Rng) -> T) -> T {
        self.shared.was_used.store(true, Ordering::Relaxed);
        draw(&mut self.state.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The first value of `draw` that was not drawn before; after many attempts, any.
    pub(super) fn unique(&self, draw: impl Fn() -> String) -> String {
        let mut used = self.shared.used_values.lock().unwrap_or_else(PoisonError::into_inner);
        let mut value = draw();
        for _ in 0..1000 {
            if !used.contains(&value) {
                break;
            }
            value = draw();
        }
        used.insert(value.clone());
        value
    }

    /// The seed, whether or not anything was drawn from it.
    pub fn seed(&self) -> u64 {
        self.shared.seed
    }

    /// The seed, if any random value was drawn from it.
    pub fn seed_in_use(&self) -> Option<u64> {
        self.shared.was_used.load(Ordering::Relaxed).then_some(self.shared.seed)
    }

    /// The limits of one evaluation.
    pub(super) fn limits(&self) -> Limits {
        Limits { bytes: self.shared.max_bytes, ..Limits::default() }
    }
}

impl fmt::Debug for RandomSource {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("RandomSource")
    }
}
