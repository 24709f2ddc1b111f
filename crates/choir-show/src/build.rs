//! Opening and closing single lines and ways out.

use crate::{
    cameras::CameraController,
    feed::{FeedRun, OutRun},
    inner::{Inner, OpenError},
    keyframes,
    line::LineRun,
    media::{FeedMedia, KeptFor, SoundChoice, SoundFrom},
    wall,
};
use choir_core::{
    director::Director,
    id::Subject,
    link::{Link, show_url},
    model::{SoundOf, WayOut},
    sheet::{Entry, Feed, Line, Sheet},
};
use choir_host::{lock, write};
use choir_ports::{
    Flow, LinkStatus, OpenWay, ReadyWay, Shard, StaveWay, UnitOutlet, Way, WayCause,
    stave::{CameraRequest, Identity, Node, StaveError},
};
use std::sync::{Arc, Mutex};
use tokio::sync::mpsc;

/// Orders to a camera that may wait.
const ORDERS: usize = 16;

/// A line or a way out whose secrets have been fetched.
pub(crate) enum Opening {
    Line(Arc<LineRun>, ReadyWay),
    /// With the orders that come for the camera behind it.
    Out(Arc<FeedRun>, Arc<OutRun>, ReadyWay, Option<mpsc::Receiver<CameraRequest>>),
}

impl Inner {
    /// This machine on Stave, when any line or feed of the sheet needs it.
    pub async fn join_stave(&self, sheet: &Sheet) -> Result<(), OpenError> {
        if lock(&self.node).is_some() {
            return Ok(());
        }
        let takes = names(&mut sheet.lines.iter().map(|l| &l.from));
        let offers = names(&mut sheet.feeds.iter().flat_map(|f| f.to.iter().map(|to| &to.link)));
        if takes.is_empty() && offers.is_empty() {
            return Ok(());
        }
        let failed = |e: StaveError| OpenError { entry: Entry::Stave, cause: WayCause::Stave(e) };
        // Only one that others pin has to last.
        let identity = Identity::of_machine().or_else(|e| Identity::passing().map_err(|_| e)).map_err(failed)?;
        // Two shows of one machine are two nodes, and each is the same one again after a restart:
        // what it does tells them apart.
        let what = format!("{} takes {takes:?} offers {offers:?}", sheet.show.name);
        let node = Node::join(&sheet.stave, identity, &self.base, &what, !offers.is_empty(), &self.stopped).await.map_err(failed)?;
        *lock(&self.node) = Some(node);
        Ok(())
    }

    fn status(&self) -> Arc<LinkStatus> {
        LinkStatus::notifying(self.changed.clone(), self.tally_changed.clone())
    }

    /// A line that every feed can take.
    pub fn new_line(&self, entry: &Line) -> Arc<LineRun> {
        let line = LineRun::new(self.names.add_line(&entry.name), entry.clone(), self.status());
        self.feeds().iter().flat_map(|f| f.medias()).for_each(|media| line.media.attach(media.clone()));
        // From its first keyframe on, which may come before anybody has looked.
        line.media.keep_recent(KeptFor::Looking, lock(&self.sheet).show.pictures.share() > 0.0);
        write(&self.lines).push(line.clone());
        line
    }

    /// A feed that can carry every line, and its ways out.
    pub fn new_feed(&self, sheet: &Sheet, entry: &Feed) -> Arc<FeedRun> {
        let id = self.names.add_feed(&entry.name);
        let line = self.names.find_line(&entry.line).ok();
        let media = FeedMedia::new(line, self.tally_changed.clone());
        let named = entry.to.iter().any(|to| matches!(to.link, Link::Stave(_))) && sheet.lines.iter().any(|l| l.sub.is_some());
        let sub = named.then(|| {
            let outlet = UnitOutlet::new();
            let small = line.and_then(|l| self.line(l).ok()).and_then(|l| self.sub_of(&l));
            let sub = FeedMedia::new(small, self.tally_changed.clone());
            sub.add_out(outlet.clone().into());
            (sub, outlet)
        });
        media.set_sound(self.sound_of(entry));
        let feed = FeedRun::new(id, entry.clone(), media, sub);
        *lock(&feed.director) = line.map(|line| Director::new(line, self.started.elapsed()));
        for line in self.lines() {
            feed.medias().for_each(|media| line.media.attach(media.clone()));
        }
        write(&self.feeds).push(feed.clone());
        feed
    }

