//! From numbers to a state: what an engineer would conclude from one second of a line or way out,
//! and from the seconds before.

use crate::{
    diagnosis::{Diagnosing, Diagnosis},
    facts::{Cause, Contact, Direction, EncodingFacts, Reading, Reason, State, WayTick},
    limits,
    units::Bitrate,
};
use std::{collections::VecDeque, time::Duration};

/// What the readings come to.
#[derive(Debug, Clone, PartialEq)]
pub struct Verdict {
    /// State.
    pub state: State,
    /// Why.
    pub reason: Reason,
    /// What is wrong, as far as it has a name: the one to fix first comes first.
    pub causes: Vec<Diagnosis>,
}

/// Judges one way, tick by tick.
#[derive(Debug, Default)]
pub struct Health {
    diagnosing: Diagnosing,
    strained_until: Option<(Duration, Reason)>,
    /// Packets missing, and expected, of the last ticks.
    missing: VecDeque<(u64, u64)>,
    /// What the last tick or contact says, before a cause is named for it.
    plain: Option<(State, Reason)>,
}

impl Health {
    /// Judges the tick that ended at `now` (any clock that only grows).
    pub fn judge(&mut self, now: Duration, r: &Reading) -> Verdict {
        let causes = self.diagnosing.note(now, r);
        let plain = self.state(now, r);
        self.told(causes, plain)
    }

    /// Judges the moment between two ticks: whether it is up, and what need not wait for the end of
    /// the second.
    pub fn glance(&mut self, now: Duration, r: &Reading) -> Verdict {
        let causes = self.diagnosing.glance(now, r);
        let last = self.plain.take().filter(|l| l.0 != State::Held);
        let plain = Self::contact(r).or(last).unwrap_or((State::Joining, Reason::NoMediaYet));
        self.told(causes, plain)
    }

    /// The cause that is named first is the reason, where the numbers alone are one.
    fn told(&mut self, causes: Vec<Diagnosis>, plain: (State, Reason)) -> Verdict {
        let (mut state, mut reason) = self.plain.insert(plain).clone();
        let first = causes.first().map(|d| &d.cause).filter(|c| !c.is_news() && !matches!(c, Cause::Content(_) | Cause::Differs(_)));
        if let Some(cause) = first {
            let silent = matches!(cause, Cause::LargePacketsLost { .. });
            if state == State::Steady || silent && state == State::Joining {
                state = State::Strained;
            }
            if matches!(state, State::Strained | State::Broken) && !matches!(reason, Reason::NotTransportStream | Reason::NoParameterSets) {
                reason = Reason::Cause(cause.clone());
            }
        }
        Verdict { state, reason, causes }
    }

    fn contact(r: &Reading) -> Option<(State, Reason)> {
        Some(match &r.contact {
            Contact::Held => (State::Held, Reason::Held),
            Contact::Waiting(what) => (State::Waiting, Reason::Waiting(what.clone())),
            Contact::Joining(what) => (State::Joining, Reason::Joining(what.clone())),
            Contact::Lost(why) => (State::Broken, Reason::Lost(why.clone())),
            Contact::Up => return None,
        })
    }

    fn state(&mut self, now: Duration, r: &Reading) -> (State, Reason) {
        if let Some(contact) = Self::contact(r) {
            self.missing.clear();
            return contact;
        }
        if let Some(media) = &r.media {
            match media.quiet {
                None if r.up_for < limits::FIRST_PICTURE => return (State::Joining, Reason::NoMediaYet),
                None => return (State::Broken, Reason::NoMedia(r.up_for)),
                Some(quiet) if quiet >= limits::SILENCE => return (State::Broken, Reason::MediaStopped(quiet)),
                Some(_) => {}
            }
        } else if r.tick.bytes == 0 {
            return (State::Waiting, Reason::LineSilent);
        }
        let trouble = Self::trouble(r);
        if let Some(share) = self.broken(&r.tick) {
            let why = Reason::Missing(share);
            self.remember(now, why.clone());
            return (State::Broken, why);
        }
        if let Some(media) = &r.media {
            let waited = media.media_for >= limits::FIRST_PICTURE;
            if !media.readable && waited {
                return (State::Broken, Reason::NotTransportStream);
            }
            if !media.readable || media.keyframe_seen == Some(false) {
                return (if waited { State::Strained } else { State::Joining }, Reason::NoKeyframe);
            }
            if media.without_sets && waited {
                return (State::Broken, Reason::NoParameterSets);
            }
        }
        if let Some(trouble) = trouble {
            self.remember(now, trouble);
        }
        match &self.strained_until {
            Some((until, why)) if now < *until => (State::Strained, why.clone()),
            _ => {
                self.strained_until = None;
                if let Some(content) = Self::content(r) {
                    return (State::Strained, content);
                }
                let headroom_ms = r.tick.headroom_ms.map(|h| h.least).zip(r.tick.latency_ms);
                let rate = Bitrate(r.tick.rate_bps());
                (State::Steady, Reason::Steady { rate, headroom_ms, direction: r.direction })
            }
        }
    }

