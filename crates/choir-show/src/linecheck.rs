//! Runs a line check on a show: watches every line and way out until each is settled or the time is
//! over.

use crate::{
    Show, aside, bus,
    control::{Answer, Client, Request, act},
    still::Still,
};
use choir_core::{
    command::By,
    facts::State,
    linecheck::{Limits, Row, Seen, judge_line, judge_out},
    sheet::Sheet,
    view::{LinkView, MediaView, ShowView},
};
use choir_proto::ts::AccessUnit;
use futures_core::future::BoxFuture;
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};
use tokio::{sync::mpsc, task::JoinSet};

/// Size of the stills that are kept.
const STILL: (usize, usize) = (640, 360);
/// After this a rate holds nothing of the time before.
const SETTLE: Duration = Duration::from_millis(2500);
/// How long a line may take to give whole pictures, beyond the look.
const PICTURES: Duration = Duration::from_secs(3);
/// How often a show elsewhere is asked.
const ASK_EVERY: Duration = Duration::from_millis(500);

/// How long to look.
#[derive(Debug, Clone, Copy)]
pub struct Patience {
    /// For each line to bring its first picture.
    pub wait: Duration,
    /// At loss and headroom, once it is there.
    pub look: Duration,
}

/// The show to look at.
pub enum Watched {
    /// In this process: stills can be taken.
    Here(Show),
    /// Another process runs it.
    There(Box<Client>),
}

impl Watched {
    async fn view(&mut self) -> Option<ShowView> {
        match self {
            Self::Here(show) => Some(show.view()),
            Self::There(client) => match client.ask(&Request::View).await {
                Ok(Answer::View(view)) => Some(*view),
                _ => None,
            },
        }
    }

    /// Begins or ends the comparison of a line's stream with the standard. An older show that
    /// cannot has none.
    async fn examine(&mut self, line: &str, on: bool) {
        let request = Request::Examine { line: line.to_owned(), on };
        match self {
            Self::Here(show) => drop(act(By::CommandLine, request, show).await),
            Self::There(client) => drop(client.ask(&request).await),
        }
    }
}

/// What came of it.
#[derive(Debug, Clone, Default)]
pub struct Checked {
    /// Lines first, then each way out.
    pub rows: Vec<Row>,
    /// Stills by line.
    pub stills: BTreeMap<String, Still>,
    /// Ended by hand, or the show went away.
    pub cut_short: bool,
}

/// Gathers one link over time.
#[derive(Default)]
struct Watch {
    seen: Seen,
    /// Totals when the picture was first there: lost, missing, packets.
    since: Option<(u64, u64, u64)>,
    /// Bits of the picture and of the whole link, and the seconds they took.
    bits: (f64, f64),
    span: f64,
    last: Option<Instant>,
}

impl Watch {
    fn update(&mut self, now: Duration, link: &LinkView, media: Option<(&MediaView, Option<f64>)>, patience: &Patience) {
        let s = &mut self.seen;
        let up = link.up_since_ms.is_some() || matches!(link.state, Some(State::Steady | State::Strained));
        if up {
            s.joined.get_or_insert(now);
        }
        let before = self.last.replace(Instant::now());
        if let Some((m, delay)) = media {
            if m.size.is_some() && m.frames > 0 && m.codec.is_some() {
                s.picture.get_or_insert(now);
            }
            s.delay_ms = delay.or(s.delay_ms);
            s.media = Some(m.clone());
        } else if up && link.rate_bps > 0 {
            s.picture.get_or_insert(now);
        }
        let video: u64 = media.map_or(link.rate_bps, |(m, _)| {
            // The picture's own stream, without sound and filling.
            let picture = m.streams.iter().find(|t| t.picture).map(|t| t.rate_bps);
            picture.unwrap_or(link.rate_bps)
        });
        if s.picture.is_some() {
            let (lost, missing, packets) = *self.since.get_or_insert((link.lost, link.missing, link.packets));
            s.missing = link.missing.saturating_sub(missing);
            let came = link.packets.saturating_sub(packets) + s.missing;
            s.lost = link.lost.saturating_sub(lost) as f64 / came.max(1) as f64;
            s.headroom_ms = s.headroom_ms.into_iter().chain(link.headroom_ms).reduce(f64::min);
            let step = before.map_or(0.0, |b| b.elapsed().as_secs_f64());
            // Rates are means of the last seconds: the first ones hold the time before the picture.
            if now > s.picture.unwrap_or_default() + SETTLE.min(patience.look / 2) {
                self.bits.0 += video as f64 * step;
                self.bits.1 += link.rate_bps as f64 * step;
                self.span += step;
                s.mean_bps = (self.bits.0 / self.span.max(1e-6)) as u64;
                s.mean_link_bps = (self.bits.1 / self.span.max(1e-6)) as u64;
            }
        }
        s.link = link.clone();
        s.over = match s.picture {
            Some(at) => now >= at + patience.look,
            None => now >= patience.wait,
        };
    }
}

