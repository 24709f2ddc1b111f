//! What a running show is made of, for those modules that build, follow and measure it.

use crate::{
    alarms::Desk,
    bus::{Bus, Tick},
    feed::FeedRun,
    line::LineRun,
    looks::Looks,
    media::KeptFor,
    meter::{Drops, Judged},
    names::Names,
    record::Recorder,
    side::Side,
};
use choir_core::{
    command::{By, Done, Refusal},
    content::SamePictures,
    director::Director,
    facts::EventKind,
    id::{FeedId, LineId, Subject},
    rota::Rotating,
    sheet::{Entry, Sheet},
    view::{InputView, KeyView, ShowView},
    words,
};
use choir_host::{End, Stop, clock::unix_ms, kernel::kernel_drops, lock, read};
use choir_ports::{OpenWay, Ports, WayCause, stave::Node};
use std::{
    path::PathBuf,
    sync::{Arc, Mutex, RwLock, Weak},
    time::{Duration, Instant},
};
use tokio::{
    sync::Notify,
    task::{JoinHandle, JoinSet},
};

/// An entry of the sheet that cannot be opened.
#[derive(Debug, thiserror::Error)]
#[error("{entry}: {cause}")]
pub struct OpenError {
    /// Which.
    pub entry: Entry,
    /// Why.
    pub cause: WayCause,
}

/// Takes that are to be made together wait no longer for a keyframe.
const TOGETHER: Duration = Duration::from_secs(3);

/// Measurements that receivers make of what reaches them, asked for whenever the show is looked at.
pub type Reports = Arc<dyn Fn() -> Vec<InputView> + Send + Sync>;

/// Changes what the stand-in behind a line shows, by a word: says what it shows now, or why not.
pub type StandIns = Arc<dyn Fn(&str, &str) -> Result<String, String> + Send + Sync>;

pub(crate) struct Inner {
    /// Itself, for those who look on from other threads.
    pub own: Weak<Inner>,
    pub sheet: Mutex<Sheet>,
    pub base: PathBuf,
    /// The sheet's own file, for reading it again.
    pub file: Mutex<Option<PathBuf>>,
    pub ports: Ports,
    /// This machine on Stave, when any line or feed needs it.
    pub node: Mutex<Option<Node>>,
    pub lines: RwLock<Vec<Arc<LineRun>>>,
    pub feeds: RwLock<Vec<Arc<FeedRun>>>,
    pub names: Names,
    pub bus: Bus,
    /// Notified when a way stands otherwise, has a notice, or another line is on a feed.
    pub changed: Arc<Notify>,
    /// Notified when a tally or the line on a feed changes.
    pub tally_changed: Arc<Notify>,
    pub side: Side,
    pub stopped: Stop,
    pub same_pictures: Mutex<SamePictures>,
    pub desk: Desk,
    /// One reload at a time.
    pub reloading: tokio::sync::Mutex<()>,
    /// The clock of ticks and directors begins here.
    pub started: Instant,
    pub started_ms: u64,
    /// As of the last tick: the system's table is long.
    pub drops: Mutex<Drops>,
    pub view: Mutex<ShowView>,
    pub recorder: Recorder,
    pub rotas: Mutex<Vec<Rotating>>,
    /// What is recorded since the sheet says so.
    pub recorded_by_sheet: Mutex<Vec<Subject>>,
    /// Who looks at lines from elsewhere.
    pub looks: Looks,
    pub reports: Mutex<Option<Reports>>,
    pub stand_ins: Mutex<Option<StandIns>>,
    pub stop: End,
    pub stop_asked: Notify,
    pub ticker: Mutex<Option<(End, JoinHandle<()>)>>,
}

impl Inner {
    pub fn lines(&self) -> Vec<Arc<LineRun>> {
        read(&self.lines).clone()
    }

    pub fn feeds(&self) -> Vec<Arc<FeedRun>> {
        read(&self.feeds).clone()
    }

    pub fn line(&self, id: LineId) -> Result<Arc<LineRun>, Refusal> {
        read(&self.lines).iter().find(|l| l.id == id).cloned().ok_or(Refusal::Removed)
    }

    pub fn feed(&self, id: FeedId) -> Result<Arc<FeedRun>, Refusal> {
        read(&self.feeds).iter().find(|f| f.id == id).cloned().ok_or(Refusal::Removed)
    }

    /// The line of this name.
    pub fn line_of(&self, name: &str) -> Option<Arc<LineRun>> {
        self.names.find_line(name).and_then(|id| self.line(id)).ok()
    }

    /// The feed of this name.
    pub fn feed_of(&self, name: &str) -> Option<Arc<FeedRun>> {
        self.names.find_feed(name).and_then(|id| self.feed(id)).ok()
    }

