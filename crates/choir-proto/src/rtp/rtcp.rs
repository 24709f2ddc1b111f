//! RTCP (RFC 3550, 6): sender and receiver reports, source description, goodbye; requests for
//! keyframes (RFC 4585, RFC 5104).

use crate::bits::{be16, be32};

const SENDER_REPORT: u8 = 200;
const RECEIVER_REPORT: u8 = 201;
const DESCRIPTION: u8 = 202;
const BYE: u8 = 203;
const PAYLOAD_FEEDBACK: u8 = 206;
/// Formats of payload-specific feedback.
const PICTURE_LOSS: usize = 1;
const FULL_INTRA: usize = 4;

/// Time of day in NTP's form: seconds since 1900 in the upper half, fractions in the lower.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct NtpTime(pub u64);

/// From 1900 to 1970.
const EPOCH: u64 = 2_208_988_800;

impl NtpTime {
    /// From µs since 1970.
    #[must_use]
    pub const fn from_unix_us(us: u64) -> Self {
        let (s, rest) = (us / 1_000_000 + EPOCH, us % 1_000_000);
        Self((s << 32) | ((rest << 32) / 1_000_000))
    }
    /// µs since 1900.
    #[must_use]
    pub const fn micros(self) -> i64 {
        ((self.0 >> 32) * 1_000_000 + (((self.0 & 0xFFFF_FFFF) * 1_000_000) >> 32)) as i64
    }
    /// The middle half, as reports carry it.
    #[must_use]
    pub const fn middle(self) -> u32 {
        (self.0 >> 16) as u32
    }
}

/// What a receiver says of one sender.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct ReportBlock {
    /// The sender.
    pub ssrc: u32,
    /// Lost since the last report, of 256.
    pub fraction: u8,
    /// Lost in all, 24 bits.
    pub lost: u32,
    /// Greatest number, extended.
    pub highest: u32,
    /// Spread of arrival, in ticks.
    pub jitter: u32,
    /// Middle of the last sender report's time.
    pub last_report: u32,
    /// Since then, in 1/65536 s.
    pub since_report: u32,
}

/// One packet of a compound.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Rtcp {
    /// From a sender: its clock and counters.
    SenderReport {
        /// Who.
        ssrc: u32,
        /// Time of day there; 0 when it has none.
        ntp: NtpTime,
        /// The same moment in its ticks.
        timestamp: u32,
        /// Packets sent.
        packets: u32,
        /// Bytes of payload sent.
        bytes: u32,
        /// What it says as a receiver.
        blocks: Vec<ReportBlock>,
    },
    /// From a receiver.
    ReceiverReport {
        /// Who.
        ssrc: u32,
        /// What it says.
        blocks: Vec<ReportBlock>,
    },
    /// These leave.
    Bye(Vec<u32>),
    /// A keyframe of these is asked for.
    Keyframe(Vec<u32>),
    /// Any other, by its type.
    Other(u8),
}

/// Why a datagram is no RTCP compound.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum RtcpError {
    /// Cut short.
    #[error("the RTCP packet is shorter than it says")]
    Short,
    /// Not version 2 or not RTCP.
    #[error("this is not RTCP")]
    Version,
}

/// Reads a compound.
///
/// # Errors
/// It is cut short, or something else.
pub fn parse_rtcp(mut data: &[u8]) -> Result<Vec<Rtcp>, RtcpError> {
    let mut packets = Vec::new();
    while !data.is_empty() {
        let head: [u8; 4] = data.get(..4).and_then(|h| h.try_into().ok()).ok_or(RtcpError::Short)?;
        if head[0] >> 6 != 2 || !(192..=223).contains(&head[1]) {
            return Err(RtcpError::Version);
        }
        let size = 4 + 4 * usize::from(u16::from_be_bytes([head[2], head[3]]));
        let packet = data.get(..size).ok_or(RtcpError::Short)?;
        packets.push(parse_one(usize::from(head[0] & 31), head[1], packet).ok_or(RtcpError::Short)?);
        data = &data[size..];
    }
    Ok(packets)
}

