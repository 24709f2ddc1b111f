//! Opening and closing the lines and feeds of a sheet: all at the start, single ones later.

use crate::{
    cameras::Desk,
    feed::{FeedRun, OutRun},
    keyframes,
    line::LineRun,
    media::FeedMedia,
    show::Inner,
};
use choir_core::{
    id::LineId,
    link::{Link, show_url},
    sheet::{Entry, Feed, Line, Sheet},
    words::Names as _,
};
use choir_host::lock;
use choir_ports::{
    Flow, LinkStatus, OpenWay, Outlet, ReadyWay, StaveWay, Way, WayCause,
    stave::{Identity, Node, StaveError},
};
use std::sync::{Arc, Mutex, PoisonError};
use tokio::sync::mpsc;

/// An entry of the sheet that cannot be opened.
#[derive(Debug, thiserror::Error)]
#[error("{entry}: {cause}")]
pub struct OpenError {
    /// Which.
    pub entry: Entry,
    /// Why.
    pub cause: WayCause,
}

/// Orders to a camera that may wait.
pub(crate) const ORDERS: usize = 16;

impl Inner {
    /// Opens everything, or nothing.
    pub async fn bring_up(self: &Arc<Self>, sheet: &Sheet) -> Result<(), OpenError> {
        self.join_stave(sheet).await?;
        let lines: Vec<_> = sheet.lines.iter().map(|l| self.new_line(l)).collect();
        *self.lines.write().unwrap_or_else(PoisonError::into_inner) = lines.clone();
        let feeds: Vec<_> = sheet.feeds.iter().map(|f| self.new_feed(sheet, f)).collect();
        *self.feeds.write().unwrap_or_else(PoisonError::into_inner) = feeds.clone();
        for (feed, entry) in feeds.iter().zip(&sheet.feeds) {
            feed.set_outs(entry.to.iter().map(|to| self.new_out(feed, to)).collect());
        }
        let outs: Vec<_> = feeds.iter().flat_map(|f| f.outs().into_iter().map(move |o| (f, o))).collect();
        // Secrets are fetched before anything opens.
        let ready_lines: Vec<_> = lines.iter().map(|l| self.ready_line(l)).collect::<Result<_, _>>()?;
        let ready_outs: Vec<_> = outs.iter().map(|(f, o)| self.ready_out(f, o)).collect::<Result<_, _>>()?;
        for (line, ready) in lines.iter().zip(ready_lines) {
            self.open_line(line, ready).await?;
        }
        for ((_, out), ready) in outs.iter().zip(ready_outs) {
            self.open_out(out, ready).await?;
        }
        Ok(())
    }

    /// This machine on Stave, when any line or feed of the sheet needs it.
    pub async fn join_stave(&self, sheet: &Sheet) -> Result<(), OpenError> {
        if lock(&self.node).is_some() {
            return Ok(());
        }
        let takes = names(&mut sheet.lines.iter().map(|l| &l.from));
        let offers = names(&mut sheet.feeds.iter().flat_map(|f| &f.to));
        if takes.is_empty() && offers.is_empty() {
            return Ok(());
        }
        let failed = |e: StaveError| OpenError { entry: Entry::Stave, cause: WayCause::Stave(e) };
        // Only one that others pin has to last.
        let identity = Identity::of_machine().or_else(|e| Identity::passing().map_err(|_| e)).map_err(failed)?;
        // Two shows of one machine are two nodes, and each is the same one again after a restart: what it does tells them apart.
        let what = format!("{} takes {takes:?} offers {offers:?}", sheet.show.name);
        let node = Node::join(&sheet.stave, identity, &self.base, &what, !offers.is_empty(), &self.stopped).await.map_err(failed)?;
        *lock(&self.node) = Some(node);
        Ok(())
    }

    fn status(&self) -> Arc<LinkStatus> {
        LinkStatus::notifying(self.changed.clone(), self.tally_changed.clone())
    }

    pub fn new_line(&self, entry: &Line) -> Arc<LineRun> {
        let line = LineRun::new(self.names.add_line(&entry.name), entry.clone(), self.status());
        for feed in self.feeds() {
            attach(&line, &feed);
        }
        line
    }

    /// A feed without ways out, which may carry any line.
    pub fn new_feed(&self, sheet: &Sheet, entry: &Feed) -> Arc<FeedRun> {
        let id = self.names.add_feed(&entry.name);
        let line = self.names.find_line(&entry.line).ok();
        let media = FeedMedia::new(line, self.tally_changed.clone());
        let named = entry.to.iter().any(|to| matches!(to, Link::Stave(_))) && sheet.lines.iter().any(|l| l.sub.is_some());
        let sub = named.then(|| {
            let outlet = Outlet::new();
            let small = line.and_then(|l| self.line(l).ok()).and_then(|l| self.sub_of(&l));
            let sub = FeedMedia::new(small, self.tally_changed.clone());
            sub.add_out(outlet.clone());
            (sub, outlet)
        });
        let feed = FeedRun::new(id, entry.clone(), media, sub);
        for line in self.lines() {
            attach(&line, &feed);
        }
        feed
    }

