use super::count;
use crate::{
    facts::{Direction, Reason},
    units::say_duration,
};
use std::fmt;

impl fmt::Display for Reason {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Held => f.write_str("held by the engineer"),
            Self::Waiting(what) => what.fmt(f),
            Self::Joining(what) => what.fmt(f),
            Self::Lost(why) => why.fmt(f),
            Self::LineSilent => f.write_str("ready; its line is silent"),
            Self::NoMediaYet => f.write_str("connected, no media yet"),
            Self::NoMedia(time) => write!(f, "connected, no media for {}", say_duration(*time)),
            Self::MediaStopped(time) => write!(f, "connected, media stopped {} ago", say_duration(*time)),
            Self::Missing(share) => {
                write!(f, "{:.1} % of packets missing after repair: raise the latency, or find the loss", share * 100.0)
            }
            Self::MissingPackets(n) => write!(f, "{} missing after repair: raise the latency, or find the loss", count(*n, "packet")),
            Self::Unrepaired(n) => write!(f, "{} not delivered in time: raise the latency, or find the loss", count(*n, "packet")),
            Self::WindowTooSmall { dropped, window } => write!(
                f,
                "{} dropped: the far end's flow window of {window} packets is too small for this bitrate; raise it there",
                count(*dropped, "packet")
            ),
            Self::LatencyBelowRtt { rtt_ms, latency_ms } => write!(
                f,
                "RTT {rtt_ms:.0} ms exceeds latency {latency_ms:.0} ms: lost packets cannot be repaired; raise the latency above {:.0} ms",
                (rtt_ms * 1.5 / 10.0).ceil() * 10.0
            ),
            Self::Unacknowledged(ms) => write!(f, "no acknowledgement for {:.1} s: the far end receives nothing", ms / 1000.0),
            Self::NotTransportStream => f.write_str("media is not a transport stream with a programme: check what the source sends"),
            Self::NoKeyframe => f.write_str("receiving media, waiting for the first keyframe"),
            Self::NoParameterSets => {
                f.write_str("keyframes without parameter sets (SPS, PPS): no decoder can show the picture; restart the encoder's stream")
            }
            Self::HeadroomLow { ms, latency_ms } => write!(f, "headroom {ms:.0} of {latency_ms:.0} ms: raise the latency"),
            Self::Differs(mismatch) => mismatch.fmt(f),
            Self::HeavyLoss(share) => write!(f, "{:.0} % of packets lost on the path and repaired", share * 100.0),
            Self::Steady { rate, headroom_ms: Some((h, of)), .. } => write!(f, "{rate}, headroom {h:.0} of {of:.0} ms"),
            Self::Steady { rate, direction: Direction::In, .. } => write!(f, "receiving {rate}"),
            Self::Steady { rate, direction: Direction::Out, .. } => write!(f, "sending {rate}"),
        }
    }
}
