//! The signal by which tasks are stopped, or told to begin.

use tokio::sync::watch;

/// A signal given once, to stop or to begin.
#[derive(Debug, Clone)]
pub struct Stop(watch::Receiver<bool>);

impl Stop {
    /// The signal and the one who gives it.
    #[must_use]
    pub fn new() -> (watch::Sender<bool>, Self) {
        let (tx, rx) = watch::channel(false);
        (tx, Self(rx))
    }

    /// A signal that has been given already.
    #[must_use]
    pub fn given() -> Self {
        Self(watch::channel(true).1)
    }

    /// True once stopped.
    #[must_use]
    pub fn is_set(&self) -> bool {
        *self.0.borrow()
    }

    /// Waits for it. Safe to cancel. A dropped sender counts as stop.
    pub async fn wait(&mut self) {
        let _ = self.0.wait_for(|stopped| *stopped).await;
    }
}
