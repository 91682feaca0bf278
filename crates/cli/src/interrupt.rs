//! Ctrl-C, and on Unix whoever asks the program to end.

use std::io;
use std::time::Duration;

/// Counts how often somebody wants the end, as long as it is there. Before and after that, whoever wants it
/// gets it at once, as from any program. On Unix a thread of its own takes the signals: the second one ends the
/// process whatever it is computing.
pub(crate) struct Interrupts {
    count: usize,
    from: From,
}

/// The source of interrupts.
enum From {
    /// Signals: Ctrl-C, or a request to terminate.
    Signals,
    /// A flag.
    Wish(Box<dyn Fn() -> bool>),
}

/// How often who has another way to want the end is asked.
const TICK: Duration = Duration::from_millis(25);

impl Interrupts {
    /// From now on the first Ctrl-C does not end the program by itself.
    pub(crate) fn watch() -> io::Result<Self> {
        #[cfg(unix)]
        signals::watch()?;
        Ok(Self { count: 0, from: From::Signals })
    }

    /// Whether somebody takes the first signal.
    #[cfg(unix)]
    pub(crate) fn are_watched() -> bool {
        signals::are_watched()
    }

    /// The end comes as soon as `wish` says so; signals mean what they always do.
    pub(crate) fn wished(wish: impl Fn() -> bool + 'static) -> Self {
        Self { count: 0, from: From::Wish(Box::new(wish)) }
    }

    /// The next time.
    pub(crate) async fn next(&mut self) {
        match &mut self.from {
            #[cfg(unix)]
            From::Signals => signals::next().await,
            #[cfg(not(unix))]
            From::Signals => {
                if tokio::signal::ctrl_c().await.is_err() {
                    std::future::pending::<()>().await;
                }
            }
            // It is wished once.
            From::Wish(_) if self.count > 0 => std::future::pending().await,
            From::Wish(wish) => {
                while !wish() {
                    tokio::time::sleep(TICK).await;
                }
            }
        }
        self.count += 1;
    }

    /// Consumes an interrupt that ended a prompt, so that it ends nothing else.
    pub(crate) async fn take_asked(&mut self) {
        // The prompt raises the signal; the signal thread receives it a moment later.
        const SOON: Duration = Duration::from_millis(200);
        if matches!(self.from, From::Signals) {
            let _ = tokio::time::timeout(SOON, self.next()).await;
        }
    }

    /// True after more than one.
    pub(crate) fn is_repeated(&self) -> bool {
        self.count > 1
    }
}

#[cfg(unix)]
impl Drop for Interrupts {
    fn drop(&mut self) {
        if matches!(self.from, From::Signals) {
            signals::leave();
        }
    }
}

#[cfg(unix)]
mod signals {
    use crate::files as disk;
    use signal_hook::consts::{SIGHUP, SIGINT, SIGQUIT, SIGTERM};
    use signal_hook::iterator::SignalsInfo;
    use signal_hook::iterator::exfiltrator::raw::WithRawSiginfo;
    use signal_hook::low_level::emulate_default_handler;
    use std::sync::OnceLock;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use std::{io, thread};
    use tokio::sync::Notify;

    /// How many wait for the first signal.
    static WATCHERS: AtomicUsize = AtomicUsize::new(0);

    /// The number of signals so far.
    static COUNT: AtomicUsize = AtomicUsize::new(0);

    static CAME: Notify = Notify::const_new();

    /// Begins to watch. The thread is started once and stays.
    pub(super) fn watch() -> io::Result<()> {
        static STARTED: OnceLock<()> = OnceLock::new();
        if STARTED.get().is_none() {
            // Each signal is kept, however fast another of its kind follows.
            let mut signals = SignalsInfo::<WithRawSiginfo>::new([SIGINT, SIGTERM, SIGQUIT])?;
            thread::Builder::new().name("signals".to_owned()).spawn(move || {
                // A closed terminal ends a run gracefully, unless the program was started to outlive it (`nohup`).
                if !ignores_hang_up() {
                    let _ = signals.add_signal(SIGHUP);
                }
                signals.forever().for_each(|info| take(info.si_signo));
            })?;
            let _ = STARTED.set(());
        }
        if WATCHERS.fetch_add(1, Ordering::SeqCst) == 0 {
            COUNT.store(0, Ordering::SeqCst);
        }
        Ok(())
    }

    /// Without another watcher, signals end the program from now on.
    pub(super) fn leave() {
        WATCHERS.fetch_sub(1, Ordering::SeqCst);
    }

    pub(super) fn are_watched() -> bool {
        WATCHERS.load(Ordering::SeqCst) > 0
    }

    pub(super) async fn next() {
        CAME.notified().await;
    }

    /// True if the process was started with SIGHUP ignored, as far as the system shows.
    fn ignores_hang_up() -> bool {
        let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
        let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
        let mask = mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok()).unwrap_or_default();
        mask & 1 << (SIGHUP - 1) != 0
    }

    fn take(signal: i32) {
        // SIGQUIT asks for the state of the process: it ends at once, but leaves no temporary files.
        if signal == SIGQUIT {
            disk::remove_unfinished();
            let _ = emulate_default_handler(signal);
        }
        let is_watched = WATCHERS.load(Ordering::SeqCst) > 0;
        if is_watched && COUNT.fetch_add(1, Ordering::SeqCst) == 0 {
            return CAME.notify_one();
        }
        disk::remove_unfinished();
        if is_watched {
            std::process::exit(128 + signal);
        }
        // As if nobody had ever watched: whoever waits for the process sees the signal.
        let _ = emulate_default_handler(signal);
    }
}
