use super::{content, count};
use crate::{
    advice::say_share,
    facts::{Cause, Slow},
    units::{in_ms, say_duration},
};
use std::{fmt, time::Duration};

fn ms(d: Duration) -> String {
    format!("{:.0} ms", in_ms(d))
}

/// In tenths of a second.
fn secs(d: Duration) -> String {
    format!("{:.1} s", d.as_secs_f64())
}

impl fmt::Display for Slow {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Drops(n) => write!(f, "its system dropped {} that came faster than they were taken", count(*n, "datagram")),
            Self::Late(late) => write!(f, "packets leave it {late:.0} ms late"),
            Self::Busy(share) => write!(f, "the thread of this link takes {:.0} % of a core", share * 100.0),
        }
    }
}

impl fmt::Display for Cause {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::OwnMachine(slow) => write!(f, "this machine is too slow: {slow}; close other programs, or run fewer lines here"),
            Self::PeerGone { silent } => {
                write!(f, "the far end's program has gone, silent for {}: start it again", secs(*silent))
            }
            Self::NothingHeard { silent } => write!(
                f,
                "nothing at all comes from the far end for {}, no sign of life either: the path is cut, or the far end is off",
                secs(*silent)
            ),
            Self::EncoderStopped { silent } => {
                write!(f, "the far end is alive and sends no media for {}: check its encoder and what is plugged into it", secs(*silent))
            }
            Self::Pause { silent } => write!(f, "no packets for {}", secs(*silent)),
            Self::AnswersLost { .. } => {
                f.write_str("media comes, and our answers do not reach the far end: look for a firewall or loss on the way back")
            }
            Self::NothingArrives { unacknowledged } => write!(
                f,
                "nothing is acknowledged for {}, though the far end is heard: our way to it is cut, or it does not receive",
                secs(*unacknowledged)
            ),
            Self::LargePacketsLost { passes: Some(bytes) } => {
                write!(f, "only packets of up to {bytes} bytes pass: a part of the path has a smaller MTU; raise it there, or send smaller packets")
            }
            Self::LargePacketsLost { passes: None } => f.write_str(
                "greetings pass and no media does: packets of that size are lost on the path (MTU), or media is blocked; raise the MTU there",
            ),
            Self::PlaceTaken { from: Some(from) } => {
                write!(f, "another caller wants this place, and was turned away: {from}; give it a place of its own, or stop it")
            }
            Self::PlaceTaken { from: None } => {
                f.write_str("another caller has the place at the far end: stop it there, or use another stream ID")
            }
            Self::TwoSenders { changes } => {
                write!(f, "two senders take this place from each other, {changes} changes in 30 s: give one of them another address or stream ID")
            }
            Self::PassphraseChanged => {
                f.write_str("the passphrase fitted before and does not any more: it was changed at one end; set the same at both")
            }
            Self::KeyMissing { share } => {
                write!(f, "{} of the packets cannot be decrypted: the key did not arrive; restart the link", say_share(*share))
            }
            Self::KeyUnconfirmed { waiting } => {
                write!(f, "the far end has not confirmed a new key for {}: the old one stays in use; check that it knows key refreshes", secs(*waiting))
            }
            Self::PathFull { carries: Some(carries), set: Some(set), .. } => {
                write!(f, "the path carries {carries}, and more is sent: set the encoder to {set}")
            }
            Self::PathFull { queue, .. } => {
                write!(f, "the path is full, packets wait {} in its queue: lower the encoder's bitrate", ms(*queue))
            }
            Self::CeilingReached { ceiling } => {
                write!(f, "repeats need more than the ceiling of {ceiling} allows: raise the overhead, or lower the bitrate")
            }
            Self::PeerSlow { free } => {
                write!(f, "the far end takes what comes too slowly, it has room for {}: look at its load", count(u64::from(*free), "packet"))
            }
            Self::WindowTooSmall { window, takes } => {
                write!(f, "the far end's flow window of {window} packets is too small for this bitrate: set {takes} or more there")
            }
            Self::Outage { lasted, packets } => {
                write!(f, "the path was gone for {}: {} lost in a row", say_duration(*lasted), count(u64::from(*packets), "packet"))
            }
            Self::PeriodicBursts { period, seen } => write!(
                f,
                "packets stay away every {}, {seen} times so far: something with a clock disturbs the path, such as Wi-Fi that looks for networks",
                secs(*period)
            ),
            Self::LatencyTooSmall { latency, rtt, set } => {
                if rtt >= latency {
                    write!(f, "latency {} is below the round trip of {}: no repeat can arrive in time", ms(*latency), ms(*rtt))?;
                } else {
                    write!(f, "latency {} is too small for this path with a round trip of {}", ms(*latency), ms(*rtt))?;
                }
                match set {
                    Some(set) => write!(f, "; set {} at both ends", ms(*set)),
                    None => f.write_str("; no latency is enough for what it loses"),
                }
            }
            Self::RandomLoss { lost, burst } if *burst >= 1.5 => {
                write!(f, "{} of the packets are lost at random, {burst:.1} in a row: look at the radio link or the cable", say_share(*lost))
            }
            Self::RandomLoss { lost, .. } => {
                write!(f, "{} of the packets are lost at random: look at the radio link or the cable", say_share(*lost))
            }
            Self::Restarted { ago } => write!(f, "the far end connected anew {} ago: it was restarted, or the path was cut", say_duration(*ago)),
            Self::ClockDrift { ppm } => write!(
                f,
                "the far end's clock runs {:.0} ppm {}: sound and picture are corrected; check its clock",
                ppm.abs(),
                if *ppm > 0.0 { "slow" } else { "fast" }
            ),
            Self::Differs(mismatch) => mismatch.fmt(f),
            Self::RateFell { now, usual } => write!(f, "only {now} come where {usual} are usual: look at what the camera sees and at its encoder"),
            Self::Content(fault) => {
                let (what, remedy) = content::parts(*fault);
                write!(f, "{what}: {remedy}")
            }
            Self::SamePicture { line } => write!(f, "it carries the same picture as line {line}"),
        }
    }
}
