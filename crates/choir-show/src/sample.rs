//! Turns counters into readings, states and views, twice a second.

use crate::{
    events::EventLog,
    keyframes::LineStatuses,
    plan::{BuiltFeed, BuiltLine},
};
use choir_core::{
    health::{Contact, Health, Reading, State, Verdict},
    link::{Link, show_url},
    sheet::{Expect, Feed, Line},
    units::{Bitrate, say_duration},
    view::{EventGrade, FeedView, LineView, LinkView, MediaView, Sample, StreamView},
};
use choir_ports::{LinkStatus, Live, STARTING, defects::defect};
use choir_proto::{
    srt::LinkStats,
    ts::{MediaInfo, StreamInfo, StreamKind},
};
use std::{
    collections::{HashMap, VecDeque},
    time::Duration,
};

/// A minute of history.
const HISTORY: usize = 60;
/// Rates and loss are taken over this many half-seconds.
const SPAN: usize = 4;

/// Adds the counters of all peers and of those that have gone.
fn totals(live: &Live) -> LinkStats {
    let mut total = live.ended.clone();
    choir_ports::add_up(&mut total, &live.counters);
    for p in &live.peers {
        choir_ports::add_up(&mut total, &p.stats);
    }
    total
}

/// One counter reading.
#[derive(Debug, Clone, Default)]
struct Mark {
    at: Duration,
    bytes: u64,
    stats: LinkStats,
}

/// Judges one way in or out.
struct LinkSampler {
    url: String,
    status: std::sync::Arc<LinkStatus>,
    inbound: bool,
    marks: VecDeque<Mark>,
    health: Health,
    last_state: Option<State>,
    last_reason: String,
}

/// What the media says of itself, for the judgement.
struct MediaFacts {
    quiet: Option<Duration>,
    media_for: Duration,
    readable: bool,
    keyframe_seen: Option<bool>,
    without_sets: bool,
    differs: Option<String>,
}

impl LinkSampler {
    fn new(url: String, status: std::sync::Arc<LinkStatus>, inbound: bool) -> Self {
        Self { url, status, inbound, marks: VecDeque::new(), health: Health::default(), last_state: None, last_reason: String::new() }
    }

