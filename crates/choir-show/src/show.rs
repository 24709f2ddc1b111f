//! A running show: every line and feed of a sheet, kept up until stopped.

use crate::{
    alarms::Desk,
    bus::{Bus, Fact},
    hold::Holdable,
    inner::{Inner, OpenError, Reports, StandIns},
    looks::Looks,
    names::Names,
    pictures::{self, LinePicture},
    side::Side,
    still::Still,
};
use choir_core::{
    command::{By, Command, Done, Refusal},
    facts::EventKind,
    id::{FeedId, LineId, Subject},
    sheet::Sheet,
    units::in_ms,
    view::{AlarmView, EventView, LineView, ShowView, TellView, ThreadView},
    words::event_words,
};
use choir_host::{Stop, clock::unix_ms, lock, udp::granted_receive_buffer};
use choir_ports::{Ports, Shard, Shards};
use choir_proto::ts::AccessUnit;
use futures_core::future::BoxFuture;
use std::{
    io,
    path::Path,
    sync::{Arc, Mutex, RwLock, Weak},
    time::{Duration, Instant},
};
use tokio::{
    sync::{Notify, broadcast, oneshot, watch},
    time::MissedTickBehavior,
};

/// The grid of all measurement.
const TICK: Duration = Duration::from_secs(1);
/// How often silence is looked for.
const GLANCE: Duration = Duration::from_millis(250);
/// How often it is looked whether a line must be stood in for.
const DIRECT: Duration = Duration::from_millis(50);
/// Between two pictures of one that is watched.
const LIVE: Duration = Duration::from_millis(60);
/// Shortest time between two looks at what has changed.
const LOOK: Duration = Duration::from_millis(20);
/// How long a stop waits for goodbyes.
const STOP_PATIENCE: Duration = Duration::from_secs(2);
/// How long the end of a finite source waits for what is under way.
const FINISH_PATIENCE: Duration = Duration::from_secs(12);

/// A running show. Clones are the same show.
#[derive(Clone)]
pub struct Show(pub(crate) Arc<Inner>);

impl Show {
    /// Brings up everything on the sheet. Relative paths count from `base`, the sheet's folder.
    ///
    /// # Errors
    /// A port, a file or a passphrase cannot be had: what was opened before is closed again.
    pub async fn start(sheet: &Sheet, base: &Path) -> Result<Self, OpenError> {
        Self::start_gated(sheet, base, &Stop::given()).await
    }

