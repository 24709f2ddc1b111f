//! The paths of the demo, which can be made worse while it runs.

use choir_core::units::Bitrate;
use choir_path::Faults;
use std::{
    collections::BTreeMap,
    sync::{Mutex, PoisonError},
    time::Duration,
};
use tokio::{sync::watch, task::JoinHandle};

/// What can be done to a path: it carries less and less, too little at once, nothing, and as usual.
pub const PATH_WORDS: [&str; 4] = ["path-worse", "path-full", "path-cut", "path-normal"];

/// Of the bitrate: what a path that gets worse carries at first and at last, and a full one.
const WORSE: (f64, f64) = (1.5, 0.8);
/// How long that takes.
const WORSE_FOR: Duration = Duration::from_secs(30);
/// How often it changes.
const STEP: Duration = Duration::from_millis(500);
/// What waits before a path that is full.
const QUEUE: Duration = Duration::from_secs(1);

/// The paths, by the name of their line.
#[derive(Debug, Default)]
pub(super) struct Paths(BTreeMap<String, PathControl>);

#[derive(Debug)]
struct PathControl {
    usual: Faults,
    bitrate: Bitrate,
    faults: watch::Sender<Faults>,
    /// Makes it worse.
    task: Mutex<Option<JoinHandle<()>>>,
}

impl Paths {
    /// Adds the path of a line that carries this bitrate: gives what its relay is to follow.
    pub fn add(&mut self, line: &str, usual: Faults, bitrate: Bitrate) -> watch::Receiver<Faults> {
        let (faults, changes) = watch::channel(usual.clone());
        self.0.insert(line.to_owned(), PathControl { usual, bitrate, faults, task: Mutex::default() });
        changes
    }

    /// Does one of [`PATH_WORDS`] to the path of a line: says what it does now.
    pub fn change(&self, line: &str, word: &str) -> Result<String, String> {
        let names = || self.0.keys().cloned().collect::<Vec<_>>().join(", ");
        let path = self.0.get(line).ok_or_else(|| format!("{line} comes by no path that can be changed. One of: {}", names()))?;
        path.change(word).map(|says| format!("{line}'s path now: {says}"))
    }
}

impl PathControl {
    fn change(&self, word: &str) -> Result<String, String> {
        let mut task = self.task.lock().unwrap_or_else(PoisonError::into_inner);
        task.take().iter().for_each(JoinHandle::abort);
        let says = match word {
            "path-worse" => {
                let (faults, usual, bitrate) = (self.faults.clone(), self.usual.clone(), self.bitrate);
                *task = Some(tokio::spawn(async move {
                    let steps = (WORSE_FOR.as_millis() / STEP.as_millis()) as u32;
                    for step in 0..=steps {
                        faults.send_replace(carrying(&usual, bitrate, WORSE.0 + (WORSE.1 - WORSE.0) * f64::from(step) / f64::from(steps)));
                        tokio::time::sleep(STEP).await;
                    }
                }));
                format!("it carries less and less, down to {} % of the bitrate within {} s", WORSE.1 * 100.0, WORSE_FOR.as_secs())
            }
            "path-full" => {
                self.faults.send_replace(carrying(&self.usual, self.bitrate, WORSE.1));
                format!("it carries {} % of the bitrate", WORSE.1 * 100.0)
            }
            "path-cut" => {
                self.faults.send_replace(Faults { loss: 1.0, ..self.usual.clone() });
                "nothing passes".to_owned()
            }
            "path-normal" => {
                self.faults.send_replace(self.usual.clone());
                "as usual".to_owned()
            }
            _ => return Err(format!("\"{word}\" is nothing that a path can do. One of: {}", PATH_WORDS.join(", "))),
        };
        Ok(says)
    }
}

/// The usual path with room for this share of a bitrate.
fn carrying(usual: &Faults, bitrate: Bitrate, share: f64) -> Faults {
    Faults { rate: Some((bitrate.0 as f64 * share) as u64), queue: QUEUE, ..usual.clone() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test(start_paused = true)]
    async fn a_path_gets_worse_until_it_is_mended() {
        let mut paths = Paths::default();
        let mut changes = paths.add("umpire-launch", Faults::default(), Bitrate(1_000_000));
        let rate = |changes: &watch::Receiver<Faults>| changes.borrow().rate;
        paths.change("umpire-launch", "path-worse").expect("done");
        let mut last = u64::MAX;
        while last > 800_000 {
            changes.changed().await.expect("more");
            let now = rate(&changes).expect("a rate");
            assert!(now < last);
            last = now;
        }
        paths.change("umpire-launch", "path-cut").expect("done");
        assert_eq!(changes.borrow().loss, 1.0);
        let says = paths.change("umpire-launch", "path-normal").expect("done");
        assert!(rate(&changes).is_none() && says.contains("as usual"), "{says}");
        assert!(paths.change("finish-tower", "path-cut").is_err_and(|e| e.contains("One of: umpire-launch")));
        assert!(paths.change("umpire-launch", "path-up").is_err_and(|e| e.contains("path-worse")));
    }
}
