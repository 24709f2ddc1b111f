use super::{content, count};
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
                write!(f, "{:.1} % of packets missing after repair", share * 100.0)
            }
            Self::MissingPackets(n) => write!(f, "{} missing after repair", count(*n, "packet")),
            Self::Unrepaired(n) => write!(f, "{} not delivered in time", count(*n, "packet")),
            Self::NotTransportStream => f.write_str("media is not a transport stream with a programme: check what the source sends"),
            Self::NoKeyframe => f.write_str("receiving media, waiting for the first keyframe"),
            Self::NoParameterSets => {
                f.write_str("keyframes without parameter sets (SPS, PPS): no decoder can show the picture; restart the encoder's stream")
            }
            Self::HeadroomLow { ms, latency_ms } => write!(f, "headroom {ms:.0} of {latency_ms:.0} ms"),
            Self::Differs(mismatch) => mismatch.fmt(f),
            Self::Content(fault, lasts) => {
                let (what, remedy) = content::parts(*fault);
                write!(f, "{what} for {}: {remedy}", say_duration(*lasts))
            }
            Self::PicturesLeftOut(left, of) => write!(
                f,
                "this machine is too slow to encode it: {left} of {of} pictures left out; take a smaller size or rate, or fewer encodings"
            ),
            Self::Encoding(what) => f.write_str(what),
            Self::Cause(cause) => cause.fmt(f),
            Self::Steady { rate, headroom_ms: Some((h, of)), .. } => write!(f, "{rate}, headroom {h:.0} of {of:.0} ms"),
            Self::Steady { rate, direction: Direction::In, .. } => write!(f, "receiving {rate}"),
            Self::Steady { rate, direction: Direction::Out, .. } => write!(f, "sending {rate}"),
        }
    }
}