fn parse_one(count: usize, kind: u8, p: &[u8]) -> Option<Rtcp> {
    Some(match kind {
        SENDER_REPORT => Rtcp::SenderReport {
            ssrc: be32(p, 4)?,
            ntp: NtpTime(u64::from(be32(p, 8)?) << 32 | u64::from(be32(p, 12)?)),
            timestamp: be32(p, 16)?,
            packets: be32(p, 20)?,
            bytes: be32(p, 24)?,
            blocks: blocks(p, 28, count)?,
        },
        RECEIVER_REPORT => Rtcp::ReceiverReport { ssrc: be32(p, 4)?, blocks: blocks(p, 8, count)? },
        BYE => Rtcp::Bye((0..count).map(|i| be32(p, 4 + 4 * i)).collect::<Option<_>>()?),
        PAYLOAD_FEEDBACK if count == PICTURE_LOSS => Rtcp::Keyframe(vec![be32(p, 8)?]),
        PAYLOAD_FEEDBACK if count == FULL_INTRA => {
            Rtcp::Keyframe(p.get(12..)?.chunks_exact(8).map(|entry| be32(entry, 0)).collect::<Option<_>>()?)
        }
        other => Rtcp::Other(other),
    })
}

fn blocks(p: &[u8], at: usize, count: usize) -> Option<Vec<ReportBlock>> {
    let block = |i: usize| {
        let at = at + 24 * i;
        let lost = be32(p, at + 4)?;
        Some(ReportBlock {
            ssrc: be32(p, at)?,
            fraction: (lost >> 24) as u8,
            lost: lost & 0x00FF_FFFF,
            highest: be32(p, at + 8)?,
            jitter: be32(p, at + 12)?,
            last_report: be32(p, at + 16)?,
            since_report: be32(p, at + 20)?,
        })
    };
    (0..count).map(block).collect()
}

fn head(count: usize, kind: u8, words: usize, out: &mut Vec<u8>) {
    out.extend_from_slice(&[0x80 | (count as u8 & 31), kind]);
    out.extend_from_slice(&(words as u16).to_be_bytes());
}

fn description(ssrc: u32, cname: &str, out: &mut Vec<u8>) {
    let name = &cname.as_bytes()[..cname.len().min(255)];
    let mut chunk = ssrc.to_be_bytes().to_vec();
    chunk.extend_from_slice(&[1, name.len() as u8]);
    chunk.extend_from_slice(name);
    // At least one zero ends the list; the chunk is whole words.
    chunk.resize((chunk.len() + 4) / 4 * 4, 0);
    head(1, DESCRIPTION, chunk.len() / 4, out);
    out.extend_from_slice(&chunk);
}

/// A receiver's compound: report and canonical name.
#[must_use]
pub fn write_receiver_report(ssrc: u32, cname: &str, block: Option<&ReportBlock>) -> Vec<u8> {
    let mut out = Vec::new();
    head(usize::from(block.is_some()), RECEIVER_REPORT, 1 + 6 * usize::from(block.is_some()), &mut out);
    out.extend_from_slice(&ssrc.to_be_bytes());
    if let Some(b) = block {
        for word in [b.ssrc, u32::from(b.fraction) << 24 | b.lost & 0x00FF_FFFF, b.highest, b.jitter, b.last_report, b.since_report] {
            out.extend_from_slice(&word.to_be_bytes());
        }
    }
    description(ssrc, cname, &mut out);
    out
}

/// A sender's compound: its clock, its counters, its name.
#[must_use]
pub fn write_sender_report(ssrc: u32, cname: &str, ntp: NtpTime, timestamp: u32, packets: u32, bytes: u32) -> Vec<u8> {
    let mut out = Vec::new();
    head(0, SENDER_REPORT, 6, &mut out);
    for word in [ssrc, (ntp.0 >> 32) as u32, ntp.0 as u32, timestamp, packets, bytes] {
        out.extend_from_slice(&word.to_be_bytes());
    }
    description(ssrc, cname, &mut out);
    out
}

/// A goodbye, with the empty report that must stand before it.
#[must_use]
pub fn write_bye(ssrc: u32, cname: &str) -> Vec<u8> {
    let mut out = write_receiver_report(ssrc, cname, None);
    head(1, BYE, 1, &mut out);
    out.extend_from_slice(&ssrc.to_be_bytes());
    out
}

