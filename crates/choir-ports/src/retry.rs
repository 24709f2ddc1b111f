//! Keeping a link up: attempt after attempt until stopped, with growing pauses in between.

use crate::LinkStatus;
use choir_core::facts::{Contact, Loss};
use choir_host::{Backoff, Stop};
use std::time::Duration;

/// How long to wait after a loss.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Pause {
    /// Longer than last time.
    Growing,
    /// Longer than last time, but at most this.
    AtMost(Duration),
    /// This long: the other end has said no.
    Fixed(Duration),
    /// Until the engineer holds and releases it.
    UntilReleased,
}

/// How an attempt ended.
pub(crate) enum Ended {
    /// The link is over for good.
    Over,
    /// The next attempt may follow at once.
    Again,
    /// The link is lost.
    Lost {
        /// It had been up: pauses begin anew.
        was_up: bool,
        pause: Pause,
        loss: Loss,
    },
}

/// A link that is attempted again and again.
pub(crate) trait Attempt {
    /// One connection from its start to its end. Ends early with `Again` when the link is held.
    fn attempt(&mut self, stop: &mut Stop) -> impl Future<Output = Ended> + Send;

    /// It has been held and released: what was learnt about the other end may no longer hold.
    fn released(&mut self) {}
}

/// Attempts until stopped, and waits while held.
pub(crate) async fn keep_up(mut link: impl Attempt, status: &LinkStatus, mut backoff: Backoff, mut stop: Stop) {
    let mut held = false;
    while !stop.is_set() {
        if status.control.is_held() {
            held = true;
            status.update(|l| (l.contact, l.since) = (Contact::Held, None));
            tokio::select! {
                () = status.control.woken() => {}
                () = stop.wait() => return,
            }
            continue;
        }
        if std::mem::take(&mut held) {
            backoff.reset();
            link.released();
        }
        let (was_up, pause, loss) = match link.attempt(&mut stop).await {
            Ended::Over => return,
            Ended::Again => continue,
            Ended::Lost { was_up, pause, loss } => (was_up, pause, loss),
        };
        if was_up {
            backoff.reset();
        }
        status.tell_lost(loss);
        let wait = match pause {
            Pause::Growing => Some(backoff.pause()),
            Pause::AtMost(most) => Some(backoff.pause().min(most)),
            Pause::Fixed(wait) => Some(wait),
            Pause::UntilReleased => None,
        };
        tokio::select! {
            () = rest(wait, status) => {}
            () = stop.wait() => return,
        }
    }
}

/// Waits so long, or until it is held.
async fn rest(wait: Option<Duration>, status: &LinkStatus) {
    let time = async {
        match wait {
            Some(wait) => tokio::time::sleep(wait).await,
            None => std::future::pending().await,
        }
    };
    let held = async {
        while !status.control.is_held() {
            status.control.woken().await;
        }
    };
    tokio::select! {
        () = time => {}
        () = held => {}
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::facts::Fault;

    #[test]
    fn pauses_double_up_to_their_limit_and_begin_anew() {
        let ms = Duration::from_millis;
        let mut backoff = Backoff::new(ms(500), ms(5000));
        let pauses: Vec<_> = (0..6).map(|_| backoff.pause()).collect();
        assert_eq!(pauses, [500, 1000, 2000, 4000, 5000, 5000].map(ms));
        backoff.reset();
        assert_eq!(backoff.pause(), ms(500));
    }

    struct Scripted {
        pauses: Vec<Pause>,
        released: u32,
        told: tokio::sync::mpsc::UnboundedSender<u32>,
    }

    impl Attempt for Scripted {
        async fn attempt(&mut self, _: &mut Stop) -> Ended {
            let _ = self.told.send(self.released);
            let Some(pause) = self.pauses.pop() else { return Ended::Over };
            Ended::Lost {
                was_up: false,
                pause,
                loss: Loss::Call { peer: "tower:7101".into(), fault: Some(Fault::Silent), why: "gone".into() },
            }
        }
        fn released(&mut self) {
            self.released += 1;
        }
    }

    #[tokio::test(start_paused = true)]
    async fn attempts_go_on_until_the_link_is_over_and_a_refusal_waits_for_the_engineer() {
        let status = LinkStatus::new();
        let (told, mut attempts) = tokio::sync::mpsc::unbounded_channel();
        let link = Scripted { pauses: vec![Pause::UntilReleased, Pause::Fixed(Duration::from_secs(3)), Pause::Growing], released: 0, told };
        let (_end, stop) = Stop::new();
        let of = status.clone();
        let backoff = Backoff::new(Duration::from_millis(500), Duration::from_secs(5));
        let task = tokio::spawn(async move { keep_up(link, &of, backoff, stop).await });
        let begun = tokio::time::Instant::now();
        for _ in 0..3 {
            assert_eq!(attempts.recv().await, Some(0));
        }
        assert_eq!(begun.elapsed(), Duration::from_millis(3500));
        tokio::time::sleep(Duration::from_secs(60)).await;
        assert!(attempts.try_recv().is_err(), "it waits to be released");
        assert!(matches!(status.look().contact, Contact::Lost(_)));
        status.control.set_held(true);
        tokio::time::sleep(Duration::from_secs(1)).await;
        assert_eq!(status.look().contact, Contact::Held);
        status.control.set_held(false);
        assert_eq!(attempts.recv().await, Some(1), "and begins anew");
        task.await.expect("over");
    }
}
