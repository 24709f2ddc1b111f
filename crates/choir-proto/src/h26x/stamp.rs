//! When a frame was taken, carried in the picture as user data, so that the far end can measure the
//! whole delay: MISB ST 0604 precision time stamp, and a frame number of our own beside it.

use super::{HevcNal, NalKind, nal_units, rbsp};

/// "MISPmicrosectime" (MISB ST 0604).
const TIME_ID: &[u8; 16] = b"MISPmicrosectime";
/// Cable Choir's frame number; a random UUID.
const NUMBER_ID: [u8; 16] = [0x3c, 0x41, 0x9d, 0x6e, 0x52, 0x0b, 0x4f, 0x7a, 0x91, 0xd8, 0x17, 0xe4, 0x60, 0xaf, 0x2b, 0xc5];
const USER_DATA_UNREGISTERED: u8 = 5;

/// A frame's time and number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Stamp {
    /// µs since 1970 (UTC) at which the frame was taken.
    pub unix_us: u64,
    /// Counts from the source's start, when it says so.
    pub frame: Option<u64>,
}

/// The SEI NAL unit with its start code, to stand before the first slice.
#[must_use]
pub fn stamp_sei(stamp: Stamp) -> Vec<u8> {
    sei(&[0x06], stamp)
}

/// The same for H.265: a prefix SEI.
#[must_use]
pub fn hevc_stamp_sei(stamp: Stamp) -> Vec<u8> {
    sei(&[0x4E, 0x01], stamp)
}

fn sei(header: &[u8], stamp: Stamp) -> Vec<u8> {
    let mut rbsp = vec![USER_DATA_UNREGISTERED, 28];
    rbsp.extend_from_slice(TIME_ID);
    // Status: locked to an absolute reference is not claimed; 0xFF between the pairs as the
    // standard has it.
    rbsp.push(0x9F);
    for (i, pair) in stamp.unix_us.to_be_bytes().chunks(2).enumerate() {
        if i > 0 {
            rbsp.push(0xFF);
        }
        rbsp.extend_from_slice(pair);
    }
    if let Some(frame) = stamp.frame {
        rbsp.extend_from_slice(&[USER_DATA_UNREGISTERED, 24]);
        rbsp.extend_from_slice(&NUMBER_ID);
        rbsp.extend_from_slice(&frame.to_be_bytes());
    }
    rbsp.push(0x80);
    let mut nal = vec![0, 0, 0, 1];
    nal.extend_from_slice(header);
    let mut zeros = 0;
    for byte in rbsp {
        // Emulation prevention: three bytes may not look like a start code.
        if zeros == 2 && byte <= 3 {
            nal.push(3);
            zeros = 0;
        }
        zeros = if byte == 0 { zeros + 1 } else { 0 };
        nal.push(byte);
    }
    nal
}

/// The stamp of an access unit, if it carries one before its first slice.
#[must_use]
pub fn find_stamp(access_unit: &[u8]) -> Option<Stamp> {
    let mut found = None;
    for nal in nal_units(access_unit) {
        match NalKind::of(nal[0]) {
            NalKind::Sei => found = read_sei(nal, 1, found),
            kind if kind.is_picture() => break,
            _ => {}
        }
    }
    found
}

/// The same for H.265.
#[must_use]
pub fn find_hevc_stamp(access_unit: &[u8]) -> Option<Stamp> {
    let mut found = None;
    for nal in nal_units(access_unit) {
        match HevcNal::of(nal[0]) {
            HevcNal::Sei => found = read_sei(nal, 2, found),
            kind if kind.is_picture() => break,
            _ => {}
        }
    }
    found
}

fn read_sei(nal: &[u8], header: usize, mut found: Option<Stamp>) -> Option<Stamp> {
    let Some(rbsp) = rbsp(nal, header) else { return found };
    let mut rest = rbsp.as_ref();
    while let Some((kind, size, body)) = message(rest) {
        let Some(content) = body.get(..size) else { break };
        if kind == usize::from(USER_DATA_UNREGISTERED) {
            if content.starts_with(TIME_ID) && content.len() >= 28 {
                let t = &content[17..28];
                let bytes = [t[0], t[1], t[3], t[4], t[6], t[7], t[9], t[10]];
                found.get_or_insert_default().unix_us = u64::from_be_bytes(bytes);
            } else if content.starts_with(&NUMBER_ID)
                && let Some(n) = content.get(16..24)
                && let (Ok(n), Some(stamp)) = (n.try_into(), &mut found)
            {
                stamp.frame = Some(u64::from_be_bytes(n));
            }
        }
        rest = &body[size..];
    }
    found
}

/// Type, size and rest of the next SEI message (H.264, 7.3.2.3.1).
fn message(mut data: &[u8]) -> Option<(usize, usize, &[u8])> {
    if data.len() <= 2 {
        return None;
    }
    let mut field = || {
        let mut value = 0usize;
        loop {
            let (&byte, rest) = data.split_first()?;
            data = rest;
            value += usize::from(byte);
            if byte != 0xFF {
                return Some(value);
            }
        }
    };
    let kind = field()?;
    let size = field()?;
    Some((kind, size, data))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stamps_survive_whatever_their_bytes() {
        for unix_us in [0, 1, 0x0000_0100_0000_0001, 1_795_000_000_000_000, u64::MAX] {
            for frame in [None, Some(0), Some(3), Some(u64::MAX)] {
                let stamp = Stamp { unix_us, frame };
                let mut unit = super::super::access_unit_delimiter().to_vec();
                unit.extend(stamp_sei(stamp));
                assert!(!unit[11..].windows(3).any(|w| w[0] == 0 && w[1] == 0 && w[2] <= 2), "emulates a start code");
                unit.extend([0, 0, 0, 1, 0x65, 1, 2, 3]);
                assert_eq!(find_stamp(&unit), Some(stamp));
                let mut hevc = hevc_stamp_sei(stamp);
                hevc.extend([0, 0, 0, 1, 0x26, 1, 2, 3]);
                assert_eq!(find_hevc_stamp(&hevc), Some(stamp));
            }
        }
    }

    #[test]
    fn cut_messages_give_nothing() {
        let sei = stamp_sei(Stamp { unix_us: 77, frame: Some(5) });
        for end in 0..30 {
            assert_eq!(find_stamp(&sei[..end]), None, "at {end}");
        }
        assert_eq!(find_stamp(&[0, 0, 1, 0x65, 1]), None);
    }
}