    /// As `start`; files begin to play when `gate` is given.
    ///
    /// # Errors
    /// As `start`.
    pub fn start_gated<'a>(sheet: &'a Sheet, base: &'a Path, gate: &'a Stop) -> BoxFuture<'a, Result<Self, OpenError>> {
        Box::pin(async move {
            let (stop, stopped) = Stop::new();
            let tally_changed: Arc<Notify> = Arc::default();
            let show = Self(Arc::new_cyclic(|own| Inner {
                own: own.clone(),
                sheet: Mutex::new(sheet.clone()),
                base: base.to_owned(),
                file: Mutex::default(),
                ports: Ports::new(base, &stopped, gate),
                node: Mutex::default(),
                lines: RwLock::default(),
                feeds: RwLock::default(),
                names: Names::default(),
                bus: Bus::new(),
                changed: Arc::default(),
                tally_changed,
                side: Side::default(),
                stopped,
                same_pictures: Mutex::default(),
                desk: Desk::default(),
                reloading: tokio::sync::Mutex::default(),
                started: Instant::now(),
                started_ms: unix_ms(),
                drops: Mutex::default(),
                view: Mutex::default(),
                rotas: Mutex::default(),
                looks: Looks::default(),
                recorder: crate::record::Recorder::default(),
                recorded_by_sheet: Mutex::default(),
                reports: Mutex::default(),
                stand_ins: Mutex::default(),
                stop,
                stop_asked: Notify::new(),
                ticker: Mutex::default(),
            }));
            show.0.bring_up(sheet).await?;
            if let Some((granted, wanted)) = granted_receive_buffer() {
                show.0.bus.event(Subject::Machine, EventKind::ReceiveBuffer { granted, wanted });
            }
            if let Err(e) = pictures::start(Arc::downgrade(&show.0), show.0.stopped.clone()) {
                tracing::warn!("no thread for pictures: {e}");
            }
            tokio::spawn(tell_changes(Arc::downgrade(&show.0), show.0.stopped.clone()));
            let (end, last) = Stop::new();
            let started = show.0.started;
            show.0.at_once(started);
            let task = tokio::spawn(run_ticker(show.clone(), started, last));
            *lock(&show.0.ticker) = Some((end, task));
            Ok(show)
        })
    }

    /// Carries out a command.
    ///
    /// # Errors
    /// Why it cannot be done.
    pub fn execute(&self, by: By, command: Command) -> BoxFuture<'_, Result<Done, Refusal>> {
        Box::pin(async move {
            match command {
                Command::Take { feed, line } => self.0.take(by, feed, line),
                Command::TakeTogether(takes) => self.0.take_together(by, takes),
                Command::Rota { name, order } => self.0.order_rota(by, &name, order),
                Command::Wall { wall, full } => self.0.show_full(by, wall, full),
                Command::Preset { device, preset } => self.go_to_preset(by, device, preset).await,
                Command::Preview { feed, line } => self.0.preview(by, feed, line),
                Command::Swap { feed } => self.0.swap(by, feed),
                Command::Hold { line, held } => self.0.hold_line(by, line, held),
                Command::HoldOuts { feed, outs, held } => self.0.hold_outs(by, feed, &outs, held).await,
                Command::Examine { line, on } => {
                    let run = self.0.line(line)?;
                    run.media.examine(on);
                    if on && run.starts_at_take() {
                        run.status.control.start();
                    }
                    Ok(Done::Examined { line, on })
                }
                Command::Record { subject, settings } => self.0.record(by, subject, &settings),
                Command::EndRecordings(subjects) => self.0.end_recordings(subjects.as_deref()).await,
                Command::Acknowledge(which) => {
                    let seen = self.0.desk.acknowledge(by, &which, &self.0.bus);
                    self.0.changed.notify_one();
                    Ok(Done::Acknowledged(seen))
                }
                Command::Reload => self.reload().await.map(Done::Reloaded),
                Command::Stop => {
                    self.0.stop_asked.notify_one();
                    Ok(Done::Stopping)
                }
            }
        })
    }

    /// Waits until somebody has commanded its end, which is for whoever runs it.
    pub async fn stop_asked(&self) {
        self.0.stop_asked.notified().await;
    }

    /// The line of this name.
    ///
    /// # Errors
    /// There is none.
    pub fn line_named(&self, name: &str) -> Result<LineId, Refusal> {
        self.0.names.find_line(name)
    }

    /// The feed of this name.
    ///
    /// # Errors
    /// There is none.
    pub fn feed_named(&self, name: &str) -> Result<FeedId, Refusal> {
        self.0.names.find_feed(name)
    }

    /// Holds or releases what is of this name: a line, the ways out of a feed, or one of them
    /// (`NAME:2`).
    ///
    /// # Errors
    /// There is none.
    pub fn hold_named(&self, name: &str, held: bool) -> Result<Command, Refusal> {
        Ok(match self.0.holdable(name)? {
            Holdable::Line(line) => Command::Hold { line, held },
            Holdable::Outs(feed, outs) => Command::HoldOuts { feed, outs, held },
        })
    }

    /// The line, else the feed, of this name.
    ///
    /// # Errors
    /// There is neither.
    pub fn subject_named(&self, name: &str) -> Result<Subject, Refusal> {
        self.0.names.find_subject(name)
    }

    /// Its alarms, and how whoever watches it is told of them.
    #[must_use]
    pub fn alarms(&self) -> (Vec<AlarmView>, TellView) {
        (self.0.desk.view(&self.0.names), self.0.desk.tell())
    }

    /// The alarms of a line, feed or network of this name, or the one of this number.
    ///
    /// # Errors
    /// There is none.
    pub fn alarms_of(&self, what: &str) -> Result<Vec<u64>, Refusal> {
        self.0.desk.of(what, self.names())
    }

    /// Looks up names.
    #[must_use]
    pub fn names(&self) -> &dyn choir_core::words::Names {
        &self.0.names
    }

    /// The show as of the last tick or change.
    #[must_use]
    pub fn view(&self) -> ShowView {
        let mut view = lock(&self.0.view).clone();
        self.add_courses(&mut view, |_| true);
        self.with_latest(view)
    }

    /// The same, with the history and the spans of these lines and feeds alone.
    #[must_use]
    pub fn look(&self, histories: &[String]) -> ShowView {
        let mut view = lock(&self.0.view).clone();
        self.add_courses(&mut view, |name| histories.iter().any(|h| h == name));
        self.with_latest(view)
    }

    /// Adds the history and the spans of lines and feeds of these names: they are put together only
    /// for whoever asks.
    fn add_courses(&self, view: &mut ShowView, wanted: impl Fn(&str) -> bool) {
        for shown in view.lines.iter_mut().filter(|l| wanted(&l.name)) {
            if let Some(line) = self.0.line_of(&shown.name) {
                (shown.history, shown.link.spans) = line.course();
            }
        }
        for shown in view.feeds.iter_mut().filter(|f| wanted(&f.name)) {
            let outs = self.0.feed_of(&shown.name).map_or_else(Vec::new, |f| f.outs());
            shown.outs.iter_mut().zip(outs).for_each(|(shown, out)| shown.spans = out.spans());
        }
    }

    fn with_latest(&self, mut view: ShowView) -> ShowView {
        view.now_ms = unix_ms();
        view.events = self.events_after(0);
        view.inputs = lock(&self.0.reports).as_ref().map_or_else(Vec::new, |reports| reports());
        view.threads = Shards::started().map(|shard| self.thread_view(shard)).collect();
        view
    }

    fn thread_view(&self, shard: &Shard) -> ThreadView {
        let late = shard.lateness();
        let names = self.names();
        ThreadView {
            name: shard.name(),
            lines: self.0.lines().iter().filter(|l| l.is_on(shard)).map(|l| names.line(l.id)).collect(),
            links: shard.links(),
            cpu_percent: shard.share() * 100.0,
            late_half_ms: in_ms(late.half),
            late_99_ms: in_ms(late.most_of_all),
            late_most_ms: in_ms(late.most),
        }
    }

    /// Adds what receivers measure to the view.
    pub fn set_reports(&self, reports: Reports) {
        *lock(&self.0.reports) = Some(reports);
    }

    /// Lets the stand-ins of a demo be changed.
    pub fn set_stand_ins(&self, stand_ins: StandIns) {
        *lock(&self.0.stand_ins) = Some(stand_ins);
    }

    /// Changes what the stand-in behind a line shows: says what it shows now.
    ///
    /// # Errors
    /// There is none, or it knows no such word.
    pub fn stand_in(&self, line: &str, word: &str) -> Result<String, String> {
        let stand_ins = lock(&self.0.stand_ins).clone();
        stand_ins.ok_or_else(|| "the lines of this show have no stand-ins: only the demo has".to_owned())?(line, word)
    }

    /// Events after number `after`, of those that are kept.
    #[must_use]
    pub fn events_after(&self, after: u64) -> Vec<EventView> {
        self.0.bus.after(after).iter().map(|e| event_view(e, self.names())).collect()
    }

    /// What happens and what is measured, from now on.
    #[must_use]
    pub fn facts(&self) -> broadcast::Receiver<Fact> {
        self.0.bus.listen()
    }

    /// A line's next keyframe with some pictures behind it, to be decoded.
    ///
    /// # Errors
    /// No such line.
    pub fn pictures(&self, line: LineId) -> Result<oneshot::Receiver<Vec<AccessUnit>>, Refusal> {
        Ok(self.0.line(line)?.media.pictures())
    }

    /// A line's newest picture, no larger than `fit`; without waiting if only one that is kept will
    /// do. Those up to 320x180 are kept.
    ///
    /// # Errors
    /// No such line.
    pub async fn picture(&self, line: LineId, fit: (usize, usize), kept: bool) -> Result<Option<LinePicture>, Refusal> {
        let line = self.0.line(line)?;
        Ok(pictures::newest(&line, fit, kept).await)
    }

    /// A line as it is now, and its newest picture, which is decoded as it comes for two seconds
    /// after it was asked for last.
    ///
    /// # Errors
    /// No such line.
    pub fn live_look(&self, line: &str, fit: (usize, usize)) -> Result<(Box<LineView>, Option<Still>), Refusal> {
        let id = self.line_named(line)?;
        let shown = lock(&self.0.view).lines.iter().find(|l| l.name == line).cloned().ok_or(Refusal::Removed)?;
        let run = self.0.line(id)?;
        let still = self.0.looks.newest(id, fit, || self.live_pictures(id, fit)).filter(|_| run.sends());
        Ok((Box::new(shown), still))
    }

    /// Every picture of a line as it comes, no larger than `fit`; each is decoded as long as the
    /// receiver is kept.
    ///
    /// # Errors
    /// The system gives no thread.
    pub fn live_pictures(&self, line: LineId, fit: (usize, usize)) -> io::Result<watch::Receiver<Option<Still>>> {
        pictures::watch(Arc::downgrade(&self.0), line, fit, LIVE)
    }

    /// Waits until every line that plays a file has come to its end; for ever when there is none.
    pub async fn played_out(&self) {
        let finite: Vec<_> = self.0.lines().into_iter().filter(|l| l.plays_once()).collect();
        for line in &finite {
            line.status.played_out().await;
        }
        if finite.is_empty() {
            std::future::pending::<()>().await;
        }
    }

    /// Waits until somebody is at every way out who would see a beginning.
    pub async fn outs_up(&self) {
        let mut facts = self.facts();
        loop {
            let up = self.0.feeds().iter().all(|f| f.outs().iter().all(|o| o.is_watched()));
            if up || !crate::bus::next(&mut facts).await {
                return;
            }
        }
    }

    /// Ends every way in and out, after saying goodbye to the other ends. The view stays as it was
    /// last, with all counters final.
    pub fn stop(&self) -> BoxFuture<'_, ()> {
        Box::pin(async move {
            self.0.stop.now();
            self.0.wait_ways(STOP_PATIENCE).await;
            let ticker = lock(&self.0.ticker).take();
            if let Some((end, task)) = ticker {
                end.now();
                let _ = task.await;
            }
        })
    }

    /// Ends the ways in, lets what is under way arrive, then ends: for sources that have an end.
    pub async fn finish(&self) {
        self.0.feeds().iter().for_each(|f| f.media.end());
        self.0.wait_ways(FINISH_PATIENCE).await;
        self.stop().await;
    }
}

