//! Tracks of every payload format, with their clocks and the transport stream that is made of them.

use super::{bounded, pieces, start};
use bytes::Bytes;
use choir_proto::{
    audio::{AacConfig, Law},
    media::{Codec, Media},
    mux::ToTs,
    rtp::{AuHeaders, Damage, ParameterSets, PayloadFormat, Received, ReceiverConfig, RtpReceiver, SyncGroup, parse_rtcp},
    sequence::{SequencedTrack, Sequencer},
};
use std::time::Duration;

/// Packets; the first byte of the data says of which format.
pub fn tracks(data: &[u8]) {
    let Some((which, rest)) = data.split_first() else { return };
    let _ = parse_rtcp(rest);
    let Some(aac) = AacConfig::parse(&[0x11, 0x90]) else { return };
    let headers = AuHeaders { size: 13, index: 3, index_delta: 3, ..AuHeaders::default() };
    let (format, codec, rate) = match which % 7 {
        0 => (PayloadFormat::H264 { sets: ParameterSets::default() }, Codec::H264, 90_000),
        1 => (PayloadFormat::H265 { sets: ParameterSets::default(), order_numbers: false }, Codec::H265, 90_000),
        2 => (PayloadFormat::H265 { sets: ParameterSets::default(), order_numbers: true }, Codec::H265, 90_000),
        3 => (PayloadFormat::Aac { config: aac, headers }, Codec::Aac(aac), 48_000),
        4 => (PayloadFormat::Latm { mux: None, in_band: true }, Codec::Aac(aac), 48_000),
        5 => (PayloadFormat::G711(Law::A), Codec::G711(Law::A), 8000),
        _ => (PayloadFormat::Ts, Codec::Ts, 90_000),
    };
    let damage = if which & 0x80 == 0 { Damage::Wait } else { Damage::Pass };
    let config = ReceiverConfig { format, payload_type: 96, clock_rate: rate, depth: Duration::from_millis(50), damage, own_ssrc: 1 };
    let (mut receiver, mut group) = (RtpReceiver::new(0, config), SyncGroup::new(&[rate], 0));
    let mut units = Sequencer::new(&[SequencedTrack { track: 0, codec }], Duration::from_millis(200));
    let (mut to_ts, mut received, mut timed, mut now) = (ToTs::default(), Vec::new(), Vec::new(), start());
    for (n, piece) in pieces(rest).into_iter().enumerate() {
        // Mostly packets of the stream that is meant.
        let mut packet = piece.to_vec();
        if n % 8 != 7 && packet.len() > 12 {
            packet[0] = 0x80 | packet[0] & 0x30;
            packet[1] = packet[1] & 0x80 | 96;
            packet[2..4].copy_from_slice(&(n as u16).to_be_bytes());
            packet[8..12].copy_from_slice(&7u32.to_be_bytes());
        }
        let _ = receiver.handle_rtp(now, &Bytes::from(packet), &mut group);
        receiver.handle_rtcp(now, piece, &mut group);
        receiver.handle_timeout(now);
        receiver.poll(&mut group, &mut received);
        for one in received.drain(..) {
            if let Received::Unit(unit) = one {
                bounded(unit.pieces.iter().map(Bytes::len).sum(), 8 << 20);
                units.push(now, &unit, &mut timed);
            }
        }
        units.handle_timeout(now, &mut timed);
        let format = units.format().clone();
        for one in timed.drain(..) {
            let made = to_ts.push(&Media::Units(format.clone(), one));
            assert!(made.len() % 188 == 0);
            // However far a clock jumps, it is not filled up to there.
            bounded(made.len(), 16 << 20);
        }
        now += Duration::from_millis(10);
    }
}

/// All of it.
pub fn entry(data: &[u8]) {
    tracks(data);
}
