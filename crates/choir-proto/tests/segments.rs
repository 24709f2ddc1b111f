//! Segments of a transport stream: each can be played by itself, and together they are the stream.

use bytes::Bytes;
use choir_proto::ts::{
    Origin, Part, PmtStream, SegmentLimit, Segments, StreamKind, TS_PACKET, TsChecker, TsPacket, TsWriter, Unit, WriterConfig,
};
use proptest::prelude::*;

const SETS: [u8; 22] = [0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];

/// Pictures of these sizes, 25 a second, with a keyframe each so many; sound between them.
fn stream(sizes: &[usize], every: usize) -> Vec<u8> {
    let mut writer =
        TsWriter::new(WriterConfig { audio: Some(PmtStream { pid: 0x101, kind: StreamKind::AacAdts }), ..WriterConfig::default() });
    let (mut out, silence) = (Vec::new(), choir_proto::audio::aac_silence(48_000, 2));
    for (n, size) in sizes.iter().enumerate() {
        let keyframe = n % every == 0;
        let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88];
        let body = vec![0xA5; *size];
        let sets: &[u8] = if keyframe { &SETS } else { &[] };
        let pts = 900_000 + n as u64 * 3600;
        writer.write(&Unit { video: true, pts, dts: None, keyframe, data: &[sets, &head, &body] }, &mut out);
        for m in 0..2 {
            writer.write(&Unit { video: false, pts: pts + m * 1920, dts: None, keyframe: false, data: &[&silence] }, &mut out);
        }
    }
    out
}

/// The files, when it is pushed in pieces of this size, a second of it in a second.
fn cut(data: &[u8], piece: usize, limit: SegmentLimit, frames: usize) -> Vec<Vec<u8>> {
    let (mut segments, mut files) = (Segments::new(limit), Vec::<Vec<u8>>::new());
    let mut give = |part: Part| match part {
        Part::Begin(bytes) => files.push(bytes.to_vec()),
        Part::More(bytes) => files.last_mut().expect("begun").extend_from_slice(&bytes),
    };
    let pieces = data.len().div_ceil(piece).max(1);
    for (n, bytes) in data.chunks(piece).enumerate() {
        let now = (frames as i64 * 40_000) * n as i64 / pieces as i64;
        segments.push(now, &Bytes::copy_from_slice(bytes), &mut give);
    }
    segments.finish(&mut give);
    files
}

fn pid(raw: &[u8]) -> u16 {
    TsPacket::parse(raw).expect("a packet").pid
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn each_segment_plays_by_itself_and_together_they_are_the_stream(
        sizes in prop::collection::vec(0usize..3000, 60..160),
        every in 5usize..30,
        piece in 1usize..4000,
        time in 100_000i64..2_000_000,
        bytes in 20_000u64..400_000,
    ) {
        let data = stream(&sizes, every);
        let files = cut(&data, piece, SegmentLimit { time_us: time, bytes }, sizes.len());
        prop_assert!(files.len() > 1 || sizes.len() < 2 * every || data.len() < 2 * bytes as usize);
        let mut joined = Vec::new();
        for file in &files {
            prop_assert_eq!(file.len() % TS_PACKET, 0);
            let packets: Vec<&[u8]> = file.chunks(TS_PACKET).collect();
            prop_assert_eq!((pid(packets[0]), pid(packets[1]), pid(packets[2])), (0, 0x1000, 0x100));
            let first = TsPacket::parse(packets[2]).expect("a packet");
            prop_assert!(first.unit_start && first.payload.expect("a payload").windows(5).any(|w| w == [0, 0, 0, 1, 0x67]));
            let mut checker = TsChecker::new(Origin::Joined);
            checker.push(&file.clone().into());
            checker.finish(false);
            let found: Vec<_> = checker.findings().into_iter().filter(|f| !f.minor).collect();
            prop_assert!(found.is_empty(), "{:?}", found);
            joined.extend_from_slice(&file[2 * TS_PACKET..]);
        }
        // All of the stream but what came before its first keyframe: its tables.
        prop_assert!(data.ends_with(&joined) && data.len() - joined.len() <= 4 * TS_PACKET, "{} of {}", joined.len(), data.len());
    }

    #[test]
    fn junk_is_no_segment_and_no_panic(data in prop::collection::vec(any::<u8>(), 0..20_000), piece in 1usize..3000) {
        let mut given = 0;
        let mut segments = Segments::new(SegmentLimit { time_us: 1_000_000, bytes: 5000 });
        for (n, bytes) in data.chunks(piece).enumerate() {
            segments.push(n as i64 * 500_000, &Bytes::copy_from_slice(bytes), |_| given += 1);
        }
        prop_assert!(given <= data.len());
    }
}

#[test]
fn a_stream_without_keyframes_is_written_all_the_same() {
    // From its second picture on, in which there is no keyframe any more.
    let data = stream(&[500; 400], 1000);
    let files = cut(&data[20 * TS_PACKET..], 1316, SegmentLimit { time_us: 1_000_000, bytes: u64::MAX }, 400);
    assert_eq!(files.len(), 1);
    assert!(files[0].len() > data.len() / 2);
}