    fn sample(
        &mut self,
        now: Duration,
        subject: &str,
        events: &EventLog,
        drops: &HashMap<u64, u64>,
        media: Option<MediaFacts>,
    ) -> LinkView {
        let live = self.status.take();
        for (bad, text) in &live.notes {
            events.add(subject, if *bad { EventGrade::Warning } else { EventGrade::Note }, text.clone());
        }
        let stats = totals(&live);
        let bytes = if self.inbound { stats.received_bytes } else { stats.sent_bytes } + live.bytes;
        self.marks.push_back(Mark { at: now, bytes, stats: stats.clone() });
        if self.marks.len() > SPAN + 1 {
            self.marks.pop_front();
        }
        let first = self.marks.front().cloned().unwrap_or_default();
        let before = self.marks.iter().rev().nth(1).cloned().unwrap_or_else(|| first.clone());
        let seconds = (now - first.at).as_secs_f64().max(0.001);
        let rate = Bitrate(((bytes.saturating_sub(first.bytes)) as f64 * 8.0 / seconds) as u64);
        let peer = live.peers.first();
        let window = live.peers.iter().map(|p| if self.inbound { p.window.headroom_us } else { p.window.far_headroom_us });
        let headroom_us = window.flatten().min();
        let latency = peer.map(|p| if self.inbound { p.stats.receive_latency } else { p.stats.send_latency });
        let latency_ms = latency.map(|l| l.as_secs_f64() * 1000.0);
        // A way that has become shorter since the handshake leaves no more than the whole latency.
        let headroom_ms = headroom_us.map(|us| (us as f64 / 1000.0).min(latency_ms.unwrap_or(f64::MAX)));
        let since = peer.map(|p| p.since).or(live.since);
        let flow = Flow::between(&first.stats, &stats, self.inbound);
        let recent = Flow::between(&before.stats, &stats, self.inbound);
        let media = media.unwrap_or(MediaFacts {
            quiet: Some(Duration::ZERO),
            media_for: Duration::ZERO,
            readable: true,
            keyframe_seen: None,
            without_sets: false,
            differs: None,
        });
        let reading = Reading {
            contact: live.contact.clone(),
            rate,
            quiet: media.quiet,
            up_for: since.map(|s| s.0.elapsed()).unwrap_or_default(),
            media_for: media.media_for,
            outbound: !self.inbound,
            lost: flow.lost_share(),
            missing: recent.missing,
            expected: recent.packets + recent.missing,
            window: peer.map(|p| p.stats.peer_window).filter(|_| stats.window_dropped > before.stats.window_dropped),
            headroom_ms,
            latency_ms: latency_ms.unwrap_or(0.0),
            readable: media.readable,
            keyframe_seen: media.keyframe_seen,
            without_sets: media.without_sets,
            differs: media.differs,
        };
        let verdict = self.health.judge(now, &reading);
        // Its port says at once what it awaits.
        if live.contact != Contact::Awaited(STARTING.into()) {
            self.tell(subject, events, &verdict);
        }
        let kernel_drops = live.socket.and_then(|inode| drops.get(&inode)).copied().unwrap_or(0);
        let srt = self.url.starts_with("srt:");
        LinkView {
            url: self.url.clone(),
            state: Some(verdict.state),
            reason: verdict.reason,
            fault: live.fault.filter(|_| matches!(live.contact, Contact::Lost(_))),
            peer: peer.map(|p| p.addr).or(live.peer).map(|a| a.to_string()),
            how: live.how.clone(),
            paste: live.paste.clone(),
            up_since_ms: since.filter(|_| reading.contact == Contact::Up).map(|s| s.1),
            rate_bps: rate.0,
            rtt_ms: peer.map(|p| p.stats.rtt).or(live.rtt).map(|r| r.as_secs_f64() * 1000.0).filter(|r| *r > 0.0),
            lost_percent: flow.lost_share() * 100.0,
            missing_percent: flow.missing_share() * 100.0,
            packets: if self.inbound { stats.received } else { stats.sent } + live.packets,
            lost: if self.inbound { stats.lost - stats.reordered } else { stats.reported_lost },
            recovered: stats.recovered,
            missing: stats.skipped,
            resent: stats.resent,
            dropped: stats.send_dropped,
            headroom_ms,
            latency_ms,
            latency_asked: peer.map(|p| latency_sentence(&p.stats, self.inbound)),
            encryption: match (peer.and_then(|p| p.stats.key_length), live.key_state) {
                (Some(length), _) => format!("{length} secured"),
                (None, Some(state)) => state.to_string(),
                // By QUIC always, or there is no link.
                (None, None) if self.url.starts_with("stave:") => "TLS 1.3".into(),
                (None, None) if srt => "not known yet".into(),
                (None, None) => "none".into(),
            },
            kernel_drops,
        }
    }

    /// A change of state becomes an event.
    fn tell(&mut self, subject: &str, events: &EventLog, verdict: &Verdict) {
        let changed = self.last_state != Some(verdict.state);
        let broken_anew = verdict.state == State::Broken && self.last_reason != verdict.reason && self.last_state == Some(State::Broken);
        if changed {
            let grade = match verdict.state {
                State::Steady => EventGrade::Good,
                State::Strained => EventGrade::Warning,
                State::Broken => EventGrade::Trouble,
                _ => EventGrade::Note,
            };
            // What a way in waits for is worth a word at the start; a way out waits for its line.
            let quiet = if self.inbound { State::Joining } else { State::Waiting };
            if self.last_state.is_some() || verdict.state != quiet {
                events.add(subject, grade, format!("{}: {}", verdict.state, verdict.reason));
            }
        }
        if changed || broken_anew {
            self.last_state = Some(verdict.state);
            self.last_reason.clone_from(&verdict.reason);
        }
    }
}

