//! How the released program is linked.

#![allow(clippy::print_stdout)] // so cargo is told

/// On Linux it is linked to a fixed address. Position-independent, the loader writes 50,000 addresses
/// into it before it can begin, which takes longer than a whole request; docs/architecture.md has the
/// figures and what is given up for them.
fn main() {
    let is = |variable: &str, value: &str| std::env::var(variable).is_ok_and(|found| found == value);
    if is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu") && is("PROFILE", "release") {
        // Told to the linker's driver, so that it takes the start files that fit.
        println!("cargo::rustc-link-arg-bins=-no-pie");
        // What unwinds the stack after a panic is linked in: a library less to be found and bound.
        println!("cargo::rustc-link-lib=static=gcc_eh");
    }
    println!("cargo::rerun-if-changed=build.rs");
}
