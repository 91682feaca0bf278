//! The version, as `-V` and `--version` print it.

/// The version alone.
pub(super) const SHORT: &str = env!("CARGO_PKG_VERSION");

/// The version with the commit, its date, the target and the compiler, which `build.rs` finds out.
pub(super) const LONG: &str = concat!(
    env!("CARGO_PKG_VERSION"),
    "\ncommit: ",
    env!("YIELDTRAY_COMMIT"),
    "\ntarget: ",
    env!("YIELDTRAY_TARGET"),
    "\nrustc:  ",
    env!("YIELDTRAY_RUSTC"),
);
