//! Transport streams: written, read, damaged, spliced.

use bytes::Bytes;
use choir_proto::{
    h26x::{Stamp, stamp_sei},
    ts::{
        Cut, Depth, Index, MuxRate, PCR_WRAP, PTS_WRAP, PacketAligner, Preroll, SourceKey, Splicer, StreamKind, TS_PACKET, TsPacket,
        TsReader, TsWriter, Unit, WriterConfig, wrapped_distance,
    },
};
use proptest::prelude::*;

/// 1280x720, high profile, level 3.1, 25 frames per second, as an encoder wrote it.
const SPS: &[u8] = &[
    0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00, 0x80, 0x00,
    0x00, 0x19, 0x07, 0x8c, 0x18, 0xcb,
];
const FRAME: u64 = 3600;

/// A frame whose slices are noise that can be known again.
fn frame(n: u64, keyframe: bool, size: usize) -> Vec<u8> {
    let mut data = Vec::new();
    if keyframe {
        data.extend_from_slice(&[0, 0, 0, 1]);
        data.extend_from_slice(SPS);
        data.extend_from_slice(&[0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80]);
    }
    data.extend(stamp_sei(Stamp { unix_us: 1_000_000 + n * 40_000, frame: Some(n) }));
    data.extend_from_slice(&[0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }]);
    data.extend((0..size).map(|i| (i as u64 * 31 + n * 7) as u8 | 4));
    data
}

fn audio() -> Vec<u8> {
    let mut f = vec![0xFF, 0xF1, 0x4C, 0x80, 0x02, 0x5F, 0xFC];
    f.resize(18, 9);
    f
}

/// `frames` frames at 25 per second with a keyframe each `gop`, from time stamp `pts`.
fn stream(config: WriterConfig, pts: u64, frames: u64, gop: u64, size: usize) -> Vec<Vec<u8>> {
    let mut writer = TsWriter::new(config);
    let parts = (0..frames)
        .map(|n| {
            let mut out = Vec::new();
            let t = pts + n * FRAME;
            let keyframe = n % gop == 0;
            let data = frame(n, keyframe, if keyframe { size * 4 } else { size });
            writer.write(&Unit { video: true, pts: t, dts: None, keyframe, data: &[&data] }, &mut out);
            writer.write(&Unit { video: false, pts: t, dts: None, keyframe: true, data: &[&audio()] }, &mut out);
            out
        })
        .collect();
    assert_eq!(writer.late_units(), 0);
    parts
}

fn read(parts: &[Vec<u8>], depth: Depth) -> TsReader {
    let mut reader = TsReader::new(depth);
    for (n, part) in parts.iter().enumerate() {
        reader.push(n as i64 * 40_000, &Bytes::copy_from_slice(part));
    }
    reader
}

#[test]
fn what_is_written_is_read_again() {
    for rate in [MuxRate::Variable, MuxRate::Constant(6_000_000)] {
        // Across the wrap of the time stamps.
        let parts = stream(WriterConfig { rate, ..WriterConfig::default() }, PTS_WRAP - 30 * FRAME, 100, 25, 9000);
        let mut reader = read(&parts, Depth::Units);
        let info = reader.info();
        assert_eq!(info.counters.continuity_errors + info.counters.crc_errors + info.counters.sync_losses, 0);
        assert_eq!(info.streams.iter().map(|s| s.kind).collect::<Vec<_>>(), [StreamKind::H264, StreamKind::AacAdts]);
        let video = info.video.expect("video");
        let format = video.format.expect("format");
        assert_eq!((format.width, format.height, format.profile.as_str(), format.level.as_str()), (1280, 720, "high", "3.1"));
        assert_eq!(format.declared_rate, Some(25.0));
        assert_eq!(video.measured_rate, Some(25.0));
        assert_eq!((video.keyframe_frames, video.keyframe_ms), (Some(25), Some(1000)));
        assert_eq!(info.audio, Some((48_000, 2)));
        let mut n = 0;
        while let Some(unit) = reader.poll_unit() {
            if unit.kind == StreamKind::H264 {
                assert_eq!(unit.pts, Some((PTS_WRAP - 30 * FRAME + n * FRAME) % PTS_WRAP));
                assert_eq!(unit.keyframe, n % 25 == 0);
                let size = if n % 25 == 0 { 36_000 } else { 9000 };
                assert_eq!(unit.data[..6], [0, 0, 0, 1, 9, 0xF0], "starts with a delimiter");
                assert_eq!(unit.data[6..], frame(n, n % 25 == 0, size));
                n += 1;
            } else {
                assert_eq!(unit.data, audio());
            }
        }
        assert_eq!(n, 100, "also the last, whose end its stuffing or length tells");
    }
}

