//! The signal by which tasks are stopped, or told to begin.

use tokio_util::sync::CancellationToken;

/// A signal given once, to stop or to begin.
#[derive(Debug, Clone)]
pub struct Stop(CancellationToken);

/// Gives a signal.
#[derive(Debug)]
pub struct End {
    token: CancellationToken,
    when_dropped: bool,
}

impl End {
    /// Gives it.
    pub fn now(&self) {
        self.token.cancel();
    }
}

impl Drop for End {
    fn drop(&mut self) {
        if self.when_dropped {
            self.token.cancel();
        }
    }
}

impl Stop {
    /// The signal and the one who gives it, at the latest when dropped.
    #[must_use]
    pub fn new() -> (End, Self) {
        let token = CancellationToken::new();
        (End { token: token.clone(), when_dropped: true }, Self(token))
    }

    /// A signal that is given with this one, and may be given alone before; not by dropping its
    /// end.
    #[must_use]
    pub fn child(&self) -> (End, Self) {
        let token = self.0.child_token();
        (End { token: token.clone(), when_dropped: false }, Self(token))
    }

    /// A signal that has been given already.
    #[must_use]
    pub fn given() -> Self {
        let token = CancellationToken::new();
        token.cancel();
        Self(token)
    }

    /// True once given.
    #[must_use]
    pub fn is_set(&self) -> bool {
        self.0.is_cancelled()
    }

    /// Waits for it. Safe to cancel.
    pub async fn wait(&mut self) {
        self.0.cancelled().await;
    }
}
