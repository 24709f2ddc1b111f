//! A line that goes on a feed at once: from its last keyframe, which is kept, and from there on at
//! its own pace. The feed stays behind the line by that keyframe's age.

use crate::media::{FeedMedia, LineMedia};
use choir_core::id::LineId;
use choir_host::{clock::Alarm, lock};
use choir_ports::{Arrival, Intake as _};
use std::{
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::task::JoinHandle;

/// The lines that one feed has later than they come: the one that is on, and those about to be.
#[derive(Default)]
pub(crate) struct LinesBehind(Mutex<Vec<Behind>>);

impl LinesBehind {
    /// By how much the feed has this line later.
    pub fn of(&self, line: LineId) -> Option<Duration> {
        lock(&self.0).iter().find(|b| b.line == line).map(|b| b.by)
    }

    /// Begins to put a line on: at its next keyframe, or `at_once` from its last one if that is
    /// kept. Then gives by how much it is behind.
    pub fn put_on(&self, feed: &Arc<FeedMedia>, source: &Arc<LineMedia>, line: LineId, at_once: bool) -> Option<Duration> {
        let mut all = lock(&self.0);
        let on = feed.reading().on == Some(line);
        if !on {
            if let Some(begun) = all.iter().find(|b| b.line == line && feed.carries(line)) {
                // What it has sent so far is kept for the cut: it must not come twice.
                feed.take(Some(line));
                return Some(begun.by);
            }
            // It was on before, and has not been let go of yet.
            all.retain(|b| b.line != line);
        }
        match Some(source).filter(|_| at_once && !on).and_then(|source| Behind::begin(source, line, feed)) {
            Some(new) => {
                let by = new.by;
                all.push(new);
                Some(by)
            }
            None => {
                feed.take(Some(line));
                None
            }
        }
    }

    /// Lets go of what is neither on nor to be.
    pub fn let_go(&self, feed: &FeedMedia) {
        let mut all = lock(&self.0);
        all.retain(|b| feed.carries(b.line));
    }
}

/// A line as one feed has it, later than it comes. The feed has it as it comes again when this is
/// dropped.
struct Behind {
    line: LineId,
    /// How much later.
    by: Duration,
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
    fn begin(source: &Arc<LineMedia>, line: LineId, feed: &Arc<FeedMedia>) -> Option<Self> {
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::media::KeptFor;
    use bytes::Bytes;
    use choir_ports::{AnyOutlet, Outlet};
    use choir_proto::ts::{Origin, TsChecker, TsWriter, Unit, WriterConfig};

    /// Picture `n` of a source.
    fn picture(writer: &mut TsWriter, n: u64) -> Vec<u8> {
        let sets = [0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];
        let keyframe = n.is_multiple_of(10);
        let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88];
        let data = [if keyframe { &sets[..] } else { &[] }, &head, &[0xA5; 400]].concat();
        let pts = 900_000 + n * 3600;
        let mut out = Vec::new();
        writer.write(&Unit { video: true, pts, dts: Some(pts), keyframe, data: &[&data] }, &mut out);
        out
    }

    #[tokio::test]
    async fn a_line_that_is_asked_for_again_before_it_is_on_is_not_begun_anew() {
        // The second time the line is still wanted; or another one was asked for between.
        for between in [false, true] {
            let (feed, outlet, all) = (FeedMedia::new(Some(LineId(0)), Arc::default()), Outlet::new(), LinesBehind::default());
            feed.add_out(AnyOutlet::Ts(outlet.clone()));
            let lines = [0, 1].map(|n| LineMedia::new(LineId(n)));
            lines.iter().for_each(|l| l.attach(feed.clone()));
            lines[1].keep_recent(KeptFor::Takes, true);
            let mut writers = [0, 1].map(|_| TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() }));
            let come =
                |line: usize, bytes: &[u8]| lines[line].arrive(&mut vec![Arrival::ts(1, Instant::now(), Bytes::copy_from_slice(bytes))]);
            (0..3).for_each(|n| come(0, &picture(&mut writers[0], n)));
            (0..3).for_each(|n| come(1, &picture(&mut writers[1], n)));
            // What is on is in the middle of a picture: the cut has to wait for its end.
            let open = picture(&mut writers[0], 3);
            let (begins, ends) = open.split_at(open.len() - 188);
            come(0, begins);
            let by = all.put_on(&feed, &lines[1], LineId(1), true);
            assert!(by.is_some() && feed.reading().on == Some(LineId(0)));
            if between {
                all.put_on(&feed, &lines[0], LineId(0), true);
                all.let_go(&feed);
            }
            assert_eq!(all.put_on(&feed, &lines[1], LineId(1), true), by);
            come(0, ends);
            assert_eq!((feed.reading().on, all.of(LineId(1))), (Some(LineId(1)), by));
            let mut checker = TsChecker::new(Origin::Start);
            outlet.take().iter().for_each(|out| checker.push(out));
            checker.finish(false);
            let found: Vec<_> = checker.findings().into_iter().filter(|f| !f.minor).collect();
            assert_eq!(found, [], "{between}");
        }
    }
}
