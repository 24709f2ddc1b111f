//! From numbers to a state: what an engineer would conclude from one second of a line or way out, and from the seconds before.

use crate::{
    facts::{Contact, Direction, Reason, State, WayTick},
    limits,
    model::Mismatch,
    units::Bitrate,
};
use std::time::Duration;

/// What the media of a line shows.
#[derive(Debug, Clone, PartialEq)]
pub struct MediaFacts {
    /// Time since the last media packet; `None` before the first of this session.
    pub quiet: Option<Duration>,
    /// Time since the present source's first media.
    pub media_for: Duration,
    /// It is a transport stream with a programme.
    pub readable: bool,
    /// A keyframe has been seen; `None` without video.
    pub keyframe_seen: Option<bool>,
    /// Keyframes have come, and none with parameter sets.
    pub without_sets: bool,
    /// How it differs from what the sheet expects.
    pub differs: Option<Mismatch>,
}

/// What is known of a way in or out at the end of a tick.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// The link.
    pub contact: Contact,
    /// Which way.
    pub direction: Direction,
    /// Its last second.
    pub tick: WayTick,
    /// Time since the link came up.
    pub up_for: Duration,
    /// The media of a way in; `None` for a way out.
    pub media: Option<MediaFacts>,
}

/// What the readings come to.
#[derive(Debug, Clone, PartialEq)]
pub struct Verdict {
    /// State.
    pub state: State,
    /// Why.
    pub reason: Reason,
}

/// Judges one way, tick by tick.
#[derive(Debug, Default)]
pub struct Health {
    strained_until: Option<(Duration, Reason)>,
}

impl Health {
    /// Judges the tick that ended at `now` (any clock that only grows).
    pub fn judge(&mut self, now: Duration, r: &Reading) -> Verdict {
        let verdict = |state, reason| Verdict { state, reason };
        match &r.contact {
            Contact::Held => return verdict(State::Held, Reason::Held),
            Contact::Waiting(what) => return verdict(State::Waiting, Reason::Waiting(what.clone())),
            Contact::Joining(what) => return verdict(State::Joining, Reason::Joining(what.clone())),
            Contact::Lost(why) => return verdict(State::Broken, Reason::Lost(why.clone())),
            Contact::Up => {}
        }
        if let Some(media) = &r.media {
            match media.quiet {
                None if r.up_for < limits::FIRST_PICTURE => return verdict(State::Joining, Reason::NoMediaYet),
                None => return verdict(State::Broken, Reason::NoMedia(r.up_for)),
                Some(quiet) if quiet >= limits::SILENCE => return verdict(State::Broken, Reason::MediaStopped(quiet)),
                Some(_) => {}
            }
        } else if r.tick.bytes == 0 {
            return verdict(State::Waiting, Reason::LineSilent);
        }
        let trouble = self.trouble(r);
        if r.tick.missing_share() >= limits::BROKEN_SHARE {
            let why = match trouble {
                Some(why @ (Reason::WindowTooSmall { .. } | Reason::LatencyBelowRtt { .. })) => why,
                _ => Reason::Missing(r.tick.missing_share()),
            };
            self.remember(now, why.clone());
            return verdict(State::Broken, why);
        }
        if let Some(media) = &r.media {
            let waited = media.media_for >= limits::FIRST_PICTURE;
            if !media.readable && waited {
                return verdict(State::Broken, Reason::NotTransportStream);
            }
            if !media.readable || media.keyframe_seen == Some(false) {
                return verdict(if waited { State::Strained } else { State::Joining }, Reason::NoKeyframe);
            }
            if media.without_sets && waited {
                return verdict(State::Broken, Reason::NoParameterSets);
            }
        }
        if let Some(trouble) = trouble {
            self.remember(now, trouble);
        }
        match &self.strained_until {
            Some((until, why)) if now < *until => verdict(State::Strained, why.clone()),
            _ => {
                self.strained_until = None;
                let headroom_ms = r.tick.headroom_ms.map(|h| h.least).zip(r.tick.latency_ms);
                let rate = Bitrate(r.tick.rate_bps());
                verdict(State::Steady, Reason::Steady { rate, headroom_ms, direction: r.direction })
            }
        }
    }

