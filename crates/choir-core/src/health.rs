//! From numbers to a state: what an engineer would conclude from the readings of one line.

use crate::units::{Bitrate, say_duration};
use serde::{Deserialize, Serialize};
use std::{fmt, time::Duration};

/// State of a line, or of one way out of a feed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum State {
    /// Nobody there yet.
    Waiting,
    /// Greeting, or connected without media.
    Joining,
    /// On air.
    Steady,
    /// Works, but the numbers say it will not for long.
    Strained,
    /// Does not work.
    Broken,
    /// Stopped by the engineer.
    Held,
}

impl State {
    /// One word.
    #[must_use]
    pub const fn word(self) -> &'static str {
        match self {
            Self::Waiting => "waiting",
            Self::Joining => "joining",
            Self::Steady => "steady",
            Self::Strained => "strained",
            Self::Broken => "broken",
            Self::Held => "held",
        }
    }
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.word())
    }
}

/// What kept a link from coming up, as far as the network and the other end say.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Fault {
    /// The name cannot be looked up.
    Name,
    /// Nothing answers at all.
    Silent,
    /// The host answers, and says that nothing listens on the port.
    PortClosed,
    /// Something answers that speaks something else.
    Stranger,
    /// The passphrases differ.
    Passphrase,
    /// Only one end has a passphrase.
    OneSided,
    /// The stream ID is not known there.
    StreamId,
    /// User or password are not taken.
    Login,
    /// There is nothing under this path.
    Path,
    /// Refused for another reason.
    Refused,
    /// It was there and is gone.
    Gone,
}

/// How a link stands, apart from its media.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Contact {
    /// Held by the engineer.
    Held,
    /// Nobody has come yet; the sentence says what is awaited.
    Awaited(String),
    /// Being greeted.
    Greeting(String),
    /// Was there or should be, and is not; why.
    Lost(String),
    /// Connected.
    Up,
}

/// Readings of the last second or so.
#[derive(Debug, Clone, PartialEq)]
pub struct Reading {
    /// The link itself.
    pub contact: Contact,
    /// Media bits per second.
    pub rate: Bitrate,
    /// Time since the last media packet; `None` before the first.
    pub quiet: Option<Duration>,
    /// Time since the link came up.
    pub up_for: Duration,
    /// Time since the present source's first media.
    pub media_for: Duration,
    /// A way out, not in.
    pub outbound: bool,
    /// Share of packets missing at first, 0 to 1.
    pub lost: f64,
    /// Packets missing after recovery in this reading.
    pub missing: u64,
    /// Packets that should have come in this reading.
    pub expected: u64,
    /// The other end's flow window in packets, where that is why packets are missing.
    pub window: Option<u32>,
    /// Least headroom in this reading, ms; `None` for links without a latency budget.
    pub headroom_ms: Option<f64>,
    /// The latency it is part of, ms.
    pub latency_ms: f64,
    /// Whether the media is a transport stream with a table that can be read.
    pub readable: bool,
    /// Whether a keyframe has been seen; `None` without video.
    pub keyframe_seen: Option<bool>,
    /// Keyframes have come, and none with parameter sets.
    pub without_sets: bool,
    /// How the media differs from what the sheet expects, as a sentence.
    pub differs: Option<String>,
}

/// What the readings come to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Verdict {
    /// State.
    pub state: State,
    /// Its reason, as a sentence without a full stop.
    pub reason: String,
}

/// Media silence after which a connected line is broken.
const QUIET_LIMIT: Duration = Duration::from_secs(2);
/// Time that a fresh stream has to show its tables and first keyframe.
const FIRST_PICTURE: Duration = Duration::from_secs(5);
/// Share of packets missing after recovery at which no picture can be shown.
const BROKEN_SHARE: f64 = 0.02;
/// First-time loss that leaves no reserve.
const HEAVY_LOSS: f64 = 0.10;
/// Headroom under this part of the latency is a warning.
const HEADROOM_SHARE: f64 = 0.15;
/// How long trouble is remembered, so that a state does not flicker.
const MEMORY: Duration = Duration::from_secs(5);

/// Judges one link's readings over time.
#[derive(Debug, Default)]
pub struct Health {
    strained_until: Option<(Duration, String)>,
}

impl Health {
    /// Judges a reading taken `now` (any clock that only grows).
    pub fn judge(&mut self, now: Duration, r: &Reading) -> Verdict {
        let verdict = |state, reason: String| Verdict { state, reason };
        match &r.contact {
            Contact::Held => return verdict(State::Held, "held by the engineer".into()),
            Contact::Awaited(what) => return verdict(State::Waiting, what.clone()),
            Contact::Greeting(what) => return verdict(State::Joining, what.clone()),
            Contact::Lost(why) => return verdict(State::Broken, why.clone()),
            Contact::Up => {}
        }
        if r.outbound && r.rate.0 == 0 {
            return verdict(State::Waiting, "ready, but its line sends nothing".into());
        }
        match r.quiet {
            None if r.up_for < FIRST_PICTURE => return verdict(State::Joining, "connected, no media yet".into()),
            None => return verdict(State::Broken, format!("connected for {}, but no media has come", say_duration(r.up_for))),
            Some(quiet) if quiet >= QUIET_LIMIT => {
                return verdict(State::Broken, format!("connected, but nothing has come for {}", say_duration(quiet)));
            }
            Some(_) => {}
        }
        let share = r.missing as f64 / r.expected.max(1) as f64;
        if share >= BROKEN_SHARE {
            self.remember(now, "packets were missing after recovery".into());
            if let (Some(_), Some(why)) = (r.window, self.trouble(r)) {
                return verdict(State::Broken, why);
            }
            return verdict(State::Broken, format!("{:.1} % of packets missing after recovery", share * 100.0));
        }
        let waited = r.media_for >= FIRST_PICTURE;
        if !r.readable && waited {
            return verdict(State::Broken, "media comes, but it is no transport stream with a programme".into());
        }
        if !r.readable || r.keyframe_seen == Some(false) {
            let state = if waited { State::Strained } else { State::Joining };
            return verdict(state, "media comes, waiting for the first keyframe".into());
        }
        if r.without_sets && waited {
            let why = "keyframes come without parameter sets (SPS, PPS): no decoder can show the picture; restart the encoder's stream";
            return verdict(State::Broken, why.into());
        }
        if let Some(trouble) = self.trouble(r) {
            self.remember(now, trouble);
        }
        match &self.strained_until {
            Some((until, why)) if now < *until => verdict(State::Strained, why.clone()),
            _ => {
                self.strained_until = None;
                let reason = match r.headroom_ms {
                    Some(h) => format!("{} with {h:.0} ms of {:.0} ms in hand", r.rate, r.latency_ms),
                    None if r.outbound => format!("{} going out", r.rate),
                    None => format!("{} coming in", r.rate),
                };
                verdict(State::Steady, reason)
            }
        }
    }

