//! Stopping early.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Set by Ctrl-C; asked by everything that takes long.
#[derive(Debug, Clone, Default)]
pub(crate) struct Stop(pub(crate) Arc<AtomicBool>, Arc<AtomicBool>);

impl Stop {
    /// Listens for Ctrl-C and for requests to end. The second one ends at once.
    pub(crate) fn on_signal() -> Self {
        let stop = Self::default();
        let (raised, at_once) = (Arc::clone(&stop.0), Arc::clone(&stop.1));
        let listening = ctrlc::set_handler(move || {
            if raised.swap(true, Ordering::Relaxed) || at_once.load(Ordering::Relaxed) {
                std::process::exit(130);
            }
        });
        if let Err(error) = listening {
            tracing::warn!(%error, "cannot listen for Ctrl-C");
        }
        stop
    }

    /// From here on nothing has to be ended in order: the next request to end is followed at once, and so is one
    /// that came before.
    pub(crate) fn at_once(&self) {
        self.1.store(true, Ordering::Relaxed);
        if self.raised() {
            std::process::exit(130);
        }
    }

    pub(crate) fn raised(&self) -> bool {
        self.0.load(Ordering::Relaxed)
    }
}