    /// Where a feed's sound comes from, by its entry.
    pub fn sound_of(&self, entry: &Feed) -> SoundChoice {
        let from = match &entry.sound.from {
            SoundOf::Picture => SoundFrom::Picture,
            SoundOf::Off => SoundFrom::Nothing,
            // A line that is gone has none.
            SoundOf::Line(name) => self.names.find_line(name).map_or(SoundFrom::Nothing, |line| SoundFrom::Line(line.0)),
        };
        SoundChoice { from, delay: entry.sound.delay.as_micros() as i64 }
    }

    /// A way out of a feed.
    pub fn new_out(&self, feed: &FeedRun, to: &WayOut) -> Arc<OutRun> {
        let encoding = to.encode.as_ref().map(|plan| feed.encoding(plan, &self.base));
        let out = OutRun::new(self.names.add_out(feed.id), to.link.clone(), encoding, self.status());
        out.attach(&feed.media);
        out
    }

    /// Fetches what a line needs to be opened as its entry has it.
    pub fn ready_line(&self, line: &Arc<LineRun>) -> Result<Opening, OpenError> {
        let entry = lock(&line.entry).clone();
        line.media.set_clip(line.starts_at_take());
        let (orders, taken) = if matches!(entry.from, Link::Stave(_)) { orders() } else { (None, None) };
        *lock(&line.orders) = orders;
        let stave = self.stave_way().map(|way| StaveWay { orders: taken, ..way });
        let shard = matches!(entry.from, Link::Srt(_)).then(|| line.shard()).flatten();
        let ready = self.ready(entry.name, &entry.from, Flow::In(line.media.clone()), &line.status, stave, shard);
        Ok(Opening::Line(line.clone(), ready.map_err(|(name, cause)| OpenError { entry: Entry::Line(name), cause })?))
    }

    /// Fetches what a way out needs to be opened.
    pub fn ready_out(self: &Arc<Self>, feed: &Arc<FeedRun>, out: &Arc<OutRun>) -> Result<Opening, OpenError> {
        let name = lock(&feed.entry).name.clone();
        let (camera, taken) = if matches!(&out.link, Link::Stave(s) if s.steer) { orders() } else { (None, None) };
        let stave = self.stave_way().map(|way| {
            let sub = feed.sub.as_ref().map(|(_, outlet)| outlet.clone());
            StaveWay { camera, sub, carries: Some(self.carries(feed)), ..way }
        });
        let line = feed.media.reading().line().filter(|_| matches!(out.link, Link::Srt(_)));
        let shard = line.and_then(|l| self.line(l).ok()).and_then(|l| l.shard());
        let ready = self.ready(name, &out.link, Flow::Out(out.outlet.clone()), &out.status, stave, shard);
        let ready = ready.map_err(|(name, cause)| OpenError { entry: Entry::Feed(name), cause })?;
        Ok(Opening::Out(feed.clone(), out.clone(), ready, taken))
    }

    /// A link of the sheet with all that applies to it.
    pub fn effective(&self, link: &Link) -> Link {
        lock(&self.sheet).effective(link)
    }

    fn ready(
        &self,
        name: String,
        link: &Link,
        flow: Flow,
        status: &Arc<LinkStatus>,
        stave: Option<StaveWay>,
        shard: Option<Shard>,
    ) -> Result<ReadyWay, (String, WayCause)> {
        let (link, latency) = {
            let sheet = lock(&self.sheet);
            (sheet.effective(link), sheet.show.latency)
        };
        Way { name, link, flow, status: status.clone(), stave, shard }.ready(latency, &self.base).map_err(|e| (e.name, e.cause))
    }