#[test]
fn tables_and_clock_come_often_enough_and_the_rate_is_constant() {
    let rate = 6_000_000;
    let parts = stream(WriterConfig { rate: MuxRate::Constant(rate), ..WriterConfig::default() }, 900_000, 200, 50, 9000);
    let all = parts.concat();
    let (mut tables, mut clocks) = (Vec::new(), Vec::new());
    for (i, raw) in all.chunks(TS_PACKET).enumerate() {
        let p = TsPacket::parse(raw).expect("a packet");
        let at = (i * TS_PACKET * 8) as f64 / rate as f64;
        if p.pid == 0 {
            tables.push(at);
        }
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr) {
            clocks.push((at, pcr));
        }
    }
    let longest = |v: &[f64]| v.windows(2).map(|w| w[1] - w[0]).fold(0.0, f64::max);
    assert!(longest(&tables) <= 0.1, "tables {} s apart", longest(&tables));
    let times: Vec<f64> = clocks.iter().map(|c| c.0).collect();
    assert!(longest(&times) <= 0.040, "clock {} s apart", longest(&times));
    for w in clocks.windows(2) {
        let by_bytes = (w[1].0 - w[0].0) * 27e6;
        let by_clock = wrapped_distance(w[1].1, w[0].1, PCR_WRAP) as f64;
        // 500 ns is what the standard allows; ours is exact to a tick.
        assert!((by_bytes - by_clock).abs() <= 2.0, "{by_bytes} against {by_clock}");
    }
}

#[test]
fn every_frame_starts_with_a_delimiter_and_every_keyframe_is_flagged() {
    let all = stream(WriterConfig::default(), 900_000, 60, 20, 3000).concat();
    let mut starts = 0;
    for raw in all.chunks(TS_PACKET) {
        let p = TsPacket::parse(raw).expect("a packet");
        if p.pid == 0x100 && p.unit_start {
            assert_eq!(p.adaptation.is_some_and(|a| a.random_access), starts % 20 == 0);
            starts += 1;
        }
    }
    assert_eq!(starts, 60);
}

#[test]
fn damage_is_counted_and_reading_goes_on() {
    let parts = stream(WriterConfig::default(), 900_000, 100, 25, 5000);
    let mut all = parts.concat();
    let middle = all.len() / 2 / TS_PACKET * TS_PACKET;
    all.drain(middle..middle + 500);
    let mut reader = TsReader::new(Depth::Heads);
    // Odd pieces, so that packets are cut anywhere.
    for (n, piece) in all.chunks(1001).enumerate() {
        reader.push(n as i64, &Bytes::copy_from_slice(piece));
    }
    let info = reader.info();
    assert!(info.counters.sync_losses >= 1 && info.counters.continuity_errors >= 1, "{:?}", info.counters);
    assert!(info.video.expect("video").frames > 95);
}

#[test]
fn a_lost_packet_breaks_one_frame_and_is_seen_by_its_counter() {
    let parts = stream(WriterConfig { audio: None, ..WriterConfig::default() }, 900_000, 20, 5, 5000);
    let mut damaged = parts.clone();
    let victim = damaged[7].len() / 2 / TS_PACKET * TS_PACKET;
    damaged[7].drain(victim..victim + TS_PACKET);
    let mut reader = read(&damaged, Depth::Units);
    assert_eq!(reader.info().counters.continuity_errors, 1);
    let whole: Vec<_> = std::iter::from_fn(|| reader.poll_unit()).map(|u| u.pts).collect();
    assert_eq!(whole.len(), 19, "20 less the broken one");
    assert!(!whole.contains(&Some(900_000 + 7 * FRAME)));
}

