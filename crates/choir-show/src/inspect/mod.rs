//! A look of some seconds at one source: what is there, how fast, how regular, and whether its
//! stream is legal.

use crate::{
    aside,
    still::Still,
    view::{codec_word, sound_words},
};
use choir_core::{
    facts::Contact,
    link::{DEFAULT_LATENCY, Link, show_url},
    sheet::{Expect, Mismatch},
    view::{InspectView, PictureView, RatesView, StreamView},
};
use choir_host::{
    Stop,
    clock::{steady_us, steady_us_at, unix_us},
    lock,
};
use choir_ports::{Arrival, Flow, Intake, LinkStatus, StaveWay, Way, WayError, defects::defect, open_ways, stave::Node};
use choir_proto::{
    h26x::Stamp,
    mux::ToTs,
    ts::{AccessUnit, Depth, MediaInfo, Origin, PTS_WRAP, TsChecker, TsReader, wrapped_distance},
};
use std::{
    collections::VecDeque,
    path::Path,
    sync::{Arc, Mutex},
    time::Duration,
};
use tokio::sync::watch;

/// Spread of arrival that asks for a look at the network, ms.
const JITTER_LIMIT_MS: f64 = 50.0;
/// Sound and picture that arrive together may be this far apart in time, 90 kHz.
const APART_LIMIT: i64 = 90_000 / 2;

/// How to look.
#[derive(Debug, Clone, Copy)]
pub struct Look {
    /// From the first packet on.
    pub lasts: Duration,
    /// For the first packet.
    pub wait: Duration,
}

/// Takes all that comes.
struct Watcher {
    seen: Mutex<Seen>,
    begun: watch::Sender<bool>,
}

struct Seen {
    reader: TsReader,
    /// For a source that comes in units: judged is what a line makes of it.
    to_ts: ToTs,
    checker: TsChecker,
    /// UTC less the clock that arrival is told by, µs.
    utc_offset: i64,
    session: u32,
    first: Option<i64>,
    last: i64,
    bytes: u64,
    /// Arrivals of the last second, µs and bytes, and their sum.
    second: Window,
    tenth: Window,
    /// Decoding times in order of coming, and whether a picture is shown later than a later one.
    frames: u64,
    first_dts: Option<u64>,
    last_dts: Option<u64>,
    last_pts: Option<u64>,
    reordered: bool,
    keyframes: Vec<(u64, u64)>,
    numbers: Option<(u64, u64)>,
    numbered: u64,
    delays: Vec<f64>,
    apart: Option<i64>,
    restarts: u32,
    /// The first keyframe, and some pictures behind it.
    pictures: Vec<AccessUnit>,
}

/// Pictures that a decoder may want before it gives the first one.
const PICTURES: usize = 8;

/// What was found, and the first picture.
#[derive(Debug)]
pub struct Inspected {
    /// What was found.
    pub view: InspectView,
    /// None where there was none, or none that could be decoded.
    pub still: Option<Still>,
}

/// Bytes over a sliding span.
struct Window {
    span_us: i64,
    inside: VecDeque<(i64, u64)>,
    sum: u64,
    peak: u64,
}

impl Window {
    fn new(span_us: i64) -> Self {
        Self { span_us, inside: VecDeque::new(), sum: 0, peak: 0 }
    }
    fn push(&mut self, at: i64, bytes: u64) {
        self.inside.push_back((at, bytes));
        self.sum += bytes;
        while let Some(&(then, old)) = self.inside.front()
            && at - then >= self.span_us
        {
            self.sum -= old;
            self.inside.pop_front();
        }
        self.peak = self.peak.max(self.sum);
    }
    fn peak_bps(&self) -> u64 {
        self.peak * 8 * 1_000_000 / self.span_us.unsigned_abs().max(1)
    }
}

