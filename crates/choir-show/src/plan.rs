//! From a checked sheet to open ways.

use crate::media::{FeedMedia, LineMedia};
use crate::{
    cameras::{Camera, Desk, Lamp},
    keyframes::{AskedByOnvif, LineStatuses, pass_on},
    tally,
};
use choir_core::{
    device::{Control, Device},
    link::{Link, show_url},
    sheet::{Line, Sheet},
};
use choir_host::Stop;
use choir_ports::{
    LinkStatus, Outlet, STARTING, StaveWay, Way, WayCause, WayError, open_ways,
    stave::{Identity, Node, Order, StaveError},
};
use std::{
    path::Path,
    sync::{Arc, OnceLock},
};
use tokio::{sync::mpsc, task::JoinHandle};

/// Orders to a camera that may wait.
const ORDERS: usize = 16;

pub(super) struct BuiltLine {
    pub media: Arc<LineMedia>,
    pub status: Arc<LinkStatus>,
    pub url: String,
}

pub(super) struct BuiltOut {
    pub link: Link,
    pub status: Arc<LinkStatus>,
    pub outlet: Arc<Outlet>,
}

pub(super) struct BuiltFeed {
    pub media: Arc<FeedMedia>,
    /// The small picture of the same, where it is offered.
    pub sub: Option<Arc<FeedMedia>>,
    pub outs: Vec<BuiltOut>,
}

pub(super) struct Built {
    pub lines: Vec<BuiltLine>,
    pub feeds: Vec<BuiltFeed>,
    pub statuses: LineStatuses,
    pub tasks: Vec<JoinHandle<()>>,
}

pub(super) async fn bring_up(sheet: &Sheet, base: &Path, stop: &Stop, gate: &Stop) -> Result<Built, WayError> {
    let node = node_for(sheet, base, stop).await.map_err(|e| WayError { subject: "stave".into(), cause: WayCause::Stave(e) })?;
    let part = |sub: Option<Arc<Outlet>>, carries| {
        let way = |node| StaveWay { pins: sheet.stave.sources.clone(), sub, carries, ..StaveWay::of(node, sheet.stave.address) };
        node.as_ref().map(way)
    };
    let mut ways = Vec::new();
    let mut lines = Vec::new();
    let mut cameras: Vec<Option<Camera>> = Vec::new();
    let mut asked = Vec::new();
    for (n, line) in sheet.lines.iter().enumerate() {
        let (media, status) = (LineMedia::new(n as u32), LinkStatus::new(STARTING));
        let (camera, orders) = camera_of(sheet, line);
        cameras.push(camera);
        ways.push(Way {
            subject: format!("line {}", line.name),
            link: line.from.clone(),
            intake: Some(media.clone()),
            outlet: None,
            status: status.clone(),
            stave: part(None, None).map(|s| StaveWay { orders, ..s }),
        });
        asked.extend(AskedByOnvif::of(sheet, &line.name, base, &status));
        lines.push(BuiltLine { media, status, url: show_url(&line.from) });
    }
    let mut feeds = Vec::new();
    let mut desks = Vec::new();
    for feed in &sheet.feeds {
        let mut outs = Vec::new();
        let line = sheet.lines.iter().position(|l| l.name == feed.line).unwrap_or_default();
        let named = feed.to.iter().any(|to| matches!(to, Link::Stave(_))) && sheet.lines.iter().any(|l| l.sub.is_some());
        let small = named.then(Outlet::new);
        let sub = small.clone().map(|outlet| FeedMedia::new(sub_of(sheet, line), vec![outlet]));
        let on: Arc<OnceLock<Arc<FeedMedia>>> = Arc::default();
        for link in &feed.to {
            let (outlet, status) = (Outlet::new(), LinkStatus::new(STARTING));
            let camera = matches!(link, Link::Stave(s) if s.steer).then(|| {
                let (give, orders) = mpsc::channel(ORDERS);
                desks.push((feeds.len(), orders));
                give
            });
            ways.push(Way {
                subject: format!("feed {}", feed.name),
                link: link.clone(),
                intake: None,
                outlet: Some(outlet.clone()),
                status: status.clone(),
                stave: part(small.clone(), Some(carries(sheet, &on))).map(|s| StaveWay { camera, ..s }),
            });
            outs.push(BuiltOut { link: link.clone(), status, outlet });
        }
        let media = FeedMedia::new(line as u32, outs.iter().map(|o| o.outlet.clone()).collect());
        let _ = on.set(media.clone());
        for l in &lines {
            std::iter::once(&media).chain(&sub).for_each(|m| l.media.attach(m.clone()));
        }
        feeds.push(BuiltFeed { media, sub, outs });
    }
    let mut tasks = open_ways(ways, sheet.show.latency, base, stop, gate).await?;
    let statuses: LineStatuses = lines.iter().map(|l: &BuiltLine| l.status.clone()).collect();
    let shown = feeds.iter().map(|f: &BuiltFeed| (f.media.clone(), f.outs.iter().map(|o| o.status.clone()).collect()));
    let shown = shown.collect();
    for f in &feeds {
        // Only their receivers have a word for it.
        let asking = f.outs.iter().filter(|o| matches!(o.link, Link::Rtsp(_) | Link::Stave(_)));
        tasks.extend(asking.map(|o| pass_on(&f.media, &o.status, &statuses, stop)));
    }
    tasks.extend(asked.into_iter().map(|device| device.spawn(stop.clone())));
    tasks.push(tally::spawn(shown, statuses.to_vec(), stop.clone()));
    tasks.extend(lamps(sheet, &statuses).into_iter().map(|lamp| lamp.spawn(stop.clone())));
    for (feed, orders) in desks {
        let desk = Desk { feed: feeds[feed].media.clone(), cameras: cameras.clone(), base: base.to_owned() };
        tasks.push(desk.spawn(orders, stop.clone()));
    }
    if let Some(node) = node {
        let mut stop = stop.clone();
        tasks.push(tokio::spawn(async move {
            stop.wait().await;
            node.ended().await;
        }));
    }
    Ok(Built { lines, feeds, statuses, tasks })
}