/// What flowed between two readings.
struct Flow {
    packets: u64,
    lost: u64,
    missing: u64,
}

impl Flow {
    fn between(a: &LinkStats, b: &LinkStats, inbound: bool) -> Self {
        let d = |f: fn(&LinkStats) -> u64| f(b).saturating_sub(f(a));
        if inbound {
            Self { packets: d(|s| s.received), lost: d(|s| s.lost).saturating_sub(d(|s| s.reordered)), missing: d(|s| s.skipped) }
        } else {
            // A report is repeated until it is answered, so repeats count as loss only once sent again.
            Self { packets: d(|s| s.sent), lost: d(|s| s.resent), missing: d(|s| s.send_dropped) }
        }
    }
    fn lost_share(&self) -> f64 {
        self.lost as f64 / (self.packets + self.missing).max(1) as f64
    }
    fn missing_share(&self) -> f64 {
        self.missing as f64 / (self.packets + self.missing).max(1) as f64
    }
}

fn latency_sentence(s: &LinkStats, inbound: bool) -> String {
    let pick = |pair: (Duration, Duration)| if inbound { pair.0 } else { pair.1 }.as_millis();
    let (here, there) = (pick(s.latency_here), pick(s.latency_there));
    format!("{here} ms asked here, {there} ms there: the greater holds")
}

/// Judges one line.
pub(super) struct LineSampler {
    name: String,
    title: String,
    expect: Expect,
    /// Its pictures were taken some other day.
    recorded: bool,
    built: BuiltLine,
    link: LinkSampler,
    history: VecDeque<Sample>,
    half: Option<Sample>,
    last_totals: (u64, u64),
    /// Bytes of each stream at the last looks.
    stream_marks: VecDeque<(Duration, HashMap<u16, u64>)>,
}

impl LineSampler {
    pub fn new(line: &Line, built: BuiltLine) -> Self {
        let link = LinkSampler::new(built.url.clone(), built.status.clone(), true);
        Self {
            name: line.name.clone(),
            title: line.title.clone(),
            expect: line.expect.clone(),
            recorded: matches!(line.from, Link::File(_)),
            built,
            link,
            history: VecDeque::new(),
            half: None,
            last_totals: (0, 0),
            stream_marks: VecDeque::new(),
        }
    }

    pub fn sample(&mut self, now: Duration, events: &EventLog, drops: &HashMap<u64, u64>) -> LineView {
        let reading = self.built.media.reading();
        let info = &reading.info;
        let video = info.video.as_ref();
        let facts = MediaFacts {
            quiet: reading.last.filter(|_| reading.session == self.built.status.look().sessions).map(|t| t.elapsed()),
            media_for: reading.begun.map(|t| t.elapsed()).unwrap_or_default(),
            readable: !info.streams.is_empty(),
            keyframe_seen: video.map(|v| v.keyframes > 0),
            without_sets: video.is_some_and(|v| v.keyframes > 1 && !v.has_sets),
            differs: differs(&self.expect, info),
        };
        let link = self.link.sample(now, &format!("line {}", self.name), events, drops, Some(facts));
        let up = !matches!(link.state, Some(State::Waiting | State::Held | State::Broken));
        let delay = video.and_then(|v| v.delay_us).filter(|_| up && !self.recorded);
        self.remember(&link);
        let defects = self.built.media.findings().map(|found| found.iter().map(defect).collect());
        LineView {
            name: self.name.clone(),
            title: self.title.clone(),
            media: MediaView { streams: self.streams(now, info), defects, ..media_view(info) },
            delay_ms: delay.map(|us| us as f64 / 1000.0),
            feeds: Vec::new(),
            tally: *self.built.status.tally().borrow(),
            history: self.history.iter().copied().collect(),
            link,
        }
    }

