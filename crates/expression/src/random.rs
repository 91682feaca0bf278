//! Made-up data: random values and the time. Built-in functions are plain `fn`s, so the source they
//! draw from travels as a hidden first argument, which [`super::walk`] adds to their calls.

use super::opaque::opaque;
use super::value::fits;
use cel::common::value::Val;
use chrono::{DateTime, FixedOffset};
use rustc_hash::FxHashSet;
use std::fmt;
use std::sync::atomic::{AtomicBool, AtomicU32, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// Tells the time; core has no clock of its own.
pub type Clock = Box<dyn Fn() -> DateTime<FixedOffset> + Send + Sync>;

/// The name the source has in an expression: one nobody can write.
pub(super) const MADE: &str = "@made";

/// Steps of `exists`, `all`, `map`, `filter` that one evaluation may take. A step costs a few
/// microseconds at most, so an endless expression ends within seconds.
const STEPS: u32 = 1_000_000;

/// Bytes that one value, or all that one evaluation makes on the way to it, may have.
const LARGEST_VALUE: u64 = 64 << 20;

/// The same where a value is only shown beside its name.
const LARGEST_SHOWN: u64 = 1 << 20;

/// Where random values and the time come from. The same seed gives the same values in the same
/// order, for each cell by itself.
#[derive(Clone)]
pub struct MadeUp(Arc<Source>);

/// The values of one subject that are still to come.
pub struct Draws(fastrand::Rng);

impl Default for Draws {
    fn default() -> Self {
        Self(fastrand::Rng::with_seed(0))
    }
}

struct Source {
    seed: u64,
    random: Mutex<fastrand::Rng>,
    /// Whether anything was drawn: only then does the seed matter to anybody.
    drawn: AtomicBool,
    /// What must not come a second time.
    given: Mutex<FxHashSet<String>>,
    clock: Clock,
    steps: AtomicU32,
    /// How many bytes one value may have.
    largest: u64,
    /// How many of them are left in this evaluation.
    bytes: AtomicU64,
}

impl MadeUp {
    /// A source that starts from `seed` and asks `clock` for the time.
    pub fn new(seed: u64, clock: Clock) -> Self {
        Self(Arc::new(Source {
            seed,
            random: Mutex::new(fastrand::Rng::with_seed(seed)),
            drawn: AtomicBool::new(false),
            given: Mutex::default(),
            clock,
            steps: AtomicU32::new(STEPS),
            largest: LARGEST_VALUE,
            bytes: AtomicU64::new(LARGEST_VALUE),
        }))
    }

    /// The same source for values that are only shown: they may have a megabyte.
    #[must_use]
    pub fn for_showing(self) -> Self {
        match Arc::try_unwrap(self.0) {
            Ok(source) => {
                Self(Arc::new(Source { largest: LARGEST_SHOWN, bytes: AtomicU64::new(LARGEST_SHOWN), ..source }))
            }
            Err(shared) => Self(shared),
        }
    }

    /// Begins the values of a subject. They depend on the seed and on its words and numbers alone, and not on
    /// what was made up before for others. `seed` takes the place of the source's own.
    pub fn begin<'a>(&self, seed: Option<u64>, words: impl Iterator<Item = &'a [u8]>, numbers: &[usize]) {
        // FNV-1a: the same on every machine and in every version, which a library's hasher does not promise.
        let mut hash = 0xcbf2_9ce4_8422_2325 ^ seed.unwrap_or(self.0.seed);
        let mut take = |byte: u8| hash = (hash ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3);
        for word in words {
            word.iter().copied().for_each(&mut take);
            take(0);
        }
        numbers.iter().for_each(|number| (*number as u64).to_le_bytes().into_iter().for_each(&mut take));
        self.swap(&mut Draws(fastrand::Rng::with_seed(hash)));
    }

    /// Goes on with the values of another subject, and puts those of the last one aside.
    pub fn swap(&self, draws: &mut Draws) {
        std::mem::swap(&mut *self.0.random.lock().unwrap_or_else(PoisonError::into_inner), &mut draws.0);
    }

    /// The time.
    pub fn now(&self) -> DateTime<FixedOffset> {
        (self.0.clock)()
    }

    /// Letters and digits that no body is likely to hold. They tell nothing, so the seed does not matter
    /// to anybody for them.
    pub fn boundary(&self) -> String {
        let mut random = self.0.random.lock().unwrap_or_else(PoisonError::into_inner);
        format!("yieldtray-{:016x}{:016x}", random.u64(..), random.u64(..))
    }

    pub(super) fn random<T>(&self, draw: impl FnOnce(&mut fastrand::Rng) -> T) -> T {
        self.0.drawn.store(true, Ordering::Relaxed);
        draw(&mut self.0.random.lock().unwrap_or_else(PoisonError::into_inner))
    }

    /// The first of what `draw` gives that was not given before; after many tries, whatever it gives.
    pub(super) fn unique(&self, draw: impl Fn() -> String) -> String {
        let mut given = self.0.given.lock().unwrap_or_else(PoisonError::into_inner);
        let mut value = draw();
        for _ in 0..1000 {
            if !given.contains(&value) {
                break;
            }
            value = draw();
        }
        given.insert(value.clone());
        value
    }

    /// The seed, whether or not anything was drawn from it.
    pub fn seed(&self) -> u64 {
        self.0.seed
    }

    /// The seed, if any random value was drawn from it.
    pub fn seed_in_use(&self) -> Option<u64> {
        self.0.drawn.load(Ordering::Relaxed).then_some(self.0.seed)
    }

    /// Begins a new evaluation.
    pub(super) fn refill(&self) {
        self.0.steps.store(STEPS, Ordering::Relaxed);
        self.0.bytes.store(self.0.largest, Ordering::Relaxed);
    }

    /// Takes the bytes of a value from those that are left; `false` when they are too many.
    pub(super) fn take_bytes(&self, value: &dyn Val) -> bool {
        let mut left = self.0.bytes.load(Ordering::Relaxed);
        let fits = fits(value, &mut left);
        self.0.bytes.store(if fits { left } else { 0 }, Ordering::Relaxed);
        fits
    }

    /// Whether a value is not larger than one may be.
    pub(super) fn may_be(&self, value: &dyn Val) -> bool {
        let mut left = self.0.largest;
        fits(value, &mut left)
    }

    /// What is wrong with a value that is too large.
    pub(super) fn too_large(&self) -> String {
        format!("the value has more than {} MiB", self.0.largest >> 20)
    }

    /// Takes one step; `false` when there are none left.
    pub(super) fn step(&self) -> bool {
        self.0.steps.fetch_update(Ordering::Relaxed, Ordering::Relaxed, |left| left.checked_sub(1)).is_ok()
    }
}

impl fmt::Debug for MadeUp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("MadeUp")
    }
}

opaque!(MadeUp, "made_up");
