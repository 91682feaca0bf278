//! How the program is linked, and what `--version` says of it.

#![allow(clippy::print_stdout)] // so cargo is told

use std::path::Path;
use std::process::Command;

/// On Linux the program is position-independent. The relocations that the loader applies are packed: that takes a tenth
/// of the space, which is read from the disk.
fn main() {
    let is = |variable: &str, value: &str| std::env::var(variable).is_ok_and(|found| found == value);
    if is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu") && is("PROFILE", "release") {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
        // The unwinder is linked statically: one library less to find and bind at start.
        println!("cargo::rustc-link-lib=static=gcc_eh");
    }
    println!("cargo::rerun-if-changed=build.rs");
    println!("cargo::rustc-env=YIELDTRAY_COMMIT={}", commit());
    println!("cargo::rustc-env=YIELDTRAY_TARGET={}", std::env::var("TARGET").unwrap_or_default());
    let rustc = std::env::var("RUSTC").unwrap_or_else(|_| "rustc".to_owned());
    println!("cargo::rustc-env=YIELDTRAY_RUSTC={}", output(&rustc, &["--version"]).unwrap_or_default());
}

/// The commit and its date; `unknown` for sources outside git. A package can set `YIELDTRAY_COMMIT` instead.
fn commit() -> String {
    println!("cargo::rerun-if-env-changed=YIELDTRAY_COMMIT");
    if let Ok(given) = std::env::var("YIELDTRAY_COMMIT") {
        return given;
    }
    let found = output("git", &["log", "-1", "--format=%h %cs"]);
    // A new commit makes this run again: the log of HEAD grows with each.
    if let Some(log) = output("git", &["rev-parse", "--git-path", "logs/HEAD"])
        && Path::new(&log).exists()
    {
        println!("cargo::rerun-if-changed={log}");
    }
    found.unwrap_or_else(|| "unknown".to_owned())
}

fn output(program: &str, arguments: &[&str]) -> Option<String> {
    let output = Command::new(program).args(arguments).output().ok().filter(|output| output.status.success())?;
    let text = String::from_utf8(output.stdout).ok()?.trim().to_owned();
    (!text.is_empty()).then_some(text)
}