    /// The rate of each stream over the last looks.
    fn streams(&mut self, now: Duration, info: &MediaInfo) -> Vec<StreamView> {
        self.stream_marks.push_back((now, info.streams.iter().map(|s| (s.pid, s.bytes)).collect()));
        if self.stream_marks.len() > SPAN + 1 {
            self.stream_marks.pop_front();
        }
        let (then, before) = self.stream_marks.front().cloned().unwrap_or_default();
        let seconds = (now - then).as_secs_f64().max(0.001);
        let rate = |pid: u16, bytes: u64| {
            let grown = bytes.saturating_sub(before.get(&pid).copied().unwrap_or(bytes));
            (grown as f64 * 8.0 / seconds) as u64
        };
        let view = |s: &StreamInfo| StreamView { pid: s.pid, kind: s.kind.to_string(), rate_bps: rate(s.pid, s.bytes) };
        info.streams.iter().map(view).collect()
    }

    /// Two half-seconds make one sample of the history.
    fn remember(&mut self, link: &LinkView) {
        let (lost, missing) = (link.lost, link.missing);
        let mut sample = Sample {
            rate_bps: link.rate_bps,
            headroom_ms: link.headroom_ms,
            rtt_ms: link.rtt_ms,
            lost: lost.saturating_sub(self.last_totals.0),
            missing: missing.saturating_sub(self.last_totals.1),
        };
        self.last_totals = (lost, missing);
        match self.half.take() {
            None => self.half = Some(sample),
            Some(half) => {
                sample.headroom_ms = half.headroom_ms.into_iter().chain(sample.headroom_ms).reduce(f64::min);
                sample.lost += half.lost;
                sample.missing += half.missing;
                if self.history.len() == HISTORY {
                    self.history.pop_front();
                }
                self.history.push_back(sample);
            }
        }
    }
}

fn differs(expect: &Expect, info: &MediaInfo) -> Option<String> {
    let codec = info.streams.iter().find(|s| s.kind.is_video()).map(|s| codec_word(s.kind));
    let picture = info.video.as_ref();
    let size = picture.and_then(|p| p.format.as_ref()).map(|f| (f.width, f.height));
    expect.differences(codec, size, picture.and_then(|p| p.measured_rate)).into_iter().next()
}

/// As a sheet writes it.
pub(crate) fn codec_word(kind: StreamKind) -> &'static str {
    if kind == StreamKind::H265 { "h265" } else { "h264" }
}

/// The sound of a programme, in words.
pub(crate) fn sound_words(info: &MediaInfo) -> Option<String> {
    let kind = info.streams.iter().find(|s| !s.kind.is_video())?.kind.to_string();
    Some(match info.audio {
        Some((rate, channels)) => {
            let channels = match channels {
                1 => "mono".to_owned(),
                2 => "stereo".to_owned(),
                n => format!("{n} channels"),
            };
            format!("{kind} {} kHz {channels}", f64::from(rate) / 1000.0)
        }
        None => kind,
    })
}

fn media_view(info: &MediaInfo) -> MediaView {
    let video = info.video.as_ref();
    let format = video.and_then(|v| v.format.as_ref());
    MediaView {
        codec: info.streams.iter().find(|s| s.kind.is_video()).map(|s| s.kind.to_string()),
        profile: format.map(|f| format!("{} {}", f.profile, f.level)),
        size: format.map(|f| (f.width, f.height)),
        rate: video.and_then(|v| v.measured_rate).or(format.and_then(|f| f.declared_rate)),
        keyframe_ms: video.and_then(|v| v.keyframe_ms),
        keyframe_frames: video.and_then(|v| v.keyframe_frames),
        audio: sound_words(info),
        pcr_interval_ms: info.pcr.interval_max_us as f64 / 1000.0,
        pcr_jitter_ms: info.pcr.jitter_us as f64 / 1000.0,
        continuity_errors: info.counters.continuity_errors,
        frames: video.map_or(0, |v| v.frames),
        frame: video.and_then(|v| v.stamp).and_then(|s| s.0.frame),
        streams: Vec::new(),
        defects: None,
    }
}

