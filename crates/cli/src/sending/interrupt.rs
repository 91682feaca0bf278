//! Ctrl-C, and on Unix whoever asks the program to end.

use std::io;

/// Counts how often somebody wants the end, as long as it is there. Before and after that, whoever wants it
/// gets it at once, as from any program.
pub(crate) struct Interrupts {
    count: usize,
    #[cfg(unix)]
    signals: [tokio::signal::unix::Signal; 2],
}

impl Interrupts {
    /// From now on Ctrl-C does not end the program by itself.
    pub(crate) fn watch() -> io::Result<Self> {
        #[cfg(unix)]
        {
            use tokio::signal::unix::{SignalKind, signal};
            ends::at_once(false)?;
            let signals = [signal(SignalKind::interrupt())?, signal(SignalKind::terminate())?];
            Ok(Self { count: 0, signals })
        }
        #[cfg(not(unix))]
        Ok(Self { count: 0 })
    }

    /// The next time.
    pub(crate) async fn next(&mut self) {
        #[cfg(unix)]
        {
            let [interrupt, terminate] = &mut self.signals;
            tokio::select! {
                _ = interrupt.recv() => {}
                _ = terminate.recv() => {}
            }
        }
        #[cfg(not(unix))]
        if tokio::signal::ctrl_c().await.is_err() {
            std::future::pending::<()>().await;
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
        let _ = ends::at_once(true);
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