impl Watcher {
    fn new(origin: Origin) -> Arc<Self> {
        let seen = Seen {
            reader: TsReader::new(Depth::Units),
            to_ts: ToTs::default(),
            checker: TsChecker::new(origin),
            utc_offset: unix_us() - steady_us(),
            session: 0,
            first: None,
            last: 0,
            bytes: 0,
            second: Window::new(1_000_000),
            tenth: Window::new(100_000),
            frames: 0,
            first_dts: None,
            last_dts: None,
            last_pts: None,
            reordered: false,
            keyframes: Vec::new(),
            numbers: None,
            numbered: 0,
            delays: Vec::new(),
            apart: None,
            restarts: 0,
            pictures: Vec::new(),
        };
        Arc::new(Self { seen: Mutex::new(seen), begun: watch::channel(false).0 })
    }
}

impl Intake for Watcher {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let mut s = lock(&self.seen);
        arrivals.drain(..).for_each(|a| s.arrived(&a));
        drop(s);
        self.begun.send_if_modified(|b| !std::mem::replace(b, true));
    }
}

impl Seen {
    fn arrived(&mut self, arrival: &Arrival) {
        let s = self;
        let (session, now) = (arrival.session, steady_us_at(arrival.at));
        if s.session != session {
            if s.session != 0 {
                s.restarts += 1;
                s.checker.restart();
            }
            s.session = session;
            (s.reader, s.to_ts) = (TsReader::new(Depth::Units), ToTs::default());
            (s.first_dts, s.last_dts, s.last_pts, s.frames, s.numbers) = (None, None, None, 0, None);
            s.keyframes.clear();
        }
        let payload = s.to_ts.push(&arrival.media);
        s.first.get_or_insert(now);
        s.last = now;
        let size = payload.len() as u64;
        s.bytes += size;
        s.second.push(now, size);
        s.tenth.push(now, size);
        s.checker.push(&payload);
        s.reader.push(now, &payload);
        while let Some(unit) = s.reader.poll_unit() {
            s.unit(&unit);
        }
    }

    fn unit(&mut self, unit: &AccessUnit) {
        let Some(pts) = unit.pts else { return };
        if !unit.kind.is_video() {
            if let Some(picture) = self.last_pts {
                let apart = wrapped_distance(pts, picture, PTS_WRAP);
                self.apart = Some(self.apart.map_or(apart, |a| if apart.abs() > a.abs() { apart } else { a }));
            }
            return;
        }
        if self.pictures.len() < PICTURES && (unit.keyframe || !self.pictures.is_empty()) {
            self.pictures.push(unit.clone());
        }
        let dts = unit.dts.unwrap_or(pts);
        self.reordered |= unit.dts.is_some_and(|d| d != pts) || self.last_pts.is_some_and(|l| wrapped_distance(pts, l, PTS_WRAP) < 0);
        self.first_dts.get_or_insert(dts);
        (self.last_dts, self.last_pts) = (Some(dts), Some(pts));
        if unit.keyframe {
            self.keyframes.push((self.frames, dts));
        }
        self.frames += 1;
        if let Some(Stamp { unix_us, frame }) = unit.kind.find_stamp(&unit.data) {
            self.delays.push((unit.arrived + self.utc_offset - unix_us as i64) as f64 / 1000.0);
            if let Some(n) = frame {
                let first = self.numbers.map_or(n, |(f, _)| f);
                self.numbers = Some((first, n));
                self.numbered += 1;
            }
        }
    }

