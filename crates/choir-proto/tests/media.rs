//! Pictures and sound through RTP and into transport streams: packed, lost, reordered, put
//! together, remuxed.

#![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]
#![allow(clippy::panic, reason = "a helper that fails its test")]

use bytes::Bytes;
use choir_proto::{
    audio::{AacConfig, Law, StreamMux, fit_channels, st302_samples},
    media::{Codec, Media, MediaUnit},
    mux::ToTs,
    rtp::{
        Damage, Depacketizer, PackedUnit, Packetizer, ParameterSets, PayloadFormat, RawUnit, Received, ReceiverConfig, RtpPacket,
        RtpReceiver, SyncGroup,
    },
    sequence::{SequencedTrack, Sequencer},
    ts::{
        AccessUnit, Depth, Origin, PCR_WRAP, PTS_WRAP, PesHeader, StreamKind, TS_PACKET, Timed, TsChecker, TsFault, TsPacket, TsReader,
        wrapped_distance,
    },
};
use proptest::prelude::*;
use std::time::{Duration, Instant};

const SPS: &[u8] = &[
    0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00, 0x80, 0x00,
    0x00, 0x19, 0x07, 0x8c, 0x18, 0xcb,
];
const PPS: &[u8] = &[0x68, 0xEE, 0x3C, 0x80];
const IDS: (u32, u16, u32) = (0xC0FF_EE01, 65_530, 4_294_900_000);

/// A byte stream of these NAL units: header bytes and size, filled so that it can be known again
/// and never looks like a start code.
fn stream(nals: &[(&[u8], usize)]) -> Vec<u8> {
    let mut data = Vec::new();
    for (n, (head, size)) in nals.iter().enumerate() {
        data.extend_from_slice(&[0, 0, 0, 1]);
        data.extend_from_slice(head);
        data.extend((0..*size).map(|i| (i * 7 + n) as u8 | 0x80));
    }
    data
}

fn format_of(codec: &Codec) -> PayloadFormat {
    match codec {
        Codec::H264 => PayloadFormat::H264 { sets: ParameterSets::default() },
        Codec::H265 => PayloadFormat::H265 { sets: ParameterSets::default(), order_numbers: false },
        Codec::Aac(config) => PayloadFormat::Aac { config: *config, headers: aac_headers() },
        Codec::G711(law) => PayloadFormat::G711(*law),
        Codec::Pcm(_) => unreachable!("not taken from RTP"),
        Codec::Ts => PayloadFormat::Ts,
    }
}

fn aac_headers() -> choir_proto::rtp::AuHeaders {
    choir_proto::rtp::AuHeaders { size: 13, index: 3, index_delta: 3, ..Default::default() }
}

fn parse(packed: &PackedUnit) -> Vec<RtpPacket> {
    packed.packets().map(|p| RtpPacket::parse(&p).expect("a packet")).collect()
}

/// All units out of these packets; `None` is a gap.
fn unpack(depack: &mut Depacketizer, packets: impl IntoIterator<Item = Option<RtpPacket>>) -> Vec<RawUnit> {
    let mut out = Vec::new();
    for packet in packets {
        match packet {
            Some(p) => depack.push(&p, Instant::now(), &mut out),
            None => depack.gap(),
        }
    }
    out
}

fn joined(units: &[RawUnit]) -> Vec<Vec<u8>> {
    units.iter().map(|u| u.pieces.concat()).collect()
}

