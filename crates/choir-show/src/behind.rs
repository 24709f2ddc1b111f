//! A line that goes on a feed at once: from its last keyframe, which is kept, and from there on at
//! its own pace. The feed stays behind the line by that keyframe's age.

use crate::media::{FeedMedia, LineMedia};
use choir_core::id::LineId;
use choir_host::clock::Alarm;
use choir_ports::{Arrival, Intake as _};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::task::JoinHandle;

/// A line as one feed has it, later than it comes. The feed has it as it comes again when this is
/// dropped.
pub(crate) struct Behind {
    pub line: LineId,
    /// How much later.
    pub by: Duration,
    source: Arc<LineMedia>,
    feed: Arc<FeedMedia>,
    task: JoinHandle<()>,
}

impl Drop for Behind {
    fn drop(&mut self) {
        self.task.abort();
        self.source.attach(self.feed.clone());
    }
}

impl Behind {
    /// Takes a line on a feed from its last keyframe on; none where none is kept.
    pub fn begin(source: &Arc<LineMedia>, line: LineId, feed: &Arc<FeedMedia>) -> Option<Self> {
        let mut alarm = Alarm::new().ok()?;
        let mut from = source.from_keyframe()?;
        source.detach(feed);
        let by = Instant::now().saturating_duration_since(from.sent[from.keyframe].at);
        from.sent.iter_mut().for_each(|arrival| arrival.at += by);
        let own = LineMedia::new(line);
        let mut rest = from.sent.split_off(from.keyframe);
        // Tables and sound from before the keyframe are known, as of any line that is not on.
        own.arrive(&mut from.sent);
        own.attach(feed.clone());
        feed.take(Some(line));
        own.arrive(&mut rest.drain(..1).collect());
        let (mut more, end) = (from.more, feed.clone());
        let task = tokio::spawn(async move {
            let mut waiting = rest.into_iter();
            loop {
                let next = match waiting.next() {
                    Some(kept) => Some(kept),
                    None => more.recv().await.map(|new| Arrival { at: new.at + by, ..new }),
                };
                let Some(arrival) = next else { break };
                alarm.until(arrival.at).await;
                own.arrive(&mut vec![arrival]);
            }
            own.detach(&end);
        });
        Some(Self { line, by, source: source.clone(), feed: feed.clone(), task })
    }
}