    pub fn new_out(&self, feed: &FeedRun, link: &Link) -> Arc<OutRun> {
        let out = OutRun::new(self.names.add_out(feed.id), link.clone(), self.status());
        feed.media.add_out(out.outlet.clone());
        out
    }

    pub fn ready_line(&self, line: &LineRun) -> Result<ReadyWay, OpenError> {
        let entry = lock(&line.entry).clone();
        let stave = self.stave_way().map(|way| {
            let (give, orders) = mpsc::channel(ORDERS);
            *lock(&line.orders) = matches!(entry.from, Link::Stave(_)).then_some(give);
            StaveWay { orders: Some(orders), ..way }
        });
        let way =
            Way { name: entry.name.clone(), link: entry.from, flow: Flow::In(line.media.clone()), status: line.status.clone(), stave };
        self.ready(way, Entry::Line)
    }

    pub fn ready_out(self: &Arc<Self>, feed: &Arc<FeedRun>, out: &OutRun) -> Result<ReadyWay, OpenError> {
        let name = lock(&feed.entry).name.clone();
        let stave = self.stave_way().map(|way| {
            let camera = matches!(&out.link, Link::Stave(s) if s.steer).then(|| {
                let (give, orders) = mpsc::channel(ORDERS);
                tokio::spawn(Desk::new(self, feed).run(orders, self.stopped.clone()));
                give
            });
            let sub = feed.sub.as_ref().map(|(_, outlet)| outlet.clone());
            StaveWay { camera, sub, carries: Some(self.carries(feed)), ..way }
        });
        if matches!(out.link, Link::Rtsp(_) | Link::Stave(_)) {
            // Only their receivers have a word for it.
            tokio::spawn(keyframes::pass_on(Arc::downgrade(self), feed.clone(), out.status.clone(), self.stopped.clone()));
        }
        *lock(&out.opened_with) = out.link.takes_show_latency().then(|| lock(&self.sheet).show.latency);
        let way = Way { name, link: out.link.clone(), flow: Flow::Out(out.outlet.clone()), status: out.status.clone(), stave };
        self.ready(way, Entry::Feed)
    }

    fn ready(&self, way: Way, entry: fn(String) -> Entry) -> Result<ReadyWay, OpenError> {
        let latency = lock(&self.sheet).show.latency;
        way.ready(latency, &self.base).map_err(|e| OpenError { entry: entry(e.name), cause: e.cause })
    }

    /// Opens a line's link.
    pub async fn open_line(self: &Arc<Self>, line: &LineRun, ready: ReadyWay) -> Result<(), OpenError> {
        let way = self.ports.open(ready).await.map_err(|e| OpenError { entry: Entry::Line(e.name), cause: e.cause })?;
        *lock(&line.way) = Some(way);
        Ok(())
    }

    /// Opens a way out.
    pub async fn open_out(self: &Arc<Self>, out: &OutRun, ready: ReadyWay) -> Result<(), OpenError> {
        let way = self.ports.open(ready).await.map_err(|e| OpenError { entry: Entry::Feed(e.name), cause: e.cause })?;
        *lock(&out.way) = Some(way);
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
    pub async fn close_line(&self, line: &Arc<LineRun>) {
        for feed in self.feeds() {
            std::iter::once(&feed.media).chain(feed.sub.as_ref().map(|s| &s.0)).for_each(|m| line.media.detach(m));
        }
        self.names.remove_line(line.id);
        close(&line.way).await;
    }

    /// Closes a way out for good.
    pub async fn close_out(&self, feed: &FeedRun, out: &OutRun) {
        feed.media.remove_out(&out.outlet);
        close(&out.way).await;
    }

    /// The line of a name, and what a line is called.
    pub fn line_id(&self, name: &str) -> Option<LineId> {
        self.lines().iter().map(|l| l.id).find(|id| self.names.line(*id) == name)
    }
}

/// Closes a way, if it is open.
pub(crate) async fn close(way: &Mutex<Option<OpenWay>>) {
    let open = lock(way).take();
    if let Some(open) = open {
        open.close().await;
    }
}

fn attach(line: &LineRun, feed: &FeedRun) {
    std::iter::once(&feed.media).chain(feed.sub.as_ref().map(|s| &s.0)).for_each(|m| line.media.attach(m.clone()));
}

/// The Stave names among links, as URLs.
fn names(links: &mut dyn Iterator<Item = &Link>) -> Vec<String> {
    links.filter(|l| matches!(l, Link::Stave(_))).map(show_url).collect()
}