proptest! {
    #[test]
    fn video_survives_packing_whatever_its_units(h265: bool, sizes in proptest::collection::vec((0usize..4000, 0u8..3), 1..12)) {
        let heads: Vec<&[u8]> = sizes.iter().map(|(_, kind)| -> &[u8] { match (h265, kind) {
            (false, 0) => &[0x65, 0x88], (false, 1) => &[0x41, 0x9A], (false, _) => &[0x06, 5],
            (true, 0) => &[0x26, 1, 0xAF], (true, 1) => &[0x02, 1, 0xD0], (true, _) => &[0x4E, 1, 5],
        }}).collect();
        let mut nals: Vec<(&[u8], usize)> = heads.iter().zip(&sizes).map(|(h, (s, _))| (*h, *s)).collect();
        // A picture at the end, as units have it, and a keyframe so that nothing waits.
        nals.push((if h265 { &[0x26, 1, 0xAF] } else { &[0x65, 0x88] }, 3000));
        let codec = if h265 { Codec::H265 } else { Codec::H264 };
        let data = stream(&nals);
        let mut packer = Packetizer::new(codec.clone(), 96, 90_000, IDS);
        let packed = packer.pack(1 << 33, true, &data);
        let packets = parse(&packed);
        prop_assert!(packed.packets().all(|p| p.len() <= 1400));
        let runs: Vec<usize> = packed.runs(32).map(|(run, size)| { assert!(run.len() <= 32 * size); run.len().div_ceil(size) }).collect();
        prop_assert_eq!(runs.iter().sum::<usize>(), packets.len());
        prop_assert!(packets.iter().rev().enumerate().all(|(n, p)| p.marker == (n == 0)));
        let mut depack = Depacketizer::new(&format_of(&codec), Damage::Wait);
        let units = unpack(&mut depack, packets.into_iter().map(Some));
        prop_assert_eq!(joined(&units), vec![data]);
        prop_assert_eq!(depack.malformed() + depack.dropped(), 0);
    }

    #[test]
    fn no_payload_makes_a_depacketizer_panic(kind in 0usize..6, packets in proptest::collection::vec((any::<bool>(), 0u32..3, proptest::collection::vec(any::<u8>(), 0..60)), 0..60)) {
        let config = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
        let formats = [
            format_of(&Codec::H264),
            PayloadFormat::H265 { sets: ParameterSets::default(), order_numbers: true },
            format_of(&Codec::H265),
            format_of(&Codec::Aac(config)),
            PayloadFormat::Latm { mux: None, in_band: true },
            PayloadFormat::Latm { mux: Some(StreamMux { config, sub_frames: 2 }), in_band: false },
        ];
        for damage in [Damage::Wait, Damage::Pass] {
            let mut depack = Depacketizer::new(&formats[kind], damage);
            let all = packets.iter().enumerate().map(|(n, (marker, timestamp, payload))| {
                (n % 7 != 6).then(|| RtpPacket { marker: *marker, payload_type: 96, sequence: n as u16, timestamp: *timestamp, ssrc: 1, payload: payload.clone().into() })
            });
            unpack(&mut depack, all);
        }
    }
}

/// Frames of a GOP: a keyframe, pictures that others need, and some that none needs.
fn gop(h265: bool, n: u64) -> (Vec<u8>, bool) {
    let head: &[u8] = match (h265, n % 10) {
        (false, 0) => return (stream(&[(SPS, 0), (PPS, 0), (&[0x65, 0x88], 4000)]), true),
        (true, 0) => return (stream(&[(&[0x26, 1, 0xAF], 4000)]), true),
        (false, 5) => &[0x01, 0x9A],
        (false, _) => &[0x41, 0x9A],
        (true, 5) => &[0x00, 1, 0xD0],
        (true, _) => &[0x02, 1, 0xD0],
    };
    (stream(&[(head, 3000)]), false)
}

#[test]
fn a_hole_costs_what_needs_it_and_nothing_more() {
    for h265 in [false, true] {
        let codec = if h265 { Codec::H265 } else { Codec::H264 };
        for (victim, damage, kept) in [
            // A picture that others need: all up to the next keyframe.
            (3u64, Damage::Wait, vec![0, 1, 2, 10, 11, 12]),
            // One that none needs: only itself.
            (5, Damage::Wait, vec![0, 1, 2, 3, 4, 6, 7, 8, 9, 10, 11, 12]),
            (3, Damage::Pass, (0..13).collect()),
        ] {
            let mut packer = Packetizer::new(codec.clone(), 96, 90_000, IDS);
            let mut packets = Vec::new();
            for n in 0..13u64 {
                let (data, keyframe) = gop(h265, n);
                let mut of_unit: Vec<Option<RtpPacket>> = parse(&packer.pack(n * 3600, keyframe, &data)).into_iter().map(Some).collect();
                if n == victim {
                    of_unit[1] = None;
                }
                packets.extend(of_unit);
            }
            let mut depack = Depacketizer::new(&format_of(&codec), damage);
            let units = unpack(&mut depack, packets);
            let base = packer.timestamp(0);
            let got: Vec<u64> = units.iter().map(|u| u64::from(u.timestamp.wrapping_sub(base)) / 3600).collect();
            assert_eq!(got, kept, "h265: {h265}, {damage:?}");
            assert_eq!(units.iter().filter(|u| u.damaged).count(), usize::from(damage == Damage::Pass));
        }
    }
}