    fn trouble(&self, r: &Reading) -> Option<String> {
        if let Some(window) = r.window {
            return Some(format!(
                "{} packets dropped: the other end's flow window of {window} packets is too small for this bitrate; raise it there",
                r.missing
            ));
        }
        if r.missing > 0 {
            let s = if r.missing == 1 { "" } else { "s" };
            return Some(format!("{} packet{s} missing after recovery: raise the latency or find the loss", r.missing));
        }
        if let Some(h) = r.headroom_ms
            && h < (r.latency_ms * HEADROOM_SHARE).max(5.0)
        {
            return Some(format!("only {h:.0} ms of {:.0} ms latency left: raise the latency", r.latency_ms));
        }
        if let Some(differs) = &r.differs {
            return Some(differs.clone());
        }
        (r.lost >= HEAVY_LOSS).then(|| format!("{:.0} % of packets lost on the way, repaired so far", r.lost * 100.0))
    }

    fn remember(&mut self, now: Duration, why: String) {
        self.strained_until = Some((now + MEMORY, why));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fine() -> Reading {
        Reading {
            contact: Contact::Up,
            rate: Bitrate(8_000_000),
            quiet: Some(Duration::from_millis(2)),
            up_for: Duration::from_secs(60),
            media_for: Duration::from_secs(60),
            outbound: false,
            lost: 0.01,
            missing: 0,
            expected: 760,
            window: None,
            headroom_ms: Some(80.0),
            latency_ms: 120.0,
            readable: true,
            keyframe_seen: Some(true),
            without_sets: false,
            differs: None,
        }
    }

    fn once(r: &Reading) -> Verdict {
        Health::default().judge(Duration::ZERO, r)
    }

    #[test]
    fn every_state_has_its_reason() {
        let lost = Contact::Lost("nothing heard for 5.0 s".into());
        for (r, state, says) in [
            (fine(), State::Steady, "8.0 Mbps with 80 ms of 120 ms in hand"),
            (Reading { contact: Contact::Held, ..fine() }, State::Held, "held by"),
            (Reading { contact: lost, ..fine() }, State::Broken, "nothing heard"),
            (Reading { contact: Contact::Awaited("nobody has called port 7101".into()), ..fine() }, State::Waiting, "7101"),
            (Reading { quiet: None, up_for: Duration::from_secs(1), ..fine() }, State::Joining, "no media yet"),
            (Reading { quiet: None, ..fine() }, State::Broken, "no media has come"),
            (Reading { quiet: Some(Duration::from_secs(3)), ..fine() }, State::Broken, "nothing has come for 3.0 s"),
            (Reading { missing: 50, ..fine() }, State::Broken, "6.6 % of packets missing"),
            (Reading { missing: 1, ..fine() }, State::Strained, "1 packet missing"),
            (Reading { missing: 50, window: Some(16), ..fine() }, State::Broken, "flow window of 16 packets"),
            (Reading { headroom_ms: Some(6.0), ..fine() }, State::Strained, "only 6 ms of 120 ms"),
            (Reading { lost: 0.12, ..fine() }, State::Strained, "12 % of packets lost"),
            (Reading { differs: Some("640x360 comes, 1280x720 is expected".into()), ..fine() }, State::Strained, "1280x720 is"),
            (Reading { readable: false, ..fine() }, State::Broken, "no transport stream"),
            (Reading { keyframe_seen: Some(false), ..fine() }, State::Strained, "first keyframe"),
            (Reading { keyframe_seen: Some(false), media_for: Duration::from_secs(1), ..fine() }, State::Joining, "first keyframe"),
            (Reading { without_sets: true, ..fine() }, State::Broken, "without parameter sets"),
            (Reading { headroom_ms: None, ..fine() }, State::Steady, "8.0 Mbps coming in"),
        ] {
            let v = once(&r);
            assert_eq!(v.state, state, "{r:?}");
            assert!(v.reason.contains(says), "{}", v.reason);
        }
    }

    #[test]
    fn strain_is_remembered_for_a_few_seconds() {
        let mut health = Health::default();
        let s = Duration::from_secs;
        assert_eq!(health.judge(s(0), &Reading { missing: 2, ..fine() }).state, State::Strained);
        assert_eq!(health.judge(s(4), &fine()).state, State::Strained);
        assert_eq!(health.judge(s(6), &fine()).state, State::Steady);
    }
}
