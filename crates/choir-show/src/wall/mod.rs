//! A wall: a line whose picture is made of other lines.
//!
//! Lines whose pictures cost little are decoded as they come, the small picture of a line first; of
//! the others the last still is shown, which is decoded for all who look.

mod draw;

use crate::{
    encode::{Pictures, Spend},
    inner::Inner,
    line::LineRun,
    pictures,
    still::Still,
};
use choir_core::{
    command::{By, Done, Refusal},
    facts::EventKind,
    id::{LineId, Subject},
    link::{Link, WallLink},
};
use choir_host::{
    Stop,
    clock::{time_of_day, unix_ms},
    lock,
};
use choir_ports::Made;
use choir_proto::ts::{PTS_WRAP, StreamKind, TsWriter, Unit, WriterConfig};
use draw::{Cell, Layout, draw};
use std::{
    collections::HashMap,
    sync::{
        Arc, Weak,
        atomic::{AtomicBool, Ordering},
    },
    thread,
    time::{Duration, Instant},
};
use tokio::sync::watch;

/// Pixels a second that are decoded as they come: about a seventh of a core.
const LIVE_MOST: f64 = 40e6;
/// What a line takes whose size or rate is not known yet.
const LIVE_GUESS: f64 = 1280.0 * 720.0 * 25.0;
/// How often it is looked whether anybody wants it.
const REST: Duration = Duration::from_millis(50);
/// It is drawn for so long after nobody wants it any more.
const LINGER: Duration = Duration::from_secs(2);
/// Seconds from keyframe to keyframe.
const KEYFRAME: u32 = 2;

/// Draws a wall until it is told to end.
pub(crate) async fn run(show: Weak<Inner>, line: Arc<LineRun>, wall: WallLink, mut stop: Stop) {
    let ended = Arc::new(AtomicBool::new(false));
    let drawing = thread::Builder::new().name("wall".into()).spawn({
        let ended = ended.clone();
        move || {
            if let Err(cause) = play(&show, &line, &wall, &ended) {
                tracing::warn!(%cause, "the wall cannot be encoded");
            }
        }
    });
    stop.wait().await;
    ended.store(true, Ordering::Release);
    if let Ok(thread) = drawing {
        let _ = tokio::task::spawn_blocking(move || thread.join()).await;
    }
}

/// Plays it whenever it is wanted.
fn play(show: &Weak<Inner>, line: &LineRun, wall: &WallLink, ended: &AtomicBool) -> Result<(), String> {
    while !ended.load(Ordering::Acquire) {
        let Some(inner) = show.upgrade() else { break };
        let wanted = inner.is_wanted(line);
        drop(inner);
        if wanted {
            session(show, line, wall, ended)?;
        } else {
            thread::sleep(REST);
        }
    }
    Ok(())
}

/// Draws and sends it until nobody wants it any more.
fn session(show: &Weak<Inner>, line: &LineRun, wall: &WallLink, ended: &AtomicBool) -> Result<(), String> {
    let size = (wall.size.0 as usize, wall.size.1 as usize);
    let rate = f64::from(wall.rate);
    let mut pictures = Pictures::new(size, rate, u32::from(wall.rate) * KEYFRAME, Spend::Rate(wall.bitrate.0 as u32))?;
    let mut writer = TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() });
    let made = Made::begin(line.status.clone(), line.media.clone());
    let mut asked = line.status.control.keyframe_requests();
    let (start, mut watched) = (Instant::now(), HashMap::new());
    let (mut n, mut wanted_at) = (0_u64, start);
    while !ended.load(Ordering::Acquire) {
        let Some(inner) = show.upgrade() else { break };
        if inner.is_wanted(line) {
            wanted_at = Instant::now();
        } else if wanted_at.elapsed() > LINGER {
            break;
        }
        let rgb = look(&inner, line, wall, &mut watched);
        drop(inner);
        let keyframe = asked.has_changed().unwrap_or(false);
        asked.mark_unchanged();
        let (data, keyframe) = pictures.encode(&pictures.picture(&rgb), keyframe)?;
        let after = Duration::from_secs_f64(n as f64 / rate);
        let mut out = Vec::new();
        let pts = (90_000 + (after.as_secs_f64() * 90_000.0) as u64) % PTS_WRAP;
        writer.write(&Unit { video: true, pts, dts: None, keyframe, data: &[&data] }, &mut out);
        made.give(out.into());
        // A machine that is too slow leaves pictures out, and is never late.
        n = (n + 1).max((start.elapsed().as_secs_f64() * rate) as u64);
        let next = start + Duration::from_secs_f64(n as f64 / rate);
        thread::sleep(next.saturating_duration_since(Instant::now()));
    }
    made.rest();
    Ok(())
}