    /// The line that carries a small picture of this one.
    pub fn sub_of(&self, line: &LineRun) -> Option<LineId> {
        let sub = lock(&line.entry).sub.clone()?;
        self.names.find_line(&sub).ok()
    }

    pub fn take(&self, by: By, feed: FeedId, line: LineId) -> Result<Done, Refusal> {
        let (feed_run, line_run) = (self.feed(feed)?, self.line(line)?);
        let at_once = lock(&feed_run.entry).at_once;
        let behind = self.choose(by, &feed_run, &line_run, at_once);
        Ok(Done::TakeRequested { feed, line, behind })
    }

    /// Puts on a feed what somebody has chosen: gives by how much it is behind then.
    fn choose(&self, by: By, feed: &FeedRun, line: &LineRun, at_once: bool) -> Option<Duration> {
        *lock(&feed.director) = Some(Director::new(line.id, self.started.elapsed()));
        lock(&feed.preview).take_if(|next| *next == line.id);
        if by != By::Rota {
            self.interrupt_rotas(feed.id);
        }
        let (behind, keyframe_asked) = self.put_on(feed, line, at_once);
        self.bus.event(Subject::Feed(feed.id), EventKind::TakeRequested { line: line.id, keyframe_asked, behind, by });
        behind
    }

    /// Puts a line on a feed at its next keyframe, or from its last one if that is kept: gives by
    /// how much it is behind then, and whether its source has been asked for a keyframe.
    pub fn put_on(&self, feed: &FeedRun, line: &LineRun, at_once: bool) -> (Option<Duration>, bool) {
        if line.starts_at_take() {
            line.status.control.start();
        }
        // A clip begins with a keyframe now.
        let behind = feed.behind.put_on(&feed.media, &line.media, line.id, at_once && !line.starts_at_take());
        if let Some((sub, _)) = &feed.sub {
            let small = self.sub_of(line);
            sub.take(small);
            if let Some(small) = small.and_then(|s| self.line(s).ok()) {
                small.status.control.request_keyframe();
            }
        }
        (behind, behind.is_none() && line.status.control.request_keyframe())
    }

    /// Puts lines on feeds at the same moment: once each has sent a keyframe from now on.
    pub fn take_together(self: &Arc<Self>, by: By, takes: Vec<(FeedId, LineId)>) -> Result<Done, Refusal> {
        let runs = takes.iter().map(|(feed, line)| Ok((self.feed(*feed)?, self.line(*line)?))).collect::<Result<Vec<_>, Refusal>>()?;
        // A clip begins with a keyframe when it is taken.
        let waited: Vec<_> = runs.iter().map(|(_, line)| line).filter(|line| !line.starts_at_take()).collect();
        let keyframes: Vec<_> = waited.iter().map(|line| line.media.keyframes()).collect();
        for line in waited {
            line.media.keep_recent(KeptFor::Takes, true);
            line.status.control.request_keyframe();
        }
        let (show, mut stopped) = (Arc::downgrade(self), self.stopped.clone());
        tokio::spawn(async move {
            let all = async {
                for mut seen in keyframes {
                    // Its line may be removed meanwhile.
                    let _ = seen.changed().await;
                }
            };
            tokio::select! {
                _ = tokio::time::timeout(TOGETHER, all) => {}
                () = stopped.wait() => return,
            }
            let Some(show) = show.upgrade() else { return };
            for (feed, line) in &runs {
                show.choose(by, feed, line, true);
            }
            show.keep_groups();
            show.refresh();
        });
        Ok(Done::TakesRequested(takes))
    }

    /// It is on a feed or is to be, is recorded, or somebody looks at it: a line that plays or is
    /// drawn only then does so.
    pub fn is_wanted(&self, line: &LineRun) -> bool {
        let carries = |f: &Arc<FeedRun>| {
            let reading = f.media.reading();
            [reading.on, reading.wanted].contains(&Some(line.id))
        };
        self.feeds().iter().any(carries)
            || self.recorder.has(Subject::Line(line.id))
            || self.looks.has(line.id)
            || line.media.is_looked_into()
    }

    /// Lines keep their last group of pictures where a feed takes them at once.
    pub fn keep_groups(&self) {
        let wanted = self.feeds().iter().any(|f| lock(&f.entry).at_once);
        self.lines().iter().for_each(|line| line.media.keep_recent(KeptFor::Takes, wanted));
    }

    pub fn preview(&self, by: By, feed: FeedId, line: LineId) -> Result<Done, Refusal> {
        let line = self.line(line)?.id;
        *lock(&self.feed(feed)?.preview) = Some(line);
        self.bus.event(Subject::Feed(feed), EventKind::Previewed { line, by });
        self.changed.notify_one();
        Ok(Done::Previewed { feed, line })
    }