/// Judges one feed.
pub(super) struct FeedSampler {
    name: String,
    title: String,
    built: BuiltFeed,
    lines: Vec<String>,
    /// How each line stands.
    statuses: LineStatuses,
    outs: Vec<LinkSampler>,
    takes: u64,
    /// How long a take had waited when that was last said.
    said_waiting: Duration,
}

/// A take that waits says so again after this time, and each time it has passed once more.
const TAKE_WAITS: Duration = Duration::from_secs(10);

impl FeedSampler {
    pub fn new(feed: &Feed, built: BuiltFeed, lines: Vec<String>, statuses: LineStatuses) -> Self {
        let outs = built.outs.iter().map(|o| LinkSampler::new(show_url(&o.link), o.status.clone(), false)).collect();
        Self { name: feed.name.clone(), title: feed.title.clone(), built, lines, statuses, outs, takes: 0, said_waiting: Duration::ZERO }
    }

    pub fn sample(&mut self, now: Duration, events: &EventLog, drops: &HashMap<u64, u64>, lines: &[LineView]) -> FeedView {
        let subject = format!("feed {}", self.name);
        let reading = self.built.media.reading();
        let name = |n: u32| self.lines.get(n as usize).cloned().unwrap_or_default();
        let on = name(reading.line());
        if reading.takes > self.takes {
            self.takes = reading.takes;
            events.add(&subject, EventGrade::Good, format!("{on} is on, cut in at a keyframe"));
        }
        match reading.waits {
            Some(waits) if waits >= self.said_waiting + TAKE_WAITS => {
                self.said_waiting = waits;
                let wanted = name(reading.wanted);
                // What was asked for may not have been heard.
                if let Some(line) = self.statuses.get(reading.wanted as usize) {
                    line.ask_keyframe();
                }
                let text = format!("take of {wanted}: waiting for its keyframe for {}; {on} stays on", say_duration(waits));
                events.add(&subject, EventGrade::Warning, text);
            }
            Some(_) => {}
            None => self.said_waiting = Duration::ZERO,
        }
        let mut outs: Vec<LinkView> = self.outs.iter_mut().map(|o| o.sample(now, &subject, events, drops, None)).collect();
        for (view, built) in outs.iter_mut().zip(&self.built.outs) {
            view.dropped += built.outlet.dropped();
        }
        let line = lines.iter().find(|l| l.name == on);
        let way = outs.iter().zip(&self.built.outs).find_map(|(view, built)| way_out_ms(view, &built.link));
        let delay_to_input_ms = line.and_then(|l| l.delay_ms).zip(way).map(|(d, w)| d + w);
        FeedView {
            name: self.name.clone(),
            title: self.title.clone(),
            next: (reading.on != Some(reading.wanted) && reading.on.is_some()).then(|| name(reading.wanted)),
            line: on,
            takes: reading.takes,
            tally: self.built.outs.iter().filter_map(|o| *o.status.tally().borrow()).max(),
            outs,
            delay_to_input_ms,
        }
    }
}

/// From here to the release at the far end: time-stamped delivery makes it the way there and the latency.
fn way_out_ms(view: &LinkView, link: &Link) -> Option<f64> {
    match link {
        Link::Srt(_) => Some(view.latency_ms? + view.rtt_ms.unwrap_or(0.0) / 2.0),
        Link::Udp(_) | Link::Rtp(_) | Link::Rtsp(_) => Some(0.0),
        // A unit is handed on when it is whole; what it takes is the way's own.
        Link::Stave(_) => Some(view.rtt_ms.unwrap_or(0.0) / 2.0),
        Link::File(_) => None,
    }
}