/// A line whose pictures are decoded as they come.
struct Watched {
    fit: (usize, usize),
    pictures: watch::Receiver<Option<Still>>,
}

/// The wall as it is now.
fn look(show: &Inner, own: &LineRun, wall: &WallLink, watched: &mut HashMap<LineId, Watched>) -> Vec<u8> {
    let full = *lock(&own.full);
    let lines: Vec<Arc<LineRun>> = match full.and_then(|id| show.line(id).ok()) {
        Some(one) => vec![one],
        None if wall.lines.is_empty() => show.lines().into_iter().filter(|l| !l.is_wall()).collect(),
        None => wall.lines.iter().filter_map(|name| show.line_of(name)).collect(),
    };
    let grid = if full.is_some() { (1, 1) } else { (usize::from(wall.grid.0), usize::from(wall.grid.1)) };
    let layout = Layout::new((wall.size.0 as usize, wall.size.1 as usize), grid);
    let lines = &lines[..lines.len().min(grid.0 * grid.1)];
    let mut cells: Vec<Cell> = {
        let view = lock(&show.view);
        let shown = |line: &Arc<LineRun>| view.lines.iter().find(|l| l.name == lock(&line.entry).name);
        lines.iter().map(|line| shown(line).map(Cell::of).unwrap_or_default()).collect()
    };
    let mut left = LIVE_MOST;
    let mut seen = Vec::new();
    for (line, cell) in lines.iter().zip(&mut cells) {
        // The small picture of it costs less, unless it is to be seen large.
        let sub = show.sub_of(line).filter(|_| full.is_none()).and_then(|id| show.line(id).ok());
        let source = sub.as_ref().unwrap_or(line);
        let cost = cost(source);
        let live = cost <= left;
        if live {
            left -= cost;
            seen.push(source.id);
        }
        let picture = if live { newest(show, source, layout.picture(), wall, watched) } else { None };
        let picture = picture.or_else(|| line.seen.taken().map(|t| (*t.still).clone()));
        // What has stopped is not shown as if it were live.
        cell.picture = picture.filter(|_| line.sends());
    }
    watched.retain(|id, _| seen.contains(id));
    let name = lock(&show.sheet).show.name.clone();
    draw(&layout, &name, &format!("{} UTC", time_of_day(unix_ms())), &cells).still.rgb
}

/// Pixels a second, as if they were H.264: H.265 takes several times as long here.
fn cost(line: &LineRun) -> f64 {
    let info = line.media.reading().info;
    let weight = if info.streams.iter().any(|s| s.kind == StreamKind::H265) { 4.0 } else { 1.0 };
    let video = info.video;
    let size = video.as_ref().and_then(|v| v.format.as_ref()).map(|f| f64::from(f.width) * f64::from(f.height));
    let rate = video.as_ref().and_then(|v| v.measured_rate).unwrap_or(25.0);
    size.map_or(LIVE_GUESS, |size| size * rate) * weight
}

fn newest(show: &Inner, line: &LineRun, fit: (usize, usize), wall: &WallLink, watched: &mut HashMap<LineId, Watched>) -> Option<Still> {
    if watched.get(&line.id).is_none_or(|w| w.fit != fit) {
        let every = Duration::from_secs(1) / u32::from(wall.rate);
        let pictures = pictures::watch(show.own.clone(), line.id, fit, every).ok()?;
        watched.insert(line.id, Watched { fit, pictures });
    }
    watched.get(&line.id)?.pictures.borrow().clone()
}

impl Inner {
    /// Shows one line alone on a wall, or all.
    pub fn show_full(&self, by: By, wall: LineId, full: Option<LineId>) -> Result<Done, Refusal> {
        let run = self.line(wall)?;
        if !run.is_wall() {
            return Err(Refusal::NoWall(lock(&run.entry).name.clone()));
        }
        if let Some(line) = full {
            self.line(line)?;
        }
        *lock(&run.full) = full;
        self.bus.event(Subject::Line(wall), EventKind::Wall { full, by });
        self.changed.notify_one();
        Ok(Done::Wall { wall, full })
    }
}

impl LineRun {
    /// Its picture is made of other lines.
    pub fn is_wall(&self) -> bool {
        matches!(lock(&self.entry).from, Link::Wall(_))
    }
}