#[test]
fn whole_pictures_lost_between_markers_are_noticed() {
    let mut packer = Packetizer::new(Codec::H264, 96, 90_000, IDS);
    let mut packets = Vec::new();
    for n in 0..12u64 {
        let (data, keyframe) = gop(false, n);
        let unit = parse(&packer.pack(n * 3600, keyframe, &data));
        if n == 4 { packets.push(None) } else { packets.extend(unit.into_iter().map(Some)) }
    }
    let units = unpack(&mut Depacketizer::new(&format_of(&Codec::H264), Damage::Wait), packets);
    let got: Vec<u32> = units.iter().map(|u| u.timestamp.wrapping_sub(packer.timestamp(0)) / 3600).collect();
    assert_eq!(got, [0, 1, 2, 3, 10, 11]);
}

#[test]
fn markers_that_lie_cost_one_keyframe_interval_and_no_more() {
    // A camera that sets the marker on every packet: two slices a picture, so every first slice
    // seems to end it.
    let mut packets = Vec::new();
    for n in 0..30u32 {
        let key = n % 10 == 0;
        for first in [true, false] {
            let head = [if key { 0x65 } else { 0x41 }, if first { 0x88 } else { 0x48 }];
            let payload: Bytes = [&head[..], &[0x81; 100]].concat().into();
            packets.push(Some(RtpPacket { marker: true, payload_type: 96, sequence: 0, timestamp: n * 3600, ssrc: 1, payload }));
        }
    }
    let mut depack = Depacketizer::new(&format_of(&Codec::H264), Damage::Wait);
    let units = unpack(&mut depack, packets);
    let whole = units.iter().filter(|u| u.pieces.concat().len() == 2 * 106).count();
    assert_eq!(whole, 19, "from the second keyframe on, but the last, which is still open");
}

#[test]
fn parameter_sets_come_from_the_description_in_band_or_changed_on_the_way() {
    let sets = ParameterSets::from_description(false, [SPS, PPS].into_iter());
    let mut depack = Depacketizer::new(&PayloadFormat::H264 { sets }, Damage::Wait);
    let mut packer = Packetizer::new(Codec::H264, 96, 90_000, IDS);
    let bare = stream(&[(&[0x65, 0x88], 50)]);
    let mut feed = |data: &[u8], at: u64| {
        let packets = parse(&packer.pack(at * 3600, true, data));
        joined(&unpack(&mut depack, packets.into_iter().map(Some))).remove(0)
    };
    let with = |sps: &[u8]| [&[0, 0, 0, 1], sps, &[0, 0, 0, 1], PPS, &bare[..]].concat();
    assert_eq!(feed(&bare, 0), with(SPS), "from the description");
    let mut other = SPS.to_vec();
    other[3] = 0x28;
    let changed = with(&other);
    assert_eq!(feed(&changed, 1), changed, "in band: as they come");
    assert_eq!(feed(&bare, 2), changed, "the latest holds");
    // Left-on start codes, and a delimiter, are taken off.
    let odd: Bytes = [&[0, 0, 0, 1, 0x65, 0x88][..], &[0x81; 20]].concat().into();
    let packet = |payload: Bytes, marker| RtpPacket { marker, payload_type: 96, sequence: 0, timestamp: 99, ssrc: 1, payload };
    let units = unpack(&mut depack, [Some(packet(Bytes::from_static(&[9, 0xF0]), false)), Some(packet(odd, true))]);
    let expected = [&[0, 0, 0, 1], &other[..], &[0, 0, 0, 1], PPS, &[0, 0, 0, 1, 0x65, 0x88], &[0x81; 20]].concat();
    assert_eq!(joined(&units), [expected]);
}