/// An event as it is shown.
#[must_use]
pub fn event_view(e: &choir_core::facts::Event, names: &dyn choir_core::words::Names) -> EventView {
    EventView { number: e.number, at_ms: e.at_ms, subject: names.subject(e.subject), text: event_words(e, names), grade: e.kind.grade() }
}

/// One tick a second, on a grid; a machine that stood still has one longer tick. Between them what
/// has changed is told.
/// Tells what happens to the machine.
async fn tell_changes(show: Weak<Inner>, mut stop: Stop) {
    let mut watch = choir_host::machine::Watch::begin();
    loop {
        let change = tokio::select! {
            change = watch.next() => change,
            () = stop.wait() => return,
        };
        let Some(show) = show.upgrade() else { return };
        show.bus.event(Subject::Machine, EventKind::Machine(change));
        show.changed.notify_one();
    }
}

async fn run_ticker(show: Show, started: Instant, mut last: Stop) {
    let mut grid = tokio::time::interval_at(tokio::time::Instant::from_std(started + TICK), TICK);
    grid.set_missed_tick_behavior(MissedTickBehavior::Skip);
    let mut glances = tokio::time::interval_at(tokio::time::Instant::from_std(started + GLANCE), GLANCE);
    glances.set_missed_tick_behavior(MissedTickBehavior::Skip);
    let mut directs = tokio::time::interval_at(tokio::time::Instant::from_std(started + DIRECT), DIRECT);
    directs.set_missed_tick_behavior(MissedTickBehavior::Skip);
    let (mut number, mut before) = (0, started);
    let inner = &show.0;
    let mut tick = |inner: &Inner| {
        let now = Instant::now();
        number += 1;
        inner.tick(started, number, now - std::mem::replace(&mut before, now));
    };
    loop {
        tokio::select! {
            biased;
            () = last.wait() => return tick(inner),
            _ = grid.tick() => tick(inner),
            _ = directs.tick() => inner.direct(),
            _ = glances.tick() => {
                if inner.glance(started) {
                    inner.refresh();
                }
            }
            () = inner.changed.notified() => {
                inner.at_once(started);
                // A flood of changes must not cost a flood of looks.
                tokio::select! {
                    () = tokio::time::sleep(LOOK) => {}
                    () = last.wait() => {}
                }
            }
        }
    }
}
