//! How the released program is linked.

#![allow(clippy::print_stdout)] // so cargo is told

/// On Linux the program is position-independent. The loader writes some 50,000 addresses into it before it can begin;
/// packed, they take a tenth of the space, which is read from the disk. The feature `fixed-address` links it to a fixed
/// address instead: it starts sooner, and an attacker knows where its code is. docs/performance.md has the figures.
fn main() {
    let is = |variable: &str, value: &str| std::env::var(variable).is_ok_and(|found| found == value);
    if is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu") && is("PROFILE", "release") {
        match std::env::var_os("CARGO_FEATURE_FIXED_ADDRESS") {
            // Told to the linker's driver, so that it takes the start files that fit.
            Some(_) => println!("cargo::rustc-link-arg-bins=-no-pie"),
            None => println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs"),
        }
        // What unwinds the stack after a panic is linked in: a library less to be found and bound.
        println!("cargo::rustc-link-lib=static=gcc_eh");
    }
    println!("cargo::rerun-if-changed=build.rs");
}