    fn picture(&self, info: &MediaInfo) -> Option<PictureView> {
        let kind = info.streams.iter().find(|s| s.kind.is_video())?.kind;
        let format = info.video.as_ref().and_then(|v| v.format.as_ref());
        let span = self.first_dts.zip(self.last_dts).map(|(a, b)| wrapped_distance(b, a, PTS_WRAP)).filter(|s| *s > 0);
        let steps: Vec<(u32, f64)> = self
            .keyframes
            .windows(2)
            .map(|w| ((w[1].0 - w[0].0) as u32, wrapped_distance(w[1].1, w[0].1, PTS_WRAP) as f64 / 90_000.0))
            .collect();
        let frames = steps.iter().map(|s| s.0);
        let seconds = steps.iter().map(|s| s.1);
        Some(PictureView {
            codec: kind.to_string(),
            profile: format.map(|f| f.profile.clone()),
            level: format.map(|f| f.level.clone()),
            size: format.map(|f| (f.width, f.height)),
            bit_depth: format.map(|f| f.bit_depth),
            colour: format.and_then(|f| f.colour).map(|c| c.to_string()),
            declared_rate: format.and_then(|f| f.declared_rate),
            measured_rate: span.map(|s| (self.frames - 1) as f64 * 90_000.0 / s as f64),
            frames: self.frames,
            frames_missing: self.numbers.filter(|_| self.restarts == 0).map(|(a, b)| (b + 1 - a).saturating_sub(self.numbered)),
            keyframe_frames: frames.clone().min().zip(frames.max()),
            keyframe_seconds: seconds.clone().reduce(f64::min).zip(seconds.reduce(f64::max)),
            b_pictures: self.reordered,
        })
    }

    fn problems(&self, info: &MediaInfo) -> Vec<String> {
        let mut found = Vec::new();
        match self.restarts {
            0 => {}
            1 => found.push("the source restarted during the measurement".into()),
            n => found.push(format!("the source restarted {n} times during the measurement")),
        }
        let jitter = info.pcr_worst.jitter_us as f64 / 1000.0;
        if jitter > JITTER_LIMIT_MS {
            found.push(format!("packets come up to {jitter:.0} ms earlier or later than the stream's clock says"));
        }
        if let Some(apart) = self.apart.filter(|a| a.abs() > APART_LIMIT) {
            found.push(format!("sound and picture that arrive together are {} ms apart", apart.abs() / 90));
        }
        let rates = info.video.as_ref().and_then(|v| v.format.as_ref()?.declared_rate.zip(v.measured_rate));
        if let Some((declared, measured)) = rates.filter(|(d, m)| (d - m).abs() > d * choir_core::limits::RATE_TOLERANCE) {
            found.push(format!("{declared:.2} frames per second are declared, {measured:.2} come"));
        }
        found
    }

    fn view(&self, info: &MediaInfo, expect: Option<&Expect>) -> InspectView {
        let seconds = self.first.map_or(0.0, |f| (self.last - f) as f64 / 1e6);
        let bps = |bytes: u64| if seconds > 0.0 { (bytes as f64 * 8.0 / seconds) as u64 } else { 0 };
        let mut delays = self.delays.clone();
        delays.sort_by(f64::total_cmp);
        let picture = self.picture(info);
        let kind = info.streams.iter().find(|s| s.kind.is_video()).map(|s| codec_word(s.kind));
        let differs = expect.map(|e| {
            let p = picture.as_ref();
            let mut all = e.differences(kind, p.and_then(|p| p.size), p.and_then(|p| p.measured_rate));
            if p.is_none() && (e.codec.is_some() || e.size.is_some()) {
                all.push(Mismatch::NoPicture);
            }
            all.iter().map(ToString::to_string).collect()
        });
        InspectView {
            found: self.first.is_some(),
            seconds,
            streams: info
                .streams
                .iter()
                .map(|s| StreamView { pid: s.pid, kind: s.kind.to_string(), picture: s.kind.is_video(), rate_bps: bps(s.bytes) })
                .collect(),
            picture,
            sound: sound_words(info),
            rate_bps: RatesView { mean: bps(self.bytes), peak_1s: self.second.peak_bps(), peak_100ms: self.tenth.peak_bps() },
            pcr_interval_ms: info.pcr_worst.interval_max_us as f64 / 1000.0,
            pcr_jitter_ms: info.pcr_worst.jitter_us as f64 / 1000.0,
            delay_ms: delays.first().zip(delays.last()).map(|(a, z)| (*a, delays[delays.len() / 2], *z)),
            problems: self.problems(info),
            defects: self.checker.findings().iter().map(defect).collect(),
            differs,
            ..InspectView::default()
        }
    }
}