#[test]
fn sound_survives_in_every_format() {
    let config = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
    let adts = |size: usize| {
        let mut frame = config.adts_header(size).expect("fits").to_vec();
        frame.extend((0..size).map(|i| i as u8));
        frame
    };
    // Small frames, and one that needs several packets.
    let mut packer = Packetizer::new(Codec::Aac(config), 97, 48_000, IDS);
    let mut depack = Depacketizer::new(&format_of(&Codec::Aac(config)), Damage::Wait);
    for size in [1, 200, 1384, 1385, 5000] {
        let units = unpack(&mut depack, parse(&packer.pack(0, true, &adts(size))).into_iter().map(Some));
        assert_eq!(joined(&units), [adts(size)], "{size}");
    }
    // Several frames in one packet, each with its own time (RFC 3640, 3.3.6).
    let mut payload = vec![0, 32];
    payload.extend_from_slice(&(10u16 << 3).to_be_bytes());
    payload.extend_from_slice(&(20u16 << 3).to_be_bytes());
    payload.extend(0..10u8);
    payload.extend(0..20u8);
    let packet =
        |payload: Vec<u8>, marker| RtpPacket { marker, payload_type: 97, sequence: 0, timestamp: 5, ssrc: 1, payload: payload.into() };
    let units = unpack(&mut depack, [Some(packet(payload, true))]);
    assert_eq!(units.iter().map(|u| u.timestamp).collect::<Vec<_>>(), [5, 1029]);
    assert_eq!(joined(&units), [adts(10), adts(20)]);
    // LATM over two packets.
    let mux = StreamMux { config, sub_frames: 1 };
    let mut latm = Depacketizer::new(&PayloadFormat::Latm { mux: Some(mux), in_band: false }, Damage::Wait);
    let first = [&[255, 45][..], &adts(300)[7..107]].concat();
    let units = unpack(&mut latm, [Some(packet(first, false)), Some(packet(adts(300)[107..].to_vec(), true))]);
    assert_eq!(joined(&units), [adts(300)]);
}

/// Checks a transport stream as a standard's reader would: each rule that has a number.
fn assert_legal(pieces: &[(Duration, Vec<u8>)], low_rate: bool) -> (TsReader, Vec<AccessUnit>) {
    let mut units = Vec::new();
    let mut reader = TsReader::new(Depth::Units);
    let (mut last_pcr, mut last_tables): (Option<(u64, Duration)>, [Option<Duration>; 2]) = (None, [None; 2]);
    let mut worst_ns: i128 = 0;
    for (at, bytes) in pieces {
        assert_eq!(bytes.len() % TS_PACKET, 0);
        reader.push(at.as_micros() as i64, &bytes.clone().into());
        units.extend(std::iter::from_fn(|| reader.poll_unit()));
        for raw in bytes.chunks(TS_PACKET) {
            let p = TsPacket::parse(raw).expect("a packet");
            if let Some(place) = [0, 0x1000].iter().position(|pid| *pid == p.pid)
                && let Some(last) = last_tables[place].replace(*at)
            {
                assert!(*at - last <= Duration::from_millis(100), "tables after {:?}", *at - last);
            }
            if let Some(a) = p.adaptation
                && let Some(pcr) = a.pcr
                && let Some((last, then)) = last_pcr.replace((pcr, *at))
            {
                let ticks = wrapped_distance(pcr, last, PCR_WRAP);
                assert!((1..=27_000_000 / 25).contains(&ticks), "clock references {ticks} ticks apart");
                let off = i128::from(ticks) * 1000 / 27 - (*at - then).as_nanos() as i128;
                worst_ns = worst_ns.max(off.abs());
            }
        }
    }
    assert!(worst_ns <= 500 || low_rate, "the clock is {worst_ns} ns off");
    let c = reader.info().counters;
    assert_eq!((c.continuity_errors, c.crc_errors, c.sync_losses, c.transport_errors), (0, 0, 0, 0));
    (reader, units)
}

/// Units in time, and the transport stream that they make.
struct Remux(Sequencer, ToTs);

impl Remux {
    fn new(tracks: &[SequencedTrack], lead: Duration) -> Self {
        Self(Sequencer::new(tracks, lead), ToTs::default())
    }
    fn write(&mut self, timed: Vec<Timed>, out: &mut Vec<u8>) {
        timed.into_iter().for_each(|t| out.extend(self.1.push(&Media::Units(self.0.format().clone(), t))));
    }
    fn push(&mut self, now: Instant, unit: &MediaUnit, out: &mut Vec<u8>) {
        let mut timed = Vec::new();
        self.0.push(now, unit, &mut timed);
        self.write(timed, out);
    }
    fn handle_timeout(&mut self, now: Instant, out: &mut Vec<u8>) {
        let mut timed = Vec::new();
        self.0.handle_timeout(now, &mut timed);
        self.write(timed, out);
    }
}

