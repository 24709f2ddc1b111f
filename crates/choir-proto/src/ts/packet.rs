//! One packet of 188 bytes: header and adaptation field.

/// Bytes of a packet.
pub const TS_PACKET: usize = 188;
pub(super) const SYNC: u8 = 0x47;
/// Bytes before the payload of a plain packet.
pub(super) const HEADER: usize = 4;
pub(super) const NULL_PID: u16 = 0x1FFF;

/// What the adaptation field says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Adaptation {
    /// A jump in clock or counters is announced.
    pub discontinuity: bool,
    /// A decoder can start here.
    pub random_access: bool,
    /// Programme clock, 27 MHz ticks.
    pub pcr: Option<u64>,
    /// Bytes in it beyond what it says.
    pub stuffing: u8,
}

/// A checked view of one packet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TsPacket<'a> {
    /// 13 bits.
    pub pid: u16,
    /// The sender marked it as damaged.
    pub error: bool,
    /// A PES packet or section starts in it.
    pub unit_start: bool,
    /// Scrambling bits, 0 when clear.
    pub scrambling: u8,
    /// 4 bits.
    pub continuity: u8,
    /// Adaptation field.
    pub adaptation: Option<Adaptation>,
    /// Payload, if it has one.
    pub payload: Option<&'a [u8]>,
    short: bool,
}

impl<'a> TsPacket<'a> {
    /// Parses 188 bytes; `None` when the sync byte or a length is wrong.
    #[must_use]
    pub fn parse(data: &'a [u8]) -> Option<Self> {
        let data: &[u8; TS_PACKET] = data.get(..TS_PACKET)?.try_into().ok()?;
        if data[0] != SYNC {
            return None;
        }
        let control = data[3] >> 4 & 3;
        let mut start = 4;
        let mut adaptation = None;
        if control & 2 != 0 {
            let length = usize::from(data[4]);
            start = 5 + length;
            if start > TS_PACKET {
                return None;
            }
            let mut a = Adaptation::default();
            if length > 0 {
                a.discontinuity = data[5] & 0x80 != 0;
                a.random_access = data[5] & 0x40 != 0;
                if data[5] & 0x10 != 0 && length >= 7 {
                    a.pcr = Some(read_pcr(&data[6..12]));
                }
                // Fields that are rarely there are not counted out: then nothing is called
                // stuffing.
                let known = 1 + if a.pcr.is_some() { 6 } else { 0 };
                a.stuffing = if data[5] & 0x0F == 0 { (length - known) as u8 } else { 0 };
            }
            adaptation = Some(a);
        }
        Some(Self {
            short: adaptation.is_some_and(|a: Adaptation| a.stuffing > 0) || (control == 3 && data[4] == 0),
            pid: u16::from(data[1] & 0x1F) << 8 | u16::from(data[2]),
            error: data[1] & 0x80 != 0,
            unit_start: data[1] & 0x40 != 0,
            scrambling: data[3] >> 6,
            continuity: data[3] & 15,
            adaptation,
            payload: (control & 1 != 0).then_some(&data[start..]),
        })
    }
}

impl TsPacket<'_> {
    /// True when it carries less than it could: stuffing fills the rest.
    #[must_use]
    pub fn stuffed(&self) -> bool {
        self.short && self.payload.is_some()
    }
}

fn read_pcr(b: &[u8]) -> u64 {
    let base = u64::from(b[0]) << 25 | u64::from(b[1]) << 17 | u64::from(b[2]) << 9 | u64::from(b[3]) << 1 | u64::from(b[4]) >> 7;
    base * 300 + (u64::from(b[4] & 1) << 8 | u64::from(b[5]))
}

/// The six bytes of a clock reference.
pub(super) fn pcr_bytes(pcr: u64) -> [u8; 6] {
    let pcr = pcr % super::PCR_WRAP;
    let (base, ext) = (pcr / 300, pcr % 300);
    [
        (base >> 25) as u8,
        (base >> 17) as u8,
        (base >> 9) as u8,
        (base >> 1) as u8,
        ((base & 1) << 7) as u8 | 0x7E | (ext >> 8) as u8,
        ext as u8,
    ]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn clock_references_survive() {
        for pcr in [0, 299, 300, 12_345_678_901, super::super::PCR_WRAP - 1] {
            assert_eq!(read_pcr(&pcr_bytes(pcr)), pcr);
        }
    }

    #[test]
    fn a_wrong_length_is_not_believed() {
        let mut data = [0xFF; TS_PACKET];
        data[0] = SYNC;
        data[3] = 0x30;
        data[4] = 184;
        assert!(TsPacket::parse(&data).is_none());
        data[4] = 183;
        assert_eq!(TsPacket::parse(&data).and_then(|p| p.payload.map(<[u8]>::len)), Some(0));
        assert!(TsPacket::parse(&data[..187]).is_none());
    }
}