    fn trouble(&self, r: &Reading) -> Option<Reason> {
        let t = &r.tick;
        if let Some(window) = t.peer_window.filter(|_| t.window_dropped > 0) {
            return Some(Reason::WindowTooSmall { dropped: t.window_dropped, window });
        }
        if let (Direction::Out, Some(latency_ms)) = (r.direction, t.latency_ms) {
            // A repair takes a round trip at least: from the report of the loss to the repeat.
            if let Some(rtt_ms) = t.rtt_ms.filter(|rtt| *rtt >= latency_ms) {
                return Some(Reason::LatencyBelowRtt { rtt_ms, latency_ms });
            }
            let overdue = latency_ms + t.rtt_ms.unwrap_or(0.0) + limits::ACK_SPARE_MS;
            if let Some(age) = t.unacknowledged_ms.filter(|age| *age > overdue) {
                return Some(Reason::Unacknowledged(age));
            }
        }
        if t.missing > 0 {
            return Some(if r.direction == Direction::In { Reason::MissingPackets(t.missing) } else { Reason::Unrepaired(t.missing) });
        }
        if let (Some(h), Some(latency_ms)) = (t.headroom_ms, t.latency_ms)
            && h.least < limits::headroom_ms(latency_ms)
        {
            return Some(Reason::HeadroomLow { ms: h.least, latency_ms });
        }
        if let Some(differs) = r.media.as_ref().and_then(|m| m.differs.clone()) {
            return Some(Reason::Differs(differs));
        }
        let media = r.media.as_ref();
        if let Some(quiet) = media.and_then(|m| m.quiet).filter(|_| t.bytes == 0) {
            return Some(Reason::MediaStopped(quiet));
        }
        (t.lost_share() >= limits::HEAVY_LOSS).then(|| Reason::HeavyLoss(t.lost_share()))
    }