/// Plays units into a remuxer in simulated time, with its timers; gives what came out and when.
fn play(mut remux: Remux, units: Vec<(Duration, MediaUnit)>) -> Vec<(Duration, Vec<u8>)> {
    let start = Instant::now();
    let mut out = Vec::new();
    for (at, unit) in units {
        while let Some(due) = remux.0.poll_timeout().filter(|t| *t <= start + at) {
            let mut bytes = Vec::new();
            remux.handle_timeout(due, &mut bytes);
            out.push((due - start, bytes));
        }
        let mut bytes = Vec::new();
        remux.push(start + at, &unit, &mut bytes);
        out.push((at, bytes));
    }
    out
}

fn unit(track: usize, pts: u64, keyframe: bool, data: Vec<u8>) -> MediaUnit {
    MediaUnit { track, pts: pts % (1 << 33), dts: None, keyframe, damaged: false, arrived: Instant::now(), pieces: vec![data.into()] }
}

#[test]
fn what_is_remuxed_is_legal_at_any_frame_rate_over_the_wrap() {
    let config = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
    let sound = config.adts_header(100).expect("fits").into_iter().chain([7; 100]).collect::<Vec<u8>>();
    for rate in [5u64, 25, 30, 50] {
        for h265 in [false, true] {
            let codec = if h265 { Codec::H265 } else { Codec::H264 };
            let tracks = [SequencedTrack { track: 0, codec }, SequencedTrack { track: 1, codec: Codec::Aac(config) }];
            let first = (1u64 << 33) - 90_000 * 3;
            let mut units = Vec::new();
            for n in 0..rate * 8 {
                let (data, keyframe) = gop(h265, n);
                units.push((Duration::from_nanos(n * 1_000_000_000 / rate), unit(0, first + n * 90_000 / rate, keyframe, data)));
            }
            for n in 0..8 * 46 {
                let at = Duration::from_nanos(n * 1024 * 1_000_000_000 / 48_000);
                units.push((at, unit(1, first + n * 1024 * 90_000 / 48_000, true, sound.clone())));
            }
            units.sort_by_key(|(at, _)| *at);
            let out = play(Remux::new(&tracks, Duration::from_millis(80)), units);
            let (reader, read) = assert_legal(&out, false);
            let info = reader.info();
            let kinds: Vec<StreamKind> = info.streams.iter().map(|s| s.kind).collect();
            assert_eq!(kinds, [if h265 { StreamKind::H265 } else { StreamKind::H264 }, StreamKind::AacAdts]);
            let (mut frames, mut last) = (0, None);
            for u in read {
                if u.kind.is_video() {
                    let (data, keyframe) = gop(h265, frames);
                    let delimiter: &[u8] = if h265 { &[0, 0, 0, 1, 0x46, 1, 0x50] } else { &[0, 0, 0, 1, 9, 0xF0] };
                    assert!(u.data.as_ref() == [delimiter, &data].concat(), "frame {frames} at {rate}");
                    assert_eq!(u.keyframe, keyframe, "random access is marked");
                    if let (Some(last), Some(pts)) = (last, u.pts) {
                        assert_eq!(wrapped_distance(pts, last, 1 << 33), (90_000 / rate) as i64);
                    }
                    last = u.pts;
                    frames += 1;
                } else {
                    assert_eq!(u.data.as_ref(), sound);
                }
            }
            assert_eq!(frames, rate * 8);
        }
    }
}