    pub fn swap(&self, by: By, feed: FeedId) -> Result<Done, Refusal> {
        let run = self.feed(feed)?;
        let on = lock(&run.director).as_ref().map(Director::chosen);
        let next = *lock(&run.preview);
        let line = next.ok_or_else(|| Refusal::NothingNext(lock(&run.entry).name.clone()))?;
        let done = self.take(by, feed, line)?;
        *lock(&run.preview) = on;
        Ok(done)
    }

    pub async fn wait_ways(&self, patience: Duration) {
        if self.stopped.is_set() {
            let _ = tokio::time::timeout(patience, self.end_recordings(None)).await;
        }
        let mut ways: JoinSet<()> = JoinSet::new();
        let outs = self.feeds().into_iter().flat_map(|f| f.outs());
        let open: Vec<OpenWay> =
            self.lines().iter().filter_map(|l| lock(&l.way).take()).chain(outs.filter_map(|o| lock(&o.way).take())).collect();
        open.into_iter().for_each(|way| drop(ways.spawn(way.ended())));
        if self.stopped.is_set() {
            self.side.tasks().into_iter().for_each(|task| {
                ways.spawn(async move { drop(task.await) });
            });
            if let Some(node) = lock(&self.node).take() {
                ways.spawn(async move { node.ended().await });
            }
        }
        let _ = tokio::time::timeout(patience, async { while ways.join_next().await.is_some() {} }).await;
    }

    /// Tells at once what need not wait for the end of the second.
    pub fn at_once(&self, started: Instant) {
        self.glance(started);
        self.refresh();
    }

    /// Looks for what does not wait for the end of the second and tells nobody by itself: silence.
    /// True when something says something else than before.
    pub fn glance(&self, started: Instant) -> bool {
        let now = Instant::now();
        let lines = self.lines().iter().fold(false, |other, l| l.at_once(started, now, &self.bus) | other);
        self.feeds().iter().fold(lines, |other, f| f.at_once(started, now, &self.bus) | other)
    }

    /// Makes the view anew.
    pub fn refresh(&self) {
        self.show();
        self.bus.view();
    }

    pub fn tick(&self, started: Instant, number: u64, length: Duration) {
        let now = Instant::now();
        let drops = kernel_drops();
        lock(&self.drops).clone_from(&drops);
        let mut judged: Vec<Judged> = Vec::new();
        let lines = self.lines();
        let mut same = lock(&self.same_pictures);
        for line in &lines {
            if let Some((at, glimpse)) = line.seen.take_glimpse() {
                same.note(line.id, at, glimpse);
            }
        }
        for line in &lines {
            let twin = same.twin_of(line.id).map(|other| words::Names::line(&self.names, other));
            judged.push(line.tick(started, now, twin, &drops, &self.bus));
        }
        drop(same);
        for feed in self.feeds() {
            let (outs, overdue) = feed.tick(started, now, &drops, &self.bus);
            judged.extend(outs);
            // What was asked for may not have been heard.
            if let Some(line) = overdue.and_then(|l| self.line(l).ok()) {
                line.status.control.request_keyframe();
            }
        }
        self.desk.tick(now - started, &judged, &self.bus);
        self.show();
        let ways = judged.into_iter().map(|j| (j.subject, j.tick)).collect();
        self.bus.tick(Tick { number, at_ms: unix_ms(), length, ways });
    }

    pub fn show(&self) {
        let (drops, clock) = (lock(&self.drops).clone(), self.started.elapsed());
        let mut lines: Vec<_> = self.lines().iter().map(|l| l.view(&drops)).collect();
        let feeds: Vec<_> = self.feeds().iter().map(|f| f.view(&drops, &self.names, &lines, clock)).collect();
        for line in &mut lines {
            line.full = self.line_of(&line.name).and_then(|l| *lock(&l.full)).map(|id| words::Names::line(&self.names, id));
            line.feeds = feeds.iter().filter(|f| f.line == line.name).map(|f| f.name.clone()).collect();
        }
        let (show, keys) = {
            let sheet = lock(&self.sheet);
            let keys = sheet.keys.iter().map(|k| KeyView { key: k.key.clone(), order: k.order.to_string() });
            (sheet.show.name.clone(), keys.collect())
        };
        *lock(&self.view) = ShowView {
            show,
            pid: std::process::id(),
            started_ms: self.started_ms,
            now_ms: unix_ms(),
            lines,
            feeds,
            alarms: self.desk.view(&self.names),
            tell: self.desk.tell(),
            keys,
            rotas: self.rota_views(),
            recordings: self.recorder.view(|subject| words::Names::subject(&self.names, subject)),
            ..ShowView::default()
        };
    }
}