/// How a sender may be asked for a keyframe, as its description says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Feedback {
    /// Picture loss indication (RFC 4585, 6.3.1).
    pub picture_loss: bool,
    /// Full intra request (RFC 5104, 4.3.1), which is meant for this.
    pub full_intra: bool,
}

/// Asks the sender `of` for a keyframe, behind the empty report that must stand first; `number` is
/// another one for each request. `None` when it takes neither request.
#[must_use]
pub fn write_keyframe_request(ssrc: u32, cname: &str, of: u32, takes: Feedback, number: u8) -> Option<Vec<u8>> {
    let mut out = write_receiver_report(ssrc, cname, None);
    let words: &[u32] = if takes.full_intra {
        head(FULL_INTRA, PAYLOAD_FEEDBACK, 4, &mut out);
        &[ssrc, 0, of, u32::from(number) << 24]
    } else if takes.picture_loss {
        head(PICTURE_LOSS, PAYLOAD_FEEDBACK, 2, &mut out);
        &[ssrc, of]
    } else {
        return None;
    };
    out.extend(words.iter().flat_map(|w| w.to_be_bytes()));
    Some(out)
}

/// Whether a datagram on a shared channel is RTCP rather than RTP (RFC 5761, 4).
#[must_use]
pub(crate) fn is_rtcp(data: &[u8]) -> bool {
    be16(data, 0).is_some_and(|h| (192..=223).contains(&(h & 0xFF)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn reports_survive_and_cut_ones_are_refused() {
        let ntp = NtpTime::from_unix_us(1_795_000_000_123_456);
        assert!((ntp.micros() - (1_795_000_000_123_456 + EPOCH as i64 * 1_000_000)).abs() <= 1);
        let sender = write_sender_report(7, "choir@boathouse", ntp, 90_000, 11, 12_345);
        assert_eq!(sender.len() % 4, 0);
        let read = parse_rtcp(&sender).expect("a compound");
        let expected = Rtcp::SenderReport { ssrc: 7, ntp, timestamp: 90_000, packets: 11, bytes: 12_345, blocks: Vec::new() };
        assert_eq!(read, [expected, Rtcp::Other(DESCRIPTION)]);
        let block =
            ReportBlock { ssrc: 7, fraction: 3, lost: 70, highest: 65_540, jitter: 9, last_report: ntp.middle(), since_report: 65_536 };
        let receiver = write_receiver_report(8, "x", Some(&block));
        assert_eq!(parse_rtcp(&receiver).expect("a compound")[0], Rtcp::ReceiverReport { ssrc: 8, blocks: vec![block] });
        assert_eq!(parse_rtcp(&write_bye(9, "x")).expect("a compound")[2], Rtcp::Bye(vec![9]));
        for end in 1..receiver.len() {
            let cut = parse_rtcp(&receiver[..end]);
            assert!(cut.is_err() || end == 32, "{end}");
        }
        assert_eq!(parse_rtcp(&[0x80, 96, 0, 0]), Err(RtcpError::Version));
        assert!(is_rtcp(&receiver) && !is_rtcp(&[0x80, 0xE0, 0, 1]));
    }

    #[test]
    fn a_keyframe_is_asked_for_as_the_sender_takes_it() {
        let ask = |picture_loss, full_intra| write_keyframe_request(8, "x", 0x0102_0304, Feedback { picture_loss, full_intra }, 7);
        let report = write_receiver_report(8, "x", None).len();
        let pli = ask(true, false).expect("a request");
        assert_eq!(pli[report..], [0x81, 206, 0, 2, 0, 0, 0, 8, 1, 2, 3, 4]);
        let fir = ask(true, true).expect("a request");
        assert_eq!(fir[report..], [0x84, 206, 0, 4, 0, 0, 0, 8, 0, 0, 0, 0, 1, 2, 3, 4, 7, 0, 0, 0]);
        for request in [pli, fir] {
            assert_eq!(parse_rtcp(&request).expect("a compound")[2], Rtcp::Keyframe(vec![0x0102_0304]));
        }
        assert_eq!(ask(false, false), None);
        assert_eq!(parse_rtcp(&[0x81, 206, 0, 1, 0, 0, 0, 8]), Err(RtcpError::Short));
    }
}