    fn remember(&mut self, now: Duration, why: Reason) {
        self.strained_until = Some((now + limits::MEMORY, why));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::Span;
    use crate::facts::{Loss, Waiting};

    fn media() -> MediaFacts {
        MediaFacts {
            quiet: Some(Duration::from_millis(2)),
            media_for: Duration::from_secs(60),
            readable: true,
            keyframe_seen: Some(true),
            without_sets: false,
            differs: None,
        }
    }

    fn tick() -> WayTick {
        WayTick {
            length: Duration::from_secs(1),
            bytes: 1_000_000,
            packets: 760,
            lost: 7,
            recovered: 7,
            rtt_ms: Some(20.0),
            headroom_ms: Some(Span { least: 80.0, greatest: 118.0 }),
            latency_ms: Some(120.0),
            ..WayTick::default()
        }
    }

    fn fine() -> Reading {
        Reading { contact: Contact::Up, direction: Direction::In, tick: tick(), up_for: Duration::from_secs(60), media: Some(media()) }
    }

    fn out(tick: WayTick) -> Reading {
        Reading { direction: Direction::Out, media: None, tick: WayTick { headroom_ms: None, ..tick }, ..fine() }
    }

    fn once(r: &Reading) -> Verdict {
        Health::default().judge(Duration::ZERO, r)
    }

    #[test]
    fn every_state_has_its_reason() {
        let s = Duration::from_secs;
        let lost = Loss::Reading("it is a folder".into());
        let waits = Waiting::Packets { port: 7101 };
        let with = |m: MediaFacts| Reading { media: Some(m), ..fine() };
        let ticks = |tick: WayTick| Reading { tick, ..fine() };
        let differs = Mismatch::Size { expected: (1280, 720), receiving: (640, 360) };
        let silent = MediaFacts { quiet: Some(Duration::from_millis(1100)), ..media() };
        for (r, state, reason) in [
            (
                fine(),
                State::Steady,
                Reason::Steady { rate: Bitrate(8_000_000), headroom_ms: Some((80.0, 120.0)), direction: Direction::In },
            ),
            (Reading { contact: Contact::Held, ..fine() }, State::Held, Reason::Held),
            (Reading { contact: Contact::Lost(lost.clone()), ..fine() }, State::Broken, Reason::Lost(lost)),
            (Reading { contact: Contact::Waiting(waits.clone()), ..fine() }, State::Waiting, Reason::Waiting(waits)),
            (Reading { up_for: s(1), ..with(MediaFacts { quiet: None, ..media() }) }, State::Joining, Reason::NoMediaYet),
            (with(MediaFacts { quiet: None, ..media() }), State::Broken, Reason::NoMedia(s(60))),
            (with(MediaFacts { quiet: Some(s(3)), ..media() }), State::Broken, Reason::MediaStopped(s(3))),
            (
                Reading { tick: WayTick { bytes: 0, packets: 0, lost: 0, ..tick() }, ..with(silent) },
                State::Strained,
                Reason::MediaStopped(Duration::from_millis(1100)),
            ),
            (ticks(WayTick { missing: 40, ..tick() }), State::Broken, Reason::Missing(0.05)),
            (ticks(WayTick { missing: 1, ..tick() }), State::Strained, Reason::MissingPackets(1)),
            (
                ticks(WayTick { headroom_ms: Some(Span { least: 6.0, greatest: 90.0 }), ..tick() }),
                State::Strained,
                Reason::HeadroomLow { ms: 6.0, latency_ms: 120.0 },
            ),
            (ticks(WayTick { lost: 152, ..tick() }), State::Strained, Reason::HeavyLoss(0.2)),
            (with(MediaFacts { differs: Some(differs.clone()), ..media() }), State::Strained, Reason::Differs(differs)),
            (with(MediaFacts { readable: false, ..media() }), State::Broken, Reason::NotTransportStream),
            (with(MediaFacts { keyframe_seen: Some(false), ..media() }), State::Strained, Reason::NoKeyframe),
            (with(MediaFacts { keyframe_seen: Some(false), media_for: s(1), ..media() }), State::Joining, Reason::NoKeyframe),
            (with(MediaFacts { without_sets: true, ..media() }), State::Broken, Reason::NoParameterSets),
        ] {
            assert_eq!(once(&r), Verdict { state, reason }, "{r:?}");
        }
    }

    #[test]
    fn a_way_out_is_judged_by_what_its_sender_knows() {
        let window = WayTick { missing: 50, window_dropped: 50, peer_window: Some(16), ..tick() };
        let long = WayTick { rtt_ms: Some(240.0), latency_ms: Some(200.0), lost: 20, ..tick() };
        for (r, state, reason) in [
            (out(tick()), State::Steady, Reason::Steady { rate: Bitrate(8_000_000), headroom_ms: None, direction: Direction::Out }),
            (out(WayTick { bytes: 0, ..tick() }), State::Waiting, Reason::LineSilent),
            (out(window), State::Broken, Reason::WindowTooSmall { dropped: 50, window: 16 }),
            (out(long.clone()), State::Strained, Reason::LatencyBelowRtt { rtt_ms: 240.0, latency_ms: 200.0 }),
            // What was asked for and could not be repeated in time is lost for the picture.
            (out(WayTick { missing: 20, ..long }), State::Broken, Reason::LatencyBelowRtt { rtt_ms: 240.0, latency_ms: 200.0 }),
            (out(WayTick { missing: 3, ..tick() }), State::Strained, Reason::Unrepaired(3)),
            (out(WayTick { unacknowledged_ms: Some(700.0), ..tick() }), State::Strained, Reason::Unacknowledged(700.0)),
        ] {
            assert_eq!(once(&r), Verdict { state, reason }, "{r:?}");
        }
    }

    #[test]
    fn strain_is_remembered_for_a_few_seconds() {
        let mut health = Health::default();
        let s = Duration::from_secs;
        let bad = Reading { tick: WayTick { missing: 2, ..tick() }, ..fine() };
        assert_eq!(health.judge(s(0), &bad).state, State::Strained);
        assert_eq!(health.judge(s(4), &fine()).state, State::Strained);
        assert_eq!(health.judge(s(6), &fine()).state, State::Steady);
    }
}