/// Checks these lines, and every feed that starts with one of them. Each change is told as all rows
/// so far.
pub fn check<'a>(
    sheet: &'a Sheet,
    mut watched: Watched,
    lines: &'a [String],
    limits: &'a Limits,
    patience: Patience,
    progress: mpsc::Sender<Vec<Row>>,
    mut stop: choir_host::Stop,
) -> BoxFuture<'a, Checked> {
    Box::pin(async move {
        let begun = Instant::now();
        let mut out = Checked::default();
        let mut watches = Watches::new();
        let mut taken: JoinSet<Option<(String, Vec<AccessUnit>)>> = JoinSet::new();
        let mut pictures: Vec<(String, Vec<AccessUnit>)> = Vec::new();
        let mut asked: Vec<String> = Vec::new();
        // From its first picture on: what comes before it is no part of the look.
        let mut examined: Vec<String> = Vec::new();
        let mut looked_since: Option<Duration> = None;
        let mut facts = match &watched {
            Watched::Here(show) => Some(show.facts()),
            Watched::There(_) => None,
        };
        loop {
            let Some(view) = watched.view().await else {
                out.cut_short = true;
                break;
            };
            let now = begun.elapsed();
            for line in sheet.lines.iter().filter(|l| lines.contains(&l.name)) {
                let Some(v) = view.lines.iter().find(|v| v.name == line.name) else { continue };
                let watch = watches.entry((false, line.name.clone(), 0)).or_default();
                watch.update(now, &v.link, Some((&v.media, v.delay_ms)), &patience);
                // What plays or is drawn only when wanted does so for whoever examines it.
                if (line.from.rests() || watch.seen.picture.is_some()) && !examined.contains(&line.name) {
                    examined.push(line.name.clone());
                    watched.examine(&line.name, true).await;
                }
                if watch.seen.picture.is_some()
                    && !asked.contains(&line.name)
                    && let Watched::Here(show) = &watched
                    && let Ok(pictures) = show.line_named(&line.name).and_then(|line| show.pictures(line))
                {
                    asked.push(line.name.clone());
                    let name = line.name.clone();
                    taken.spawn(async move { Some((name, pictures.await.ok()?)) });
                }
            }
            for feed in sheet.feeds.iter().filter(|f| lines.contains(&f.line)) {
                let Some(v) = view.feeds.iter().find(|v| v.name == feed.name) else { continue };
                for (n, link) in v.outs.iter().enumerate() {
                    let watch = watches.entry((true, feed.name.clone(), n)).or_default();
                    watch.update(now, link, None, &patience);
                }
            }
            let looked = watches.values().all(|w| w.seen.over);
            // A picture that never gets whole must not hold up the end.
            if looked && looked_since.get_or_insert(now).saturating_add(PICTURES) < now {
                taken.abort_all();
            }
            if looked && taken.is_empty() {
                // Only now: decoding would take from the machine what the look is to measure.
                for (name, units) in std::mem::take(&mut pictures) {
                    let still = aside::result("still", move || Still::decode(&units, Some(STILL))).await.flatten();
                    if let Some(watch) = watches.get_mut(&(false, name.clone(), 0)) {
                        watch.seen.still = still.as_ref().map(Still::shows_something);
                        watch.seen.decoded = true;
                    }
                    out.stills.extend(still.map(|s| (name, s)));
                }
                let last = rows_of(sheet, lines, &view, &watches, limits);
                out.rows.clone_from(&last);
                let _ = progress.try_send(last);
                break;
            }
            let rows = rows_of(sheet, lines, &view, &watches, limits);
            out.rows.clone_from(&rows);
            let _ = progress.try_send(rows);
            let next = async {
                match &mut facts {
                    Some(facts) => drop(bus::next(facts).await),
                    None => tokio::time::sleep(ASK_EVERY).await,
                }
            };
            tokio::select! {
                () = next => {}
                () = stop.wait() => {
                    out.cut_short = true;
                    break;
                }
                Some(done) = taken.join_next() => pictures.extend(done.ok().flatten()),
            }
        }
        for line in &examined {
            watched.examine(line, false).await;
        }
        out
    })
}

type Watches = BTreeMap<(bool, String, usize), Watch>;

/// All rows as they stand.
fn rows_of(sheet: &Sheet, lines: &[String], view: &ShowView, watches: &Watches, limits: &Limits) -> Vec<Row> {
    let seen = |out: bool, name: &str, n: usize| watches.get(&(out, name.to_owned(), n)).map(|w| &w.seen);
    let mut rows = Vec::new();
    for line in sheet.lines.iter().filter(|l| lines.contains(&l.name)) {
        rows.extend(seen(false, &line.name, 0).map(|s| judge_line(sheet, line, s, limits)));
    }
    for feed in sheet.feeds.iter().filter(|f| lines.contains(&f.line) && view.feeds.iter().any(|v| v.name == f.name)) {
        for (n, to) in feed.to.iter().enumerate() {
            rows.extend(seen(true, &feed.name, n).map(|s| judge_out(feed, &to.link, s, limits)));
        }
    }
    rows
}
