//! Ctrl-C, and on Unix whoever asks the program to end.

use std::io;
use std::time::Duration;

/// Counts how often somebody wants the end, as long as it is there. Before and after that, whoever wants it
/// gets it at once, as from any program.
pub(crate) struct Interrupts {
    count: usize,
    from: From,
}

/// Who wants the end.
enum From {
    /// Whoever presses Ctrl-C, or ends the process.
    #[cfg(unix)]
    Signals([tokio::signal::unix::Signal; 2]),
    #[cfg(not(unix))]
    Signals,
    /// Whoever says so in some other way.
    Wish(Box<dyn Fn() -> bool>),
}

/// How often who has another way to want the end is asked.
const TICK: Duration = Duration::from_millis(25);

impl Interrupts {
    /// From now on Ctrl-C does not end the program by itself.
    pub(crate) fn watch() -> io::Result<Self> {
        #[cfg(unix)]
        {
            use tokio::signal::unix::{SignalKind, signal};
            ends::at_once(false)?;
            let signals = [signal(SignalKind::interrupt())?, signal(SignalKind::terminate())?];
            Ok(Self { count: 0, from: From::Signals(signals) })
        }
        #[cfg(not(unix))]
        Ok(Self { count: 0, from: From::Signals })
    }

    /// The end comes as soon as `wish` says so; signals mean what they always do.
    pub(crate) fn wished(wish: impl Fn() -> bool + 'static) -> Self {
        Self { count: 0, from: From::Wish(Box::new(wish)) }
    }

    /// The next time.
    pub(crate) async fn next(&mut self) {
        match &mut self.from {
            #[cfg(unix)]
            From::Signals([interrupt, terminate]) => {
                tokio::select! {
                    _ = interrupt.recv() => {}
                    _ = terminate.recv() => {}
                }
            }
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

    /// Whether it was more than once.
    pub(crate) fn are_many(&self) -> bool {
        self.count > 1
    }
}

#[cfg(unix)]
impl Drop for Interrupts {
    fn drop(&mut self) {
        // Nothing can fail any more: it worked when the watch began.
        if matches!(self.from, From::Signals(_)) {
            let _ = ends::at_once(true);
        }
    }
}

#[cfg(unix)]
mod ends {
    use signal_hook::consts::{SIGINT, SIGTERM};
    use signal_hook::flag::register_conditional_default;
    use std::io;
    use std::sync::atomic::{AtomicBool, Ordering};
    use std::sync::{Arc, OnceLock};

    /// Whether a signal ends the program as it would if nobody had ever watched: the runtime's own handlers
    /// stay for ever.
    pub(super) fn at_once(yes: bool) -> io::Result<()> {
        static FLAG: OnceLock<Arc<AtomicBool>> = OnceLock::new();
        let flag = match FLAG.get() {
            Some(flag) => flag,
            None => {
                let flag = Arc::new(AtomicBool::new(false));
                for signal in [SIGINT, SIGTERM] {
                    register_conditional_default(signal, Arc::clone(&flag))?;
                }
                FLAG.get_or_init(|| flag)
            }
        };
        flag.store(yes, Ordering::SeqCst);
        Ok(())
    }
}
