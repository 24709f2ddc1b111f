use crate::facts::{Misbehaviour, Notice};
use std::fmt;

impl fmt::Display for Notice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Connected { peer, cipher, latency } => {
                let cipher = cipher.as_deref().unwrap_or("no encryption");
                write!(f, "connected with {peer}, {cipher}, latency {} ms", latency.as_millis())
            }
            Self::Publishes { from, agent } => {
                write!(f, "{from} publishes")?;
                agent.as_ref().map_or(Ok(()), |a| write!(f, " ({a})"))
            }
            Self::Taken(by) => write!(f, "{by} takes the stream"),
            Self::LeftOut { pictures, waited } => {
                let s = waited.as_secs_f64();
                write!(
                    f,
                    "the server takes it too slowly: {pictures} pictures left out that had waited {s:.1} s; the next keyframe goes on"
                )
            }
            Self::NotCarried(what) => write!(f, "{what} is not carried"),
            Self::Lost(loss) => write!(f, "lost: {loss}"),
            Self::CallerRefused(refused) => refused.fmt(f),
            Self::Network(cause) => write!(f, "network error: {cause}"),
            Self::SendFailed { to, cause } => write!(f, "cannot send to {to}: {cause}"),
            Self::MediaFrom(from) => write!(f, "receiving media from {from}"),
            Self::SenderRestarted => f.write_str("the sender has restarted: sequence numbers and clock jumped"),
            Self::DroppingDamaged => f.write_str("packets are missing: dropping damaged frames until the next keyframe"),
            Self::ClockJumped => f.write_str("timestamps: the sender's clock jumped; the jump is announced in the stream"),
            Self::PeerClockJumped { peer, ms } => {
                let (s, way) = (ms.unsigned_abs() as f64 / 1000.0, if *ms > 0 { "ahead" } else { "back" });
                write!(f, "the clock of {peer} jumped {s:.1} s {way}: its packets are timed anew; a second of media is lost or late")
            }
            Self::StampsCorrected { new, total } => write!(f, "timestamps: corrected {new}, {total} in total"),
            Self::Misbehaves(what) => what.fmt(f),
            Self::TrackIgnored { number, kind, encoding, why } => write!(f, "track {number} ({kind} {encoding}) is ignored: {why}"),
            Self::FallsBackToTcp(why) => write!(f, "{why}: asking for RTP over TCP instead"),
            Self::Redirected(url) => write!(f, "redirected to {url}"),
            Self::Served(urls) => write!(f, "viewers use {}", urls.join(" or ")),
            Self::ViewerSlow(viewer) => write!(f, "viewer {viewer} reads too slowly: dropping frames until the next keyframe"),
            Self::ViewerDropped(viewer, time) => write!(f, "viewer {viewer} disconnected: no data read for {} s", time.as_secs()),
            Self::PlayedOut => f.write_str("played to the end of the file"),
            Self::RecordingRenamed { wanted, kept } => write!(f, "{} existed: renamed to {}", wanted.display(), kept.display()),
            Self::RecordingDefect { at, what } => write!(f, "the recording has a defect at {:.1} s: {what}", at.as_secs_f64()),
            Self::Recorded { path, first: None, .. } => write!(f, "{path}: recorded without defects"),
            Self::Recorded { path, first: Some(first), more } => {
                write!(f, "{path}: recorded with defects: {first}")?;
                if *more > 0 {
                    write!(f, "; and {more} more: \"choir inspect {path}\" lists them")?;
                }
                Ok(())
            }
            Self::WritingAgain { after, lost } => {
                write!(f, "writing again after {:.1} s: {lost} pieces of the stream are missing in the file", after.as_secs_f64())
            }
            Self::GroupOutFailed { group, cause } => write!(f, "cannot send to group {group}: {cause}"),
            Self::GroupInFailed { group, cause } => write!(f, "cannot receive group {group}: {cause}; set carriage = streams"),
            Self::NameTaken { wanted, got } => write!(f, "the Stave name \"{wanted}\" is taken on this machine: offered as \"{got}\""),
            Self::MachineNameTaken { wanted, got } => {
                write!(f, "another machine is called \"{wanted}\" on Stave: this one is \"{got}\" there")
            }
            Self::NameLimit(limit) => write!(f, "limit of {limit} names reached: this one is not offered"),
            Self::ReceiverSlow(receiver) => write!(f, "receiver {receiver} reads too slowly: sending it a lower grade"),
            Self::GradeLowered { name, grade } => write!(f, "this end reads too slowly: \"{name}\" now comes in grade {grade}"),
            Self::ChannelsDropped { channels, carried } => {
                write!(f, "sound has {channels} channels: a transport stream carries the first {carried}")
            }
            Self::SeveralOffer { name, count, machine } => {
                write!(f, "{count} machines offer \"{name}\": using {machine}; set stave://MACHINE/{name} to choose")
            }
            Self::LampFailed { device, cause } => write!(f, "cannot switch the tally lamp of {device}: {cause}; retrying"),
            Self::LampFollows { device } => write!(f, "the tally lamp of {device} follows again"),
            Self::KeyframeFailed(cause) => write!(f, "cannot ask for a keyframe by ONVIF: {cause}"),
        }
    }
}

impl fmt::Display for Misbehaviour {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let seconds = |tenths: &u32| f64::from(*tenths) / 10.0;
        match self {
            Self::PayloadType { codec, arrives } => {
                write!(f, "{codec}: payload type {arrives} received, not the one described; accepted")
            }
            Self::ClockRate { percent } => {
                let word = if *percent > 0 { "fast" } else { "slow" };
                write!(f, "timestamps run {} % {word}: the sender's clock or clock rate is wrong", percent.abs())
            }
            Self::SenderReports { tenths } => {
                write!(f, "sender reports put sound {:.1} s from its arrival: ignored; sound follows its arrival", seconds(tenths))
            }
            Self::RtpInfo { tenths } => {
                write!(f, "RTP-Info puts sound {:.1} s from its arrival: ignored; sound follows its arrival", seconds(tenths))
            }
        }
    }
}
