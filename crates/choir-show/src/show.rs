//! A running show: every line and feed of a sheet, kept up until stopped.

use crate::events::EventLog;
use crate::media::{FeedMedia, LineMedia};
use crate::plan;
use crate::sample::{FeedSampler, LineSampler};
use choir_core::{
    link::Link,
    sheet::Sheet,
    spelling::did_you_mean,
    view::{EventGrade, EventView, FeedView, InputView, ShowView},
};
use choir_host::{Stop, clock::unix_ms, lock};
use choir_ports::{LinkStatus, WayError};
use choir_proto::ts::AccessUnit;
use std::{
    path::Path,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    sync::{oneshot, watch},
    task::{JoinHandle, JoinSet},
};

/// How often states are judged.
const SAMPLE_EVERY: Duration = Duration::from_millis(500);
/// How long a stop waits for goodbyes.
const STOP_PATIENCE: Duration = Duration::from_secs(2);

struct LineRun {
    name: String,
    plays_once: bool,
    status: Arc<LinkStatus>,
    media: Arc<LineMedia>,
}

struct FeedRun {
    name: String,
    /// Each way out, and whether it is up only once somebody watches.
    outs: Vec<(Arc<LinkStatus>, Served)>,
    media: Arc<FeedMedia>,
    sub: Option<Arc<FeedMedia>>,
}

/// How a way out waits for whoever takes it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Served {
    /// It calls, or is called.
    No,
    /// Viewers ask for a description first.
    OnRequest,
    /// Its name is offered once there is a picture.
    ByName,
}

impl Served {
    const fn of(link: &Link) -> Self {
        match link {
            Link::Rtsp(_) => Self::OnRequest,
            Link::Stave(_) => Self::ByName,
            _ => Self::No,
        }
    }
}

struct Inner {
    name: String,
    started_ms: u64,
    lines: Vec<LineRun>,
    /// Number of each line's sub stream.
    subs: Vec<u32>,
    feeds: Vec<FeedRun>,
    view: Mutex<ShowView>,
    events: EventLog,
    stop: watch::Sender<bool>,
    /// Ways in that play to an end and have ended.
    tasks: Mutex<Vec<JoinHandle<()>>>,
    inputs: Mutex<Vec<InputView>>,
    judged: watch::Sender<u64>,
    sampler: Mutex<Option<(watch::Sender<bool>, JoinHandle<()>)>>,
}

/// A running show. Clones are the same show.
#[derive(Clone)]
pub struct Show(Arc<Inner>);

impl Show {
    /// Brings up everything on the sheet. Relative paths count from `base`, the sheet's folder.
    ///
    /// # Errors
    /// A port, a file or a passphrase cannot be had: all that failed, none of it half-started.
    pub async fn start(sheet: &Sheet, base: &Path) -> Result<Self, WayError> {
        Self::start_gated(sheet, base, &Stop::given()).await
    }

    /// As `start`; files begin to play when `gate` is given.
    ///
    /// # Errors
    /// As `start`.
    pub async fn start_gated(sheet: &Sheet, base: &Path, gate: &Stop) -> Result<Self, WayError> {
        let (stop_tx, stop) = Stop::new();
        let built = plan::bring_up(sheet, base, &stop, gate).await?;
        let lines: Vec<_> = sheet
            .lines
            .iter()
            .zip(&built.lines)
            .map(|(l, b)| LineRun {
                name: l.name.clone(),
                plays_once: matches!(&l.from, Link::File(f) if !f.repeat),
                status: b.status.clone(),
                media: b.media.clone(),
            })
            .collect();
        let feeds = sheet
            .feeds
            .iter()
            .zip(&built.feeds)
            .map(|(f, b)| FeedRun {
                name: f.name.clone(),
                outs: b.outs.iter().map(|o| (o.status.clone(), Served::of(&o.link))).collect(),
                media: b.media.clone(),
                sub: b.sub.clone(),
            })
            .collect();
        let show = Self(Arc::new(Inner {
            name: sheet.show.name.clone(),
            started_ms: unix_ms(),
            subs: (0..lines.len()).map(|n| plan::sub_of(sheet, n)).collect(),
            lines,
            feeds,
            view: Mutex::default(),
            events: EventLog::new(),
            stop: stop_tx,
            tasks: Mutex::new(built.tasks),
            inputs: Mutex::default(),
            judged: watch::channel(0).0,
            sampler: Mutex::default(),
        }));
        if let Some((granted, wanted)) = choir_host::udp::granted_receive_buffer() {
            let text = format!(
                "the system grants {} KiB of receive buffer, {} KiB were asked for: raise net.core.rmem_max for many links",
                granted / 1024,
                wanted / 1024
            );
            show.0.events.add("this machine", EventGrade::Note, text);
        }
        let line_names: Vec<String> = sheet.lines.iter().map(|l| l.name.clone()).collect();
        let line_samplers = sheet.lines.iter().zip(built.lines).map(|(l, b)| LineSampler::new(l, b)).collect();
        let feed_samplers =
            sheet.feeds.iter().zip(built.feeds).map(|(f, b)| FeedSampler::new(f, b, line_names.clone(), built.statuses.clone())).collect();
        let mut sampler = Sampler { show: show.clone(), lines: line_samplers, feeds: feed_samplers, started: Instant::now() };
        sampler.sample();
        let (judge_no_more, mut last) = Stop::new();
        let task = tokio::spawn(async move {
            let mut tick = tokio::time::interval(SAMPLE_EVERY);
            loop {
                tokio::select! {
                    _ = tick.tick() => sampler.sample(),
                    () = last.wait() => return sampler.sample(),
                }
            }
        });
        *lock(&show.0.sampler) = Some((judge_no_more, task));
        Ok(show)
    }