#[test]
fn pictures_out_of_order_get_decoding_times() {
    // Shown I B B P: decoded I P B B. Two steps of reordering were not declared, so the first pair
    // is lost.
    let order = [0u64, 3, 1, 2, 6, 4, 5, 9, 7, 8, 12, 10, 11];
    let units = (0..order.len()).map(|n| {
        let (data, keyframe) = gop(false, if n == 0 { 0 } else { 1 });
        (Duration::from_millis(40 * n as u64), unit(0, 900_000 + order[n] * 3600, keyframe, data))
    });
    let remux = Remux::new(&[SequencedTrack { track: 0, codec: Codec::H264 }], Duration::from_millis(300));
    let (_, read) = assert_legal(&play(remux, units.collect()), true);
    let (mut last, mut apart) = (0, 0);
    for u in read {
        let (pts, dts) = (u.pts.expect("a time"), u.dts.or(u.pts).expect("a time"));
        assert!(dts > last && dts <= pts, "{dts} after {last} for {pts}");
        apart += u32::from(dts < pts);
        last = dts;
    }
    assert!(apart >= 3, "{apart} pictures wait to be shown");
}

#[test]
fn a_longer_way_sets_the_clock_anew_and_says_so() {
    let units = (0..200u64).map(|n| {
        let (data, keyframe) = gop(false, n);
        // From the hundredth on everything comes half a second later.
        let late = if n >= 100 { 500 } else { 0 };
        (Duration::from_millis(40 * n + late), unit(0, 900_000 + n * 3600, keyframe, data))
    });
    let out = play(Remux::new(&[SequencedTrack { track: 0, codec: Codec::H264 }], Duration::from_millis(80)), units.collect());
    let jumps: Vec<Duration> = out
        .iter()
        .filter(|(_, b)| b.chunks(TS_PACKET).filter_map(TsPacket::parse).any(|p| p.adaptation.is_some_and(|a| a.discontinuity)))
        .map(|(at, _)| *at)
        .collect();
    assert_eq!(jumps.len(), 1);
    assert!(jumps[0] < Duration::from_millis(100 * 40 + 500 + 400), "{jumps:?}");
    let last =
        out.last().and_then(|(_, b)| b.chunks(TS_PACKET).filter_map(TsPacket::parse).find_map(|p| p.adaptation?.pcr)).expect("a clock");
    let dts = (900_000 + 199 * 3600) * 300;
    assert!((0..27_000_000 / 5).contains(&wrapped_distance(dts, last, PCR_WRAP)), "the clock is before the picture again");
}

#[test]
fn telephone_sound_is_carried_as_pcm() {
    let tracks = [SequencedTrack { track: 0, codec: Codec::H264 }, SequencedTrack { track: 1, codec: Codec::G711(Law::A) }];
    let mut units = Vec::new();
    for n in 0..50u64 {
        let (data, keyframe) = gop(false, n);
        units.push((Duration::from_millis(40 * n), unit(0, 900_000 + n * 3600, keyframe, data)));
        units.push((Duration::from_millis(40 * n), unit(1, 900_000 + n * 3600, true, vec![0xD5; 320])));
    }
    let (reader, read) = assert_legal(&play(Remux::new(&tracks, Duration::from_millis(80)), units), false);
    assert_eq!(reader.info().audio, Some((48_000, 2)));
    let sound: Vec<_> = read.into_iter().filter(|u| u.kind == StreamKind::St302).collect();
    assert_eq!(sound.len(), 50 * 2, "20 ms each");
    assert!(sound.iter().all(|u| u.data.len() == 4 + 960 * 7));
    for w in sound.windows(2) {
        assert_eq!(w[1].pts.expect("a time") - w[0].pts.expect("a time"), 1800);
    }
}