/// Joins a source and looks at it. Relative paths count from `base`; `node` is needed for a source
/// by name.
///
/// # Errors
/// Its way in cannot be opened. A source that does not answer is no error, but not found.
pub async fn inspect(
    link: &Link,
    base: &Path,
    look: Look,
    expect: Option<&Expect>,
    node: Option<&Node>,
    stop: &Stop,
) -> Result<Inspected, WayError> {
    let origin = if matches!(link, Link::File(_)) { Origin::Start } else { Origin::Joined };
    let (watcher, status) = (Watcher::new(origin), LinkStatus::new());
    let way = Way {
        name: show_url(link),
        link: link.clone(),
        flow: Flow::In(watcher.clone()),
        status: status.clone(),
        stave: node.map(StaveWay::by),
        shard: None,
    };
    let (end, own_stop) = Stop::new();
    let tasks = open_ways(vec![way], DEFAULT_LATENCY, base, &own_stop, &Stop::given()).await?;
    let mut ended = false;
    let mut begun = watcher.begun.subscribe();
    let mut stopped = stop.clone();
    let looked = async {
        if tokio::time::timeout(look.wait, begun.wait_for(|b| *b)).await.is_ok() {
            tokio::select! {
                () = tokio::time::sleep(look.lasts) => {}
                () = status.played_out() => ended = true,
            }
        }
    };
    tokio::select! {
        () = looked => {}
        () = stopped.wait() => {}
    }
    let live = status.look();
    end.now();
    for task in tasks {
        let _ = tokio::time::timeout(Duration::from_secs(1), task.ended()).await;
    }
    let (view, pictures) = {
        let mut seen = lock(&watcher.seen);
        seen.checker.finish(ended);
        (seen.view(&seen.reader.info(), expect), std::mem::take(&mut seen.pictures))
    };
    let still = aside::result("still", move || Still::decode(&pictures, None)).await.flatten();
    let reason = match &live.contact {
        Contact::Up => "receiving media".to_owned(),
        Contact::Held => "held".into(),
        Contact::Waiting(what) => what.to_string(),
        Contact::Joining(what) => what.to_string(),
        Contact::Lost(why) => why.to_string(),
    };
    // A recording's pictures were taken some other day.
    let delay_ms = view.delay_ms.filter(|_| !matches!(link, Link::File(_)));
    let view = InspectView {
        url: show_url(link),
        delay_ms,
        reason,
        how: live.how.clone(),
        peer: live.peer.or(live.peers.first().map(|p| p.1.addr)).map(|p| p.to_string()),
        notes: live.notices().map(ToString::to_string).collect(),
        ..view
    };
    Ok(Inspected { view, still })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_peak_is_what_the_fullest_span_held() {
        let mut w = Window::new(100_000);
        for n in 0..100 {
            w.push(n * 10_000, 1000);
        }
        assert_eq!(w.peak_bps(), 10 * 1000 * 8 * 10);
        w.push(1_000_000, 50_000);
        assert_eq!(w.peak_bps(), 59_000 * 8 * 10);
    }

    #[test]
    fn nothing_is_no_stream_and_no_difference_goes_untold() {
        let watcher = Watcher::new(Origin::Joined);
        let expect = Expect { codec: Some("h264".into()), ..Expect::default() };
        let seen = lock(&watcher.seen);
        let view = seen.view(&seen.reader.info(), Some(&expect));
        assert!(!view.found && view.picture.is_none() && view.problems.is_empty());
        assert_eq!(view.differs, Some(vec!["expected a picture, receiving none".to_owned()]));
    }
}