#[test]
fn the_delay_is_the_median_time_from_stamp_to_the_whole_picture() {
    let parts = stream(WriterConfig::default(), 90_000, 60, 10, 3000);
    let mut reader = TsReader::new(Depth::Heads);
    // Most come 80 ms after they were taken; some far later.
    for (n, part) in parts.iter().enumerate() {
        let late = if n % 5 == 0 { 400_000 } else { 0 };
        reader.push(1_000_000 + n as i64 * 40_000 + 80_000 + late, &Bytes::copy_from_slice(part));
    }
    let delay = reader.info().video.and_then(|v| v.delay_us).expect("a delay");
    assert!((delay - 80_000).abs() <= 2000, "{delay} µs");
}

#[test]
fn times_that_break_the_standard_are_counted() {
    let steady = |pts: u64, frames: u64| stream(WriterConfig::default(), pts, frames, 10, 1000);
    let faults = |parts: &[Vec<u8>]| read(parts, Depth::Heads).info().faults;
    let good = faults(&steady(90_000, 50));
    assert_eq!((good.pcr, good.pts), (0, 0));
    // Across the wrap of both clocks nothing is wrong.
    let wrapped = faults(&steady(PTS_WRAP - 20 * FRAME, 50));
    assert_eq!((wrapped.pcr, wrapped.pts), (0, 0));
    // A second is left out, then it goes back by half.
    let jumps: Vec<Vec<u8>> = [steady(900_000, 10), steady(900_000 + 35 * FRAME, 10), steady(900_000 + 30 * FRAME, 10)].concat();
    let found = faults(&jumps);
    assert!(found.pts == 2 && found.pcr >= 2, "{found:?}");
}

#[test]
fn the_stamp_in_the_picture_is_found() {
    let parts = stream(WriterConfig::default(), 900_000, 10, 5, 3000);
    let mut reader = TsReader::new(Depth::Heads);
    for (n, part) in parts.iter().enumerate() {
        reader.push(1_000_000 + n as i64 * 40_000 + 55_000, &Bytes::copy_from_slice(part));
    }
    let (stamp, complete) = reader.info().video.and_then(|v| v.stamp).expect("a stamp");
    assert_eq!(stamp.frame, Some(9));
    assert_eq!(complete - stamp.unix_us as i64, 55_000);
}

/// A source in front of a splicer.
#[derive(Default)]
struct Source {
    aligner: PacketAligner,
    index: Index,
    preroll: Preroll,
}

impl Source {
    fn splice(&mut self, splicer: &mut Splicer, wanted: u32, key: SourceKey, now: i64, data: &Bytes) -> (Bytes, Option<Cut>) {
        let mut parts = Vec::new();
        self.aligner.push(data, |part| parts.push(part));
        let (mut out, mut made) = (Vec::new(), None);
        for part in &parts {
            let piece = self.index.push(part);
            let (bytes, cut) = splicer.push(Some(wanted), key, now, &piece, &self.preroll);
            self.preroll.push(now, &piece);
            made = made.or(cut);
            out.push(bytes);
        }
        let out = if let [one] = &out[..] { one.clone() } else { Bytes::from(out.concat()) };
        (out, made)
    }
}

const ONE: SourceKey = SourceKey { line: 1, session: 0 };
const TWO: SourceKey = SourceKey { line: 2, session: 0 };

#[test]
fn one_source_passes_byte_exact_and_uncopied() {
    let parts = stream(WriterConfig::default(), 900_000, 50, 10, 3000);
    let mut splicer = Splicer::new();
    let mut source = Source::default();
    for (n, part) in parts.iter().enumerate() {
        let data = Bytes::from(part.clone());
        let (out, _) = source.splice(&mut splicer, 1, ONE, n as i64 * 40_000, &data);
        assert_eq!(out, data);
        assert_eq!(out.as_ptr(), data.as_ptr(), "not copied");
    }
}