#[test]
fn pcm_keeps_its_samples_as_far_as_there_are_channels_for_it() {
    let samples = |channels: u8, n: u64| -> Vec<u8> {
        (0..1920 * u64::from(channels)).flat_map(|i| ((i * 9_001 + n) as u32).to_be_bytes()[1..].to_vec()).collect()
    };
    for (channels, carried) in [(2u8, 2u8), (6, 6), (1, 2), (16, 8)] {
        let tracks = [SequencedTrack { track: 0, codec: Codec::H264 }, SequencedTrack { track: 1, codec: Codec::Pcm(channels) }];
        let mut units = Vec::new();
        for n in 0..25u64 {
            let (data, keyframe) = gop(false, n);
            units.push((Duration::from_millis(40 * n), unit(0, 900_000 + n * 3600, keyframe, data)));
            units.push((Duration::from_millis(40 * n), unit(1, 900_000 + n * 3600, true, samples(channels, n))));
        }
        let (reader, read) = assert_legal(&play(Remux::new(&tracks, Duration::from_millis(80)), units), false);
        assert_eq!(reader.info().audio, Some((48_000, carried)));
        let sound: Vec<u8> =
            read.iter().filter(|u| u.kind == StreamKind::St302).flat_map(|u| st302_samples(&u.data).expect("samples").1).collect();
        let sent: Vec<u8> = (0..25).flat_map(|n| fit_channels(&samples(channels, n), channels, carried)).collect();
        assert_eq!(sound, sent, "{channels} channels");
    }
    // By RTP whole blocks, each packet with its own time.
    let mut packer = Packetizer::new(Codec::Pcm(6), 97, 48_000, IDS);
    let packets = parse(&packer.pack(90_000, true, &samples(6, 1)));
    let blocks = packets.iter().map(|p| p.payload.len() / 18).collect::<Vec<_>>();
    assert!(packets.iter().all(|p| p.payload.len() % 18 == 0) && blocks.iter().sum::<usize>() == 1920);
    assert!(packets.windows(2).zip(&blocks).all(|(w, b)| w[1].timestamp.wrapping_sub(w[0].timestamp) as usize == *b));
}

/// The whole receiving side over a path with loss and reordering: everything that was not hit comes
/// out, in order.
#[test]
fn over_a_bad_path_whole_pictures_come_out_in_order() {
    use choir_path::{Faults, Path};
    let ms = Duration::from_millis;
    for (loss, seed) in [(0.0, 1), (0.0, 2), (0.01, 3), (0.05, 4)] {
        let start = Instant::now();
        let faults = Faults { delay: ms(5), jitter: ms(2), reorder: 0.02, duplicate: 0.01, loss, ..Faults::default() };
        let mut path = Path::new(faults, seed);
        let mut packer = Packetizer::new(Codec::H264, 96, 90_000, IDS);
        let config = ReceiverConfig {
            format: format_of(&Codec::H264),
            payload_type: 96,
            clock_rate: 90_000,
            depth: ms(60),
            damage: Damage::Wait,
            own_ssrc: 1,
        };
        let (mut receiver, mut group) = (RtpReceiver::new(0, config), SyncGroup::new(&[90_000], 0));
        let mut got = Vec::new();
        let mut out = Vec::new();
        let mut events: Vec<(Instant, Bytes)> = Vec::new();
        for n in 0..400u64 {
            let (data, keyframe) = gop(false, n);
            for (i, packet) in packer.pack(n * 3600, keyframe, &data).packets().enumerate() {
                let at = ms(40 * n) + Duration::from_micros(i as u64 * 200);
                let fate = path.pass(at, packet.len());
                events.extend(fate.first.into_iter().chain(fate.second).map(|arrives| (start + arrives, packet.clone())));
            }
        }
        events.sort_by_key(|(at, _)| *at);
        for (at, data) in events {
            while let Some(due) = receiver.poll_timeout().filter(|t| *t <= at) {
                receiver.handle_timeout(due);
                let _ = receiver.poll_report(due, "test");
                receiver.poll(&mut group, &mut out);
            }
            receiver.handle_rtp(at, &data, &mut group).expect("a packet");
            receiver.poll(&mut group, &mut out);
        }
        receiver.handle_timeout(start + Duration::from_secs(60));
        receiver.poll(&mut group, &mut out);
        for received in out {
            let Received::Unit(u) = received else { panic!("a restart") };
            got.push((u.pts, u.joined()));
        }
        let first = got.first().expect("pictures").0;
        let numbers: Vec<u64> = got.iter().map(|(pts, _)| (pts - first) / 3600).collect();
        for (n, (_, data)) in numbers.iter().zip(&got) {
            assert_eq!(*data, gop(false, *n).0, "picture {n} is whole");
        }
        assert!(numbers.windows(2).all(|w| w[0] < w[1]));
        let stats = receiver.stats();
        if loss == 0.0 {
            assert_eq!(numbers.len(), 400, "seed {seed}: {stats:?}");
            assert!(stats.order.reordered > 0 && stats.order.duplicates > 0 && stats.order.missing == 0);
        } else {
            assert!(numbers.len() > 100 && stats.order.missing > 5, "{} {stats:?}", numbers.len());
        }
    }
}