    /// The show at this moment (judged at most half a second ago).
    #[must_use]
    pub fn view(&self) -> ShowView {
        let mut view = lock(&self.0.view).clone();
        view.now_ms = unix_ms();
        view.events = self.0.events.latest();
        view.inputs = lock(&self.0.inputs).clone();
        view
    }

    /// Sets what stand-ins at the far ends measured.
    pub fn set_inputs(&self, inputs: Vec<InputView>) {
        *lock(&self.0.inputs) = inputs;
    }

    /// Events after number `after`.
    #[must_use]
    pub fn events_after(&self, after: u64) -> Vec<EventView> {
        self.0.events.after(after)
    }

    /// Changes whenever an event is added: await it, then ask for them.
    #[must_use]
    pub fn event_bell(&self) -> watch::Receiver<u64> {
        self.0.events.bell()
    }

    /// Changes whenever the show has been judged anew.
    #[must_use]
    pub fn view_bell(&self) -> watch::Receiver<u64> {
        self.0.judged.subscribe()
    }

    fn line(&self, name: &str) -> Result<usize, String> {
        let names: Vec<&str> = self.0.lines.iter().map(|l| l.name.as_str()).collect();
        names.iter().position(|n| *n == name).ok_or_else(|| format!("there is no line \"{name}\". {}", did_you_mean(name, &names)))
    }

    /// Puts another line on a feed, at that line's next keyframe, which is asked for where the source can be asked.
    ///
    /// # Errors
    /// No such feed or line, as a sentence.
    pub fn take(&self, feed: &str, line: &str) -> Result<String, String> {
        let names: Vec<&str> = self.0.feeds.iter().map(|f| f.name.as_str()).collect();
        let found = self.0.feeds.iter().find(|f| f.name == feed);
        let found = found.ok_or_else(|| format!("there is no feed \"{feed}\". {}", did_you_mean(feed, &names)))?;
        let index = self.line(line)?;
        found.media.take(index as u32);
        if let Some(sub) = &found.sub {
            sub.take(self.0.subs[index]);
            if let Some(small) = self.0.lines.get(self.0.subs[index] as usize) {
                small.status.ask_keyframe();
            }
        }
        let asked = if self.0.lines[index].status.ask_keyframe() { ", which is asked for" } else { "" };
        let text = format!("take requested: {line}; waiting for its next keyframe{asked}");
        self.0.events.add(&format!("feed {feed}"), EventGrade::Note, text);
        Ok(format!("{line} goes on {feed} at its next keyframe"))
    }

    /// A line's next keyframe with some pictures behind it, to be decoded.
    ///
    /// # Errors
    /// No such line, as a sentence.
    pub fn pictures(&self, line: &str) -> Result<oneshot::Receiver<Vec<AccessUnit>>, String> {
        Ok(self.0.lines[self.line(line)?].media.pictures())
    }