    /// Opens a line or a way out.
    pub async fn open(self: &Arc<Self>, opening: Opening) -> Result<(), OpenError> {
        match opening {
            Opening::Line(line, ready) => {
                let mut way = self.ports.open(ready).await.map_err(|e| OpenError { entry: Entry::Line(e.name), cause: e.cause })?;
                let from = lock(&line.entry).from.clone();
                if let Link::Wall(wall) = from {
                    way.beside(|stop| wall::run(self.own.clone(), line.clone(), wall, stop));
                }
                *lock(&line.way) = Some(way);
            }
            Opening::Out(feed, out, ready, orders) => {
                let mut way = self.ports.open(ready).await.map_err(|e| OpenError { entry: Entry::Feed(e.name), cause: e.cause })?;
                if let Some(orders) = orders {
                    way.beside(|stop| CameraController::new(self, &feed).run(orders, stop));
                }
                if matches!(out.link, Link::Rtsp(_) | Link::Stave(_)) {
                    // Only their receivers have a word for it.
                    way.beside(|stop| keyframes::pass_on(Arc::downgrade(self), feed, &out, stop));
                }
                *lock(&out.way) = Some(way);
            }
        }
        Ok(())
    }

    fn stave_way(&self) -> Option<StaveWay> {
        let stave = lock(&self.sheet).stave.clone();
        let node = lock(&self.node).clone()?;
        Some(StaveWay { pins: stave.sources, ..StaveWay::of(&node, stave.address) })
    }

    /// Says which line a feed has on, by its title.
    fn carries(self: &Arc<Self>, feed: &Arc<FeedRun>) -> Arc<dyn Fn() -> String + Send + Sync> {
        let (show, media) = (Arc::downgrade(self), feed.media.clone());
        Arc::new(move || {
            let on = media.reading().on;
            let line = show.upgrade().zip(on).and_then(|(show, on)| show.line(on).ok());
            line.map(|l| lock(&l.entry).title.clone()).unwrap_or_default()
        })
    }

    /// Closes a line for good.
    pub async fn remove_line(&self, line: &LineRun) {
        // Where it is recorded.
        let _ = self.end_recordings(Some(&[Subject::Line(line.id)])).await;
        self.feeds().iter().flat_map(|f| f.medias()).for_each(|media| line.media.detach(media));
        for feed in self.feeds() {
            lock(&feed.preview).take_if(|next| *next == line.id);
        }
        self.names.remove_line(line.id);
        close(&line.way).await;
        write(&self.lines).retain(|l| l.id != line.id);
        lock(&self.same_pictures).forget(line.id);
    }

    /// Closes a feed for good.
    pub async fn remove_feed(&self, feed: &FeedRun) {
        let _ = self.end_recordings(Some(&[Subject::Feed(feed.id)])).await;
        for line in self.lines() {
            feed.medias().for_each(|media| line.media.detach(media));
        }
        for out in feed.outs() {
            self.remove_out(feed, &out).await;
        }
        self.names.remove_feed(feed.id);
        write(&self.feeds).retain(|f| f.id != feed.id);
    }

    /// Closes a way out for good.
    pub async fn remove_out(&self, feed: &FeedRun, out: &OutRun) {
        out.detach(&feed.media);
        feed.set_outs(feed.outs().into_iter().filter(|o| o.id != out.id).collect());
        close(&out.way).await;
    }
}

/// A way for camera orders: where they are put, and where they are taken.
fn orders<T>() -> (Option<mpsc::Sender<T>>, Option<mpsc::Receiver<T>>) {
    let (tx, rx) = mpsc::channel(ORDERS);
    (Some(tx), Some(rx))
}

/// Closes a way, if it is open.
pub(crate) async fn close(way: &Mutex<Option<OpenWay>>) {
    let open = lock(way).take();
    if let Some(open) = open {
        open.close().await;
    }
}

/// The Stave names among links, as URLs.
fn names(links: &mut dyn Iterator<Item = &Link>) -> Vec<String> {
    links.filter(|l| matches!(l, Link::Stave(_))).map(show_url).collect()
}
