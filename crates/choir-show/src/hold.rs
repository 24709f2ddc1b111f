//! Holding lines and ways out, and starting them again.

use crate::{
    build::close,
    feed::{FeedRun, OutRun},
    inner::Inner,
};
use choir_core::{
    command::{By, Done, Refusal},
    facts::{Contact, EventKind},
    id::{FeedId, LineId, OutId, Subject},
    words::Names as _,
};
use std::sync::Arc;

/// What a name stands for that can be held.
pub enum Holdable {
    /// A line.
    Line(LineId),
    /// Ways out of a feed.
    Outs(FeedId, Vec<OutId>),
}

impl Inner {
    /// A line of this name; else the ways out of the feed of this name, or of `NAME:2` the second.
    pub fn holdable(&self, name: &str) -> Result<Holdable, Refusal> {
        let unknown = match self.names.find_line(name) {
            Ok(line) => return Ok(Holdable::Line(line)),
            Err(unknown) => unknown,
        };
        let (feed, number) = match name.rsplit_once(':').and_then(|(feed, n)| Some((feed, n.parse::<usize>().ok()?))) {
            Some((feed, number)) => (feed, Some(number)),
            None => (name, None),
        };
        let Ok(id) = self.names.find_feed(feed) else { return Err(unknown) };
        let outs: Vec<OutId> = self.feed(id)?.outs().iter().map(|o| o.id).collect();
        match number {
            None => Ok(Holdable::Outs(id, outs)),
            Some(n) => match n.checked_sub(1).and_then(|n| outs.get(n)) {
                Some(out) => Ok(Holdable::Outs(id, vec![*out])),
                None => Err(Refusal::NoWayOut { feed: feed.to_owned(), number: n, count: outs.len() }),
            },
        }
    }

    pub fn hold_line(&self, by: By, line: LineId, held: bool) -> Result<Done, Refusal> {
        let run = self.line(line)?;
        let already = run.status.control.is_held() == held;
        if !already {
            run.status.control.set_held(held);
            self.bus.event(Subject::Line(line), EventKind::Held { held, by });
        }
        Ok(Done::Held { line, held, already })
    }

    /// Closes ways out of a feed until they are released, or opens them again.
    pub async fn hold_outs(self: &Arc<Self>, by: By, feed: FeedId, outs: &[OutId], held: bool) -> Result<Done, Refusal> {
        // A reload opens and closes ways too.
        let _one = self.reloading.lock().await;
        let run = self.feed(feed)?;
        let mut changed = 0;
        for out in run.outs().iter().filter(|o| outs.contains(&o.id) && o.status.control.is_held() != held) {
            if held {
                self.close_out(&run, out).await;
            } else {
                self.open_out(&run, out).await?;
            }
            self.bus.event(Subject::Out(out.id), EventKind::Held { held, by });
            changed += 1;
        }
        self.changed.notify_one();
        Ok(Done::HeldOuts { feed, changed, held })
    }

    async fn close_out(&self, feed: &FeedRun, out: &OutRun) {
        out.status.control.set_held(true);
        out.detach(&feed.media);
        close(&out.way).await;
        out.outlet.clear();
        out.status.reset(Contact::Held);
    }

    async fn open_out(self: &Arc<Self>, feed: &Arc<FeedRun>, out: &Arc<OutRun>) -> Result<(), Refusal> {
        out.status.control.set_held(false);
        out.attach(&feed.media);
        let opened = async { self.open(self.ready_out(feed, out)?).await };
        if let Err(e) = opened.await {
            self.close_out(feed, out).await;
            return Err(Refusal::NotOpened { feed: self.names.feed(feed.id), why: e.cause.to_string() });
        }
        Ok(())
    }
}