/// What a line's orders go to, and where they come out when that is a name further on.
fn camera_of(sheet: &Sheet, line: &Line) -> (Option<Camera>, Option<mpsc::Receiver<Order>>) {
    if let Link::Stave(_) = line.from {
        let (give, orders) = mpsc::channel(ORDERS);
        return (Some(Camera::Named(give)), Some(orders));
    }
    let device = sheet.source_of(&line.name).map(|(d, ..)| d).filter(|d| d.control != Control::Manual);
    (device.map(|d| Camera::Device(Box::new(d.clone()))), None)
}

/// The lamps that follow, with the lines that their cameras feed.
fn lamps(sheet: &Sheet, statuses: &[Arc<LinkStatus>]) -> Vec<Lamp> {
    let lamp = |d: &Device| {
        let fed = |line: &str| sheet.lines.iter().position(|l| l.name == line).and_then(|n| statuses.get(n)).cloned();
        let lines: Vec<_> = d.lines().filter_map(fed).collect();
        d.tally.filter(|_| !lines.is_empty()).map(|by| Lamp { device: d.clone(), by, lines })
    };
    sheet.devices.iter().filter_map(lamp).collect()
}

/// The number of a line's sub stream; of a line without one, the number of none.
pub(super) fn sub_of(sheet: &Sheet, line: usize) -> u32 {
    let sub = sheet.lines.get(line).and_then(|l| l.sub.as_ref());
    let place = sub.and_then(|s| sheet.lines.iter().position(|l| l.name == *s));
    place.map_or(u32::MAX, |n| n as u32)
}

/// Says which line a feed has on.
fn carries(sheet: &Sheet, on: &Arc<OnceLock<Arc<FeedMedia>>>) -> Arc<dyn Fn() -> String + Send + Sync> {
    let (titles, on): (Vec<String>, _) = (sheet.lines.iter().map(|l| l.title.clone()).collect(), on.clone());
    Arc::new(move || {
        let line = on.get().and_then(|m| m.reading().on);
        line.and_then(|n| titles.get(n as usize)).cloned().unwrap_or_default()
    })
}

/// This machine on Stave, when any line or feed of the sheet needs it.
async fn node_for(sheet: &Sheet, base: &Path, stop: &Stop) -> Result<Option<Node>, StaveError> {
    let taken = sheet.lines.iter().any(|l| matches!(l.from, Link::Stave(_)));
    let offered = sheet.feeds.iter().flat_map(|f| &f.to).any(|to| matches!(to, Link::Stave(_)));
    if !taken && !offered {
        return Ok(None);
    }
    // Only one that others pin has to last.
    let identity = Identity::of_machine().or_else(|e| Identity::passing().map_err(|_| e))?;
    // Two shows of one machine are two nodes, and each is the same one again after a restart: what it does tells them apart.
    let names = |links: &mut dyn Iterator<Item = &Link>| links.filter(|l| matches!(l, Link::Stave(_))).map(show_url).collect::<Vec<_>>();
    let takes = names(&mut sheet.lines.iter().map(|l| &l.from));
    let offers = names(&mut sheet.feeds.iter().flat_map(|f| &f.to));
    let what = format!("{} takes {takes:?} offers {offers:?}", sheet.show.name);
    Node::join(&sheet.stave, identity, base, &what, offered, stop).await.map(Some)
}