#[test]
fn one_wrong_time_stamp_costs_nothing_and_is_counted() {
    for wrong in [-90_000i64, 90_000, 270_000] {
        let mut remux = Remux::new(&[SequencedTrack { track: 0, codec: Codec::H264 }], Duration::from_millis(80));
        let start = Instant::now();
        let (mut out, mut last, mut behind) = (Vec::new(), None, Vec::new());
        let mut checker = TsChecker::new(Origin::Start);
        for n in 0..300u64 {
            let (data, keyframe) = gop(false, n);
            let pts = (900_000 + n * 3600).saturating_add_signed(if n == 100 { wrong } else { 0 });
            let now = start + Duration::from_millis(40 * n);
            while let Some(due) = remux.0.poll_timeout().filter(|t| *t <= now) {
                remux.handle_timeout(due, &mut out);
            }
            remux.push(now, &unit(0, pts, keyframe, data), &mut out);
            for raw in out.chunks(TS_PACKET) {
                let p = TsPacket::parse(raw).expect("a packet");
                last = p.adaptation.and_then(|a| a.pcr).or(last);
                let header = p.payload.filter(|_| p.unit_start && p.pid == 0x100).and_then(PesHeader::parse);
                if let (Some(h), Some(pcr)) = (header, last) {
                    behind.push(wrapped_distance(h.dts.or(h.pts).expect("a time"), pcr / 300, PTS_WRAP));
                }
            }
            checker.push(&std::mem::take(&mut out).into());
        }
        assert_eq!((behind.len(), remux.0.mended_stamps()), (300, 1), "no picture is lost");
        assert!(behind[150..].iter().all(|ticks| (0..90 * 100).contains(ticks)), "{wrong}: {:?}", &behind[150..160]);
        checker.finish(false);
        assert!(checker.findings().iter().all(|f| f.minor), "{:?}", checker.findings());
    }
}

#[test]
fn a_clock_that_moves_for_good_is_followed_within_a_second() {
    for moved in [-90_000i64, 180_000] {
        let mut remux = Remux::new(&[SequencedTrack { track: 0, codec: Codec::H264 }], Duration::from_millis(80));
        let start = Instant::now();
        let mut out = Vec::new();
        for n in 0..200u64 {
            let (data, keyframe) = gop(false, n);
            let pts = (900_000 + n * 3600).saturating_add_signed(if n >= 100 { moved } else { 0 });
            if n == 125 {
                out.clear();
            }
            remux.push(start + Duration::from_millis(40 * n), &unit(0, pts, keyframe, data), &mut out);
        }
        let mut checker = TsChecker::new(Origin::Joined);
        checker.push(&out.into());
        checker.finish(false);
        let found: Vec<_> = checker.findings().into_iter().filter(|f| !f.minor && f.fault != TsFault::PcrInterval).collect();
        assert!(found.is_empty() && remux.0.clock_moves() == 1, "{moved}: {found:?}");
    }
}

#[test]
fn sound_that_is_brought_into_step_never_overlaps() {
    let config = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
    let sound = config.adts_header(100).expect("fits").into_iter().chain([7; 100]).collect::<Vec<u8>>();
    let tracks = [SequencedTrack { track: 0, codec: Codec::H264 }, SequencedTrack { track: 1, codec: Codec::Aac(config) }];
    let mut units = Vec::new();
    for n in 0..100 {
        let (data, keyframe) = gop(false, n);
        units.push((Duration::from_millis(40 * n), unit(0, 900_000 + n * 3600, keyframe, data)));
    }
    for n in 0..180 {
        // After a second a report puts it 37 ms back, later another one forward again.
        let back = if (50..100).contains(&n) { 37 * 90 } else { 0 };
        units.push((Duration::from_micros(n * 21_333 + 500), unit(1, 900_000 + n * 1920 - back, true, sound.clone())));
    }
    units.sort_by_key(|(at, _)| *at);
    let out: Vec<u8> = play(Remux::new(&tracks, Duration::from_millis(80)), units).into_iter().flat_map(|(_, b)| b).collect();
    let mut checker = TsChecker::new(Origin::Start);
    checker.push(&out.into());
    checker.finish(false);
    let found: Vec<_> = checker.findings().into_iter().filter(|f| !f.minor && f.fault != TsFault::SoundGap).collect();
    assert!(found.is_empty(), "{found:?}");
}
