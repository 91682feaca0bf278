//! Ctrl-C, and on Unix whoever asks the program to end.

use std::io;

/// Counts how often somebody wants the end.
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
