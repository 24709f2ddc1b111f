//! From a checked sheet to open ways.

use crate::{
    media::{FeedMedia, LineMedia},
    port::{LinkStatus, Outlet, Stop, Way, WayError, open_ways},
};
use choir_core::{
    link::{Link, show_url},
    sheet::Sheet,
};
use std::{path::Path, sync::Arc};
use tokio::task::JoinHandle;

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
    pub outs: Vec<BuiltOut>,
}

pub(super) struct Built {
    pub lines: Vec<BuiltLine>,
    pub feeds: Vec<BuiltFeed>,
    pub tasks: Vec<JoinHandle<()>>,
}

pub(super) async fn bring_up(sheet: &Sheet, base: &Path, stop: &Stop, gate: &Stop) -> Result<Built, WayError> {
    let mut ways = Vec::new();
    let mut lines = Vec::new();
    for (n, line) in sheet.lines.iter().enumerate() {
        let (media, status) = (LineMedia::new(n as u32), LinkStatus::new("starting"));
        ways.push(Way {
            subject: format!("line {}", line.name),
            link: line.from.clone(),
            intake: Some(media.clone()),
            outlet: None,
            status: status.clone(),
        });
        lines.push(BuiltLine { media, status, url: show_url(&line.from) });
    }
    let mut feeds = Vec::new();
    for feed in &sheet.feeds {
        let mut outs = Vec::new();
        for link in &feed.to {
            let (outlet, status) = (Outlet::new(), LinkStatus::new("starting"));
            ways.push(Way {
                subject: format!("feed {}", feed.name),
                link: link.clone(),
                intake: None,
                outlet: Some(outlet.clone()),
                status: status.clone(),
            });
            outs.push(BuiltOut { link: link.clone(), status, outlet });
        }
        let line = sheet.lines.iter().position(|l| l.name == feed.line).unwrap_or_default();
        let media = FeedMedia::new(line as u32, outs.iter().map(|o| o.outlet.clone()).collect());
        lines.iter().for_each(|l| l.media.attach(media.clone()));
        feeds.push(BuiltFeed { media, outs });
    }
    let tasks = open_ways(ways, sheet.show.latency, base, stop, gate).await?;
    Ok(Built { lines, feeds, tasks })
}