#[test]
fn a_take_cuts_at_a_keyframe_and_nothing_jumps() {
    // Another clock, another layout, another phase of the keyframes.
    let first = stream(WriterConfig::default(), PTS_WRAP - 20 * FRAME, 200, 25, 3000);
    let other = WriterConfig {
        pmt_pid: 0x1100,
        video: Some(choir_proto::ts::PmtStream { pid: 0x200, kind: StreamKind::H264 }),
        audio: None,
        ..WriterConfig::default()
    };
    let second = stream(other, 5_000_000, 200, 30, 4000);
    let mut splicer = Splicer::new();
    let mut wanted = 1;
    let mut out = Vec::new();
    let mut cuts = Vec::new();
    let mut sources = [Source::default(), Source::default()];
    for n in 0..200usize {
        match n {
            40 => wanted = 2,
            110 => wanted = 1,
            _ => {}
        }
        for ((key, parts), source) in [(ONE, &first), (TWO, &second)].into_iter().zip(&mut sources) {
            // The second runs half a frame behind the first.
            let now = n as i64 * 40_000 + if key == TWO { 20_000 } else { 0 };
            let (bytes, cut) = source.splice(&mut splicer, wanted, key, now, &Bytes::from(parts[n].clone()));
            out.push((n, bytes));
            cuts.extend(cut.map(|c| (n, c.to)));
        }
    }
    assert_eq!(cuts[1..], [(60, TWO), (125, ONE)], "at the keyframes after the takes: {cuts:?}");
    let mut reader = TsReader::new(Depth::Units);
    let mut last_pcr: Option<u64> = None;
    let mut times = Vec::new();
    for (n, bytes) in &out {
        reader.push(*n as i64 * 40_000, bytes);
        times.extend(std::iter::from_fn(|| reader.poll_unit()).filter(|u| u.kind == StreamKind::H264).filter_map(|u| u.pts));
        for raw in bytes.chunks(TS_PACKET) {
            let p = TsPacket::parse(raw).expect("a packet");
            if let Some(pcr) = p.adaptation.and_then(|a| a.pcr) {
                if let Some(last) = last_pcr {
                    let step = wrapped_distance(pcr, last, PCR_WRAP);
                    assert!((0..=27_000_000 / 1000 * 45).contains(&step), "clock stepped {step} at frame {n}");
                }
                last_pcr = Some(pcr);
            }
        }
    }
    assert_eq!(reader.info().counters.continuity_errors, 0);
    for (i, w) in times.windows(2).enumerate() {
        let step = wrapped_distance(w[1], w[0], PTS_WRAP);
        assert!((FRAME as i64 / 2 - 10..=2 * FRAME as i64).contains(&step), "time stamps step {step} at {i}");
    }
    assert!(times.len() > 190, "{} frames", times.len());
}