    /// The share that is missing, where no picture can be shown with it: a bad second at once, less
    /// over a few, so that loss about the limit does not flicker.
    fn broken(&mut self, t: &WayTick) -> Option<f64> {
        if self.missing.len() == limits::BROKEN_TICKS {
            self.missing.pop_front();
        }
        self.missing.push_back((t.missing, t.packets + t.missing));
        let (missing, all) = self.missing.iter().fold((0, 0), |(m, a), (missing, all)| (m + missing, a + all));
        let mean = missing as f64 / all.max(1) as f64;
        let share = t.missing_share();
        let bad = share >= limits::BROKEN_AT_ONCE || mean >= limits::BROKEN_SHARE && t.missing > 0;
        bad.then_some(share)
    }

    fn trouble(r: &Reading) -> Option<Reason> {
        let t = &r.tick;
        if t.missing > 0 {
            return Some(if r.direction == Direction::In { Reason::MissingPackets(t.missing) } else { Reason::Unrepaired(t.missing) });
        }
        if let (Some(h), Some(latency_ms)) = (t.headroom_ms, t.latency_ms)
            && h.least < limits::headroom_ms(latency_ms)
        {
            return Some(Reason::HeadroomLow { ms: h.least, latency_ms });
        }
        if let Some(differs) = r.media.as_ref().and_then(|m| m.differs.first().cloned()) {
            return Some(Reason::Differs(differs));
        }
        match &r.around.encoding {
            Some(EncodingFacts { problem: Some(what), .. }) => return Some(Reason::Encoding(what.clone())),
            Some(EncodingFacts { made, left_out, .. }) if *left_out > 0 => {
                return Some(Reason::PicturesLeftOut(*left_out, made + left_out));
            }
            _ => {}
        }
        let media = r.media.as_ref();
        media.and_then(|m| m.quiet).filter(|_| t.bytes == 0).map(Reason::MediaStopped)
    }

    /// What does not say that the link is in trouble, only what it carries: not remembered.
    fn content(r: &Reading) -> Option<Reason> {
        let (fault, lasts) = *r.media.as_ref()?.content.first()?;
        Some(Reason::Content(fault, lasts))
    }

    fn remember(&mut self, now: Duration, why: Reason) {
        self.strained_until = Some((now + limits::MEMORY, why));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        content::ContentFault,
        facts::{Around, Loss, MediaFacts, Span, Waiting},
        model::Mismatch,
    };

    fn media() -> MediaFacts {
        MediaFacts {
            quiet: Some(Duration::from_millis(2)),
            media_for: Duration::from_secs(60),
            readable: true,
            keyframe_seen: Some(true),
            ..MediaFacts::default()
        }
    }

    fn tick() -> WayTick {
        WayTick {
            length: Duration::from_secs(1),
            bytes: 1_000_000,
            packets: 760,
            lost: 7,
            holes: 7,
            recovered: 7,
            rtt_ms: Some(20.0),
            headroom_ms: Some(Span { least: 80.0, greatest: 118.0 }),
            latency_ms: Some(120.0),
            ..WayTick::default()
        }
    }

    fn fine() -> Reading {
        Reading {
            contact: Contact::Up,
            direction: Direction::In,
            tick: tick(),
            up_for: Duration::from_secs(60),
            media: Some(media()),
            around: Around::default(),
        }
    }

    fn out(tick: WayTick) -> Reading {
        Reading { direction: Direction::Out, media: None, tick: WayTick { headroom_ms: None, ..tick }, ..fine() }
    }