    /// Examines a line's transport stream against the standard from now on, or no more; what is found stands in the view.
    ///
    /// # Errors
    /// No such line, as a sentence.
    pub fn examine(&self, line: &str, on: bool) -> Result<String, String> {
        self.0.lines[self.line(line)?].media.examine(on);
        Ok(format!("{line} is {}examined", if on { "" } else { "no longer " }))
    }

    /// Stops a line until it is released.
    ///
    /// # Errors
    /// No such line, as a sentence.
    pub fn hold(&self, line: &str) -> Result<String, String> {
        self.set_held(line, true)
    }

    /// Starts a held line again.
    ///
    /// # Errors
    /// No such line, as a sentence.
    pub fn release(&self, line: &str) -> Result<String, String> {
        self.set_held(line, false)
    }

    fn set_held(&self, line: &str, held: bool) -> Result<String, String> {
        let run = &self.0.lines[self.line(line)?];
        let word = if held { "held" } else { "released" };
        if run.status.is_held() == held {
            return Ok(format!("{line} is {word} already"));
        }
        run.status.set_held(held);
        self.0.events.add(&format!("line {line}"), EventGrade::Note, format!("{word} by the engineer"));
        Ok(format!("{line} is {word}"))
    }

    /// Waits until every line that plays a file has come to its end; for ever when there is none.
    pub async fn played_out(&self) {
        let mut any = false;
        for line in self.0.lines.iter().filter(|l| l.plays_once) {
            any = true;
            line.status.played_out().await;
        }
        if !any {
            std::future::pending::<()>().await;
        }
    }

    /// Waits until somebody is at every way out who would see a beginning: it is up, or it is served and has been asked for. A
    /// name is offered only once there is a picture, so nobody can be awaited there.
    pub async fn outs_up(&self) {
        let mut bell = self.view_bell();
        loop {
            let up = |(run, view): (&FeedRun, &FeedView)| {
                run.outs.iter().zip(&view.outs).all(|((status, served), out)| {
                    out.up_since_ms.is_some()
                        || match served {
                            Served::No => false,
                            Served::OnRequest => status.is_asked_for(),
                            Served::ByName => true,
                        }
                })
            };
            if self.0.feeds.iter().zip(&lock(&self.0.view).feeds).all(up) || bell.changed().await.is_err() {
                return;
            }
        }
    }

    /// Ends every way in and out, after saying goodbye to the other ends. The view stays as it was last, with
    /// all counters final.
    pub async fn stop(&self) {
        let _ = self.0.stop.send(true);
        self.wait_tasks(STOP_PATIENCE).await;
        let sampler = lock(&self.0.sampler).take();
        if let Some((no_more, task)) = sampler {
            let _ = no_more.send(true);
            let _ = task.await;
        }
    }

    /// Ends the ways in, lets what is under way arrive, then ends: for sources that have an end.
    pub async fn finish(&self) {
        self.0.feeds.iter().for_each(|f| f.media.end());
        self.wait_tasks(Duration::from_secs(12)).await;
        self.stop().await;
    }

    async fn wait_tasks(&self, patience: Duration) {
        let tasks = std::mem::take(&mut *lock(&self.0.tasks));
        let mut set = JoinSet::new();
        for task in tasks {
            set.spawn(task);
        }
        let _ = tokio::time::timeout(patience, async { while set.join_next().await.is_some() {} }).await;
    }
}

struct Sampler {
    show: Show,
    lines: Vec<LineSampler>,
    feeds: Vec<FeedSampler>,
    started: Instant,
}

impl Sampler {
    fn sample(&mut self) {
        let inner = &self.show.0;
        let now = self.started.elapsed();
        let drops = choir_host::kernel::kernel_drops();
        let mut lines: Vec<_> = self.lines.iter_mut().map(|l| l.sample(now, &inner.events, &drops)).collect();
        let feeds: Vec<_> = self.feeds.iter_mut().map(|f| f.sample(now, &inner.events, &drops, &lines)).collect();
        for line in &mut lines {
            line.feeds = feeds.iter().filter(|f| f.line == line.name).map(|f| f.name.clone()).collect();
        }
        *lock(&inner.view) = ShowView {
            show: inner.name.clone(),
            pid: std::process::id(),
            started_ms: inner.started_ms,
            now_ms: unix_ms(),
            lines,
            feeds,
            ..ShowView::default()
        };
        inner.judged.send_modify(|n| *n += 1);
    }
}