#[test]
fn a_restarted_source_is_cut_in_like_another_one() {
    let before = stream(WriterConfig::default(), 900_000, 60, 10, 3000);
    let after = stream(WriterConfig::default(), 77, 60, 10, 3000);
    let again = SourceKey { session: 1, ..ONE };
    let mut splicer = Splicer::new();
    let mut reader = TsReader::new(Depth::Units);
    let mut source = Source::default();
    for (n, part) in before.iter().chain(&after).enumerate() {
        let key = if n < 60 { ONE } else { again };
        if n == 60 {
            source = Source::default();
        }
        let (out, _) = source.splice(&mut splicer, 1, key, n as i64 * 40_000, &Bytes::from(part.clone()));
        reader.push(n as i64 * 40_000, &out);
    }
    assert_eq!(reader.info().counters.continuity_errors, 0);
    let times: Vec<u64> = std::iter::from_fn(|| reader.poll_unit()).filter(|u| u.kind == StreamKind::H264).filter_map(|u| u.pts).collect();
    assert!(times.windows(2).all(|w| (0..20_000).contains(&wrapped_distance(w[1], w[0], PTS_WRAP))), "{times:?}");
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 200, ..ProptestConfig::default() })]

    #[test]
    fn any_bytes_are_read_without_panic(data in prop::collection::vec(any::<u8>(), 0..4000), cut in 1usize..400) {
        let mut reader = TsReader::new(Depth::Units);
        let mut splicer = Splicer::new();
        let mut source = Source::default();
        for piece in data.chunks(cut) {
            reader.push(0, &Bytes::copy_from_slice(piece));
            source.splice(&mut splicer, 1, ONE, 0, &Bytes::copy_from_slice(piece));
        }
        let _ = reader.info();
    }

    #[test]
    fn damaged_streams_are_read_without_panic(places in prop::collection::vec((0usize..100_000, any::<u8>()), 1..200), cut in 1usize..3000) {
        let mut all = stream(WriterConfig::default(), 900_000, 30, 10, 2000).concat();
        for (at, value) in places {
            let len = all.len();
            all[at % len] = value;
        }
        let mut reader = TsReader::new(Depth::Units);
        let mut splicer = Splicer::new();
        let mut wanted = 1;
        for piece in all.chunks(cut) {
            reader.push(0, &Bytes::copy_from_slice(piece));
        }
        let mut sources = [Source::default(), Source::default()];
        for (n, piece) in all.chunks(7 * TS_PACKET).enumerate() {
            if n == 30 {
                wanted = 2;
            }
            let (key, source) = if n < 30 { (ONE, &mut sources[0]) } else { (TWO, &mut sources[1]) };
            source.splice(&mut splicer, wanted, key, n as i64, &Bytes::copy_from_slice(piece));
        }
        while reader.poll_unit().is_some() {}
    }

    /// Plain packets are taken many at a time: whatever is damaged among them, nothing that is
    /// known of a stream depends on how many come at once.
    #[test]
    fn a_piece_says_what_its_packets_say_one_by_one(
        places in prop::collection::vec((0usize..700, 1usize..12, any::<u8>()), 0..60),
        gone in prop::collection::vec(0usize..700, 0..4),
        many in 2usize..40,
        with_lengths in any::<bool>(),
        depth in prop::sample::select(vec![Depth::Heads, Depth::Units]),
    ) {
        let mut all = stream(WriterConfig::default(), 900_000, 40, 10, 2000).concat();
        let mut packets: Vec<&mut [u8]> = all.chunks_mut(TS_PACKET).collect();
        if with_lengths {
            // Short ones, so that units end among plain packets.
            packets.iter_mut().filter(|p| p[1] & 0x40 != 0 && p[4..8] == [0, 0, 1, 0xE0]).for_each(|p| p[8..10].copy_from_slice(&[2, 0]));
        }
        for (packet, at, value) in places {
            let count = packets.len();
            packets[packet % count][at] = value;
        }
        let count = packets.len();
        let kept = packets.iter().enumerate().filter(|(n, _)| !gone.iter().any(|g| g % count == *n));
        let all: Vec<u8> = kept.flat_map(|(_, p)| p.iter().copied()).collect();
        let after = stream(WriterConfig::default(), 4_000_000, 40, 10, 2000).concat();
        let (before, rest) = after.split_at(after.len() / 2 / TS_PACKET * TS_PACKET);

        let told = |cut: usize| {
            let (mut reader, mut splicer, mut sources) = (TsReader::new(depth), Splicer::new(), [Source::default(), Source::default()]);
            let mut out = Vec::new();
            for piece in all.chunks(cut).map(Bytes::copy_from_slice) {
                reader.push(0, &piece);
                out.extend(sources[0].splice(&mut splicer, 1, ONE, 0, &piece).0);
            }
            for piece in before.chunks(cut).map(Bytes::copy_from_slice) {
                sources[1].splice(&mut splicer, 1, TWO, 0, &piece);
            }
            // From here on in the same pieces: what is written depends on what has been seen.
            for piece in rest.chunks(7 * TS_PACKET).map(Bytes::copy_from_slice) {
                out.extend(sources[1].splice(&mut splicer, 2, TWO, 0, &piece).0);
            }
            let units: Vec<_> = std::iter::from_fn(|| reader.poll_unit()).collect();
            (reader.info(), units, out)
        };
        let (one_by_one, together) = (told(TS_PACKET), told(many * TS_PACKET));
        prop_assert_eq!(&one_by_one.0, &together.0);
        prop_assert_eq!(&one_by_one.1, &together.1);
        prop_assert!(one_by_one.2 == together.2);
    }

    #[test]
    fn any_cut_of_the_bytes_reads_the_same(cut in 1usize..2000) {
        let all = stream(WriterConfig::default(), 900_000, 30, 10, 2000).concat();
        let mut reader = TsReader::new(Depth::Units);
        all.chunks(cut).for_each(|c| reader.push(0, &Bytes::copy_from_slice(c)));
        prop_assert_eq!(reader.info().counters.packets, (all.len() / TS_PACKET) as u64);
        prop_assert_eq!(reader.info().counters.continuity_errors, 0);
    }
}
