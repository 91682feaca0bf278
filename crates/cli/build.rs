//! How the released program is linked.

#![allow(clippy::print_stdout)] // so cargo is told

/// On Linux the program is position-independent. The addresses that the loader writes into it before it can begin are
/// packed: they take a tenth of the space, which is read from the disk.
fn main() {
    let is = |variable: &str, value: &str| std::env::var(variable).is_ok_and(|found| found == value);
    if is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu") && is("PROFILE", "release") {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
        // What unwinds the stack after a panic is linked in: a library less to be found and bound.
        println!("cargo::rustc-link-lib=static=gcc_eh");
    }
    println!("cargo::rerun-if-changed=build.rs");
}