    fn once(r: &Reading) -> (State, Reason) {
        let verdict = Health::default().judge(Duration::ZERO, r);
        (verdict.state, verdict.reason)
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
            (with(MediaFacts { differs: vec![differs.clone()], ..media() }), State::Strained, Reason::Differs(differs)),
            (
                with(MediaFacts { content: vec![(ContentFault::Frozen, s(4))], ..media() }),
                State::Strained,
                Reason::Content(ContentFault::Frozen, s(4)),
            ),
            (with(MediaFacts { readable: false, ..media() }), State::Broken, Reason::NotTransportStream),
            (with(MediaFacts { keyframe_seen: Some(false), ..media() }), State::Strained, Reason::NoKeyframe),
            (with(MediaFacts { keyframe_seen: Some(false), media_for: s(1), ..media() }), State::Joining, Reason::NoKeyframe),
            (with(MediaFacts { without_sets: true, ..media() }), State::Broken, Reason::NoParameterSets),
        ] {
            assert_eq!(once(&r), (state, reason), "{r:?}");
        }
    }

    #[test]
    fn a_way_out_is_judged_by_what_its_sender_knows() {
        let encoded = |left_out: u64, problem: Option<&str>| {
            let encoding = EncodingFacts { made: 25 - left_out, left_out, problem: problem.map(str::to_owned) };
            Reading { around: Around { encoding: Some(encoding), ..Around::default() }, ..out(tick()) }
        };
        for (r, state, reason) in [
            (out(tick()), State::Steady, Reason::Steady { rate: Bitrate(8_000_000), headroom_ms: None, direction: Direction::Out }),
            (out(WayTick { bytes: 0, ..tick() }), State::Waiting, Reason::LineSilent),
            (out(WayTick { missing: 3, ..tick() }), State::Strained, Reason::Unrepaired(3)),
            (encoded(13, None), State::Strained, Reason::PicturesLeftOut(13, 25)),
            (encoded(0, Some("no such file")), State::Strained, Reason::Encoding("no such file".into())),
        ] {
            assert_eq!(once(&r), (state, reason), "{r:?}");
        }
    }

    #[test]
    fn the_cause_that_is_named_first_is_the_reason() {
        let s = Duration::from_secs;
        let mut health = Health::default();
        // 1 % lost with a round trip above the latency: one state, and what to set.
        let long = out(WayTick { rtt_ms: Some(240.0), latency_ms: Some(200.0), lost: 8, holes: 8, missing: 8, ..tick() });
        let states: Vec<Verdict> = (0..20)
            .map(|n| {
                let missing = [3, 14, 8, 16, 2][n as usize % 5];
                health.judge(s(n), &Reading { tick: WayTick { missing, ..long.tick.clone() }, ..long.clone() })
            })
            .collect();
        assert!(states[1..].iter().all(|v| v.state == State::Strained), "{states:?}");
        assert!(matches!(&states[19].reason, Reason::Cause(Cause::LatencyTooSmall { set: Some(set), .. }) if *set > s(0)), "{states:?}");
        // Once the link is gone, what was wrong with it is not why.
        let lost = Loss::Reading("gone".into());
        let v = health.judge(s(20), &Reading { contact: Contact::Lost(lost.clone()), ..long.clone() });
        assert_eq!((v.state, v.reason, v.causes.len()), (State::Broken, Reason::Lost(lost), 0));
        // What is worth knowing is told, and is no trouble.
        let mut health = Health::default();
        let again = |n: u32| Reading { around: Around { sessions: n, ..Around::default() }, up_for: s(2), ..fine() };
        health.judge(s(0), &again(1));
        let v = health.judge(s(1), &again(2));
        assert!(v.state == State::Steady && matches!(v.causes[0].cause, Cause::Restarted { .. }), "{v:?}");
    }

    #[test]
    fn between_two_ticks_a_silence_is_told_and_the_rest_stays() {
        let s = Duration::from_secs;
        let mut health = Health::default();
        let silent = |ms: f64| Reading {
            tick: WayTick { silent_ms: Some(ms), data_silent_ms: Some(ms), rtt_ms: Some(20.0), ..WayTick::default() },
            ..fine()
        };
        assert_eq!(health.judge(s(1), &fine()).state, State::Steady);
        assert_eq!(health.glance(s(1), &silent(100.0)).state, State::Steady);
        let v = health.glance(s(2), &silent(700.0));
        assert_eq!((v.state, v.reason.to_string().as_str()), (State::Strained, "no packets for 0.7 s"));
        let v = health.glance(s(3), &silent(1400.0));
        assert!(v.reason.to_string().starts_with("nothing at all comes from the far end for 1.4 s"), "{v:?}");
        assert_eq!(health.glance(s(3), &silent(100.0)).state, State::Steady, "it is over");
        let v = health.glance(s(3), &Reading { contact: Contact::Held, ..fine() });
        assert_eq!(v.state, State::Held);
    }

    #[test]
    fn strain_is_remembered_for_a_few_seconds() {
        let mut health = Health::default();
        let s = Duration::from_secs;
        let bad = Reading { tick: WayTick { missing: 2, ..tick() }, ..fine() };
        assert_eq!(health.judge(s(0), &bad).state, State::Strained);
        let after: Vec<State> = (1..10).map(|n| health.judge(s(n), &fine()).state).collect();
        assert!(after[..4].iter().all(|s| *s == State::Strained) && after[6..].iter().all(|s| *s == State::Steady), "{after:?}");
    }
}
