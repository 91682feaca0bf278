//! Shared parts of the benchmarks of whole processes.

#![allow(dead_code, unreachable_pub)] // each benchmark uses its part

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

/// Copies a program into `folder`, as an installation does, and says where it is. What a linker wrote in its own way
/// lies in the page cache in small pieces, and starts a fifth slower.
pub fn installed(program: &Path, folder: &Path) -> PathBuf {
    let copy = folder.join(program.file_name().expect("a name"));
    std::fs::copy(program, &copy).expect("it is copied");
    copy
}

/// The built tool, installed in `folder`.
pub fn tool(folder: &Path) -> PathBuf {
    installed(Path::new(env!("CARGO_BIN_EXE_yieldtray")), folder)
}

/// Runs a program, which must succeed; what it says is thrown away.
pub fn run(command: &mut Command) {
    let status = command.stdout(Stdio::null()).stderr(Stdio::null()).status().expect("it starts");
    assert!(status.success(), "{command:?} fails");
}

/// The median time of each task, all run in turns after one turn that does not count.
pub fn take_turns(runs: usize, tasks: &mut [&mut dyn FnMut()]) -> Vec<Duration> {
    let mut times = vec![Vec::with_capacity(runs); tasks.len()];
    for turn in 0..=runs {
        for (task, times) in tasks.iter_mut().zip(&mut times) {
            let start = Instant::now();
            task();
            if turn > 0 {
                times.push(start.elapsed());
            }
        }
    }
    let median = |mut times: Vec<Duration>| {
        times.sort_unstable();
        times[times.len() / 2]
    };
    times.into_iter().map(median).collect()
}

/// A time to be read.
pub fn shown(time: Duration) -> String {
    format!("{:>8.2} ms", time.as_secs_f64() * 1e3)
}

/// The ratio of one time to another.
pub fn ratio(a: Duration, b: Duration) -> f64 {
    a.as_secs_f64() / b.as_secs_f64()
}

/// The peak of a process's resident memory in KiB, read while it runs.
pub fn peak_memory(command: &mut Command) -> u64 {
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("it starts");
    let status = format!("/proc/{}/status", child.id());
    let mut peak = 0;
    while child.try_wait().expect("it can be waited for").is_none() {
        let text = std::fs::read_to_string(&status).unwrap_or_default();
        let line = text.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap_or_default();
        peak = peak.max(line.trim().trim_end_matches(" kB").parse().unwrap_or(0));
        std::thread::sleep(Duration::from_millis(2));
    }
    peak
}
