//! MP4 files in fragments: what is written is read again, whatever its pictures and sound are.

mod streams;

use bytes::Bytes;
use choir_proto::{
    adts,
    mp4::{Mp4File, Mp4Writer, NotWritten, SampleData},
    ts::{AccessUnit, Depth, PTS_WRAP, StreamKind, TsReader},
};
use proptest::prelude::*;
use std::io::Cursor;
use streams::{Make, stream};

/// The units of a source as they come out of its transport stream.
fn units(make: &Make, pictures: u64) -> Vec<AccessUnit> {
    let mut reader = TsReader::new(Depth::Units);
    let mut all = Vec::new();
    for (at, bytes) in stream(make, pictures, 0) {
        reader.push(at as i64, &bytes);
        all.extend(std::iter::from_fn(|| reader.poll_unit()));
    }
    all
}

fn written(units: &[AccessUnit]) -> Vec<u8> {
    let (mut writer, mut out) = (Mp4Writer::default(), Vec::new());
    for unit in units {
        writer.push(unit, &mut out).expect("written");
    }
    writer.finish(&mut out);
    out
}

/// Without start codes, delimiters and parameter sets: what a picture is.
fn slices(kind: StreamKind, data: &[u8]) -> Vec<Vec<u8>> {
    let other = |nal: &&[u8]| {
        let kind = if kind == StreamKind::H265 { nal[0] >> 1 & 63 } else { nal[0] & 31 };
        !matches!(kind, 7 | 8 | 9 | 32..=35)
    };
    choir_proto::h26x::nal_units(data).filter(|n| !n.is_empty()).filter(other).map(<[u8]>::to_vec).collect()
}

fn make() -> impl Strategy<Value = Make> {
    let picture = (5u64..30, prop::sample::select(vec![1800u64, 3600, 3000]), 300usize..4000, prop::sample::select(vec![0u64, 2]));
    (picture, prop::sample::select(vec![0u64, 1, 3]), prop::sample::select(vec![900_000, PTS_WRAP - 100_000])).prop_map(
        |((gop, frame, size, b), aac, dts)| {
            let gop = gop / (b + 1) * (b + 1) + (b + 1);
            Make { gop, frame, size, b, aac, dts, ..Make::default() }
        },
    )
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 40, ..ProptestConfig::default() })]

    #[test]
    fn what_is_written_is_read_again(make in make()) {
        let units = units(&make, 150);
        let file_bytes = written(&units);
        let file = Mp4File::read(&mut Cursor::new(&file_bytes)).expect("read");
        let first = units.iter().position(|u| u.kind.is_video() && u.keyframe).expect("a keyframe");
        let pictures: Vec<&AccessUnit> = units[first..].iter().filter(|u| u.kind.is_video()).collect();
        let read: Vec<_> = file.samples.iter().filter(|s| s.video).collect();
        prop_assert_eq!(read.len(), pictures.len());
        let zero = pictures[0].dts.or(pictures[0].pts).expect("a time");
        let SampleData::Picture { kind, .. } = &file.picture else { panic!("no picture") };
        for (sample, unit) in read.iter().zip(&pictures) {
            let (pts, dts) = (unit.pts.expect("a time"), unit.dts.or(unit.pts).expect("a time"));
            let since = |time: u64| (time + PTS_WRAP - zero) % PTS_WRAP;
            prop_assert_eq!((sample.dts, sample.pts, sample.keyframe), (since(dts), since(pts), unit.keyframe));
            let data = &file_bytes[sample.offset as usize..sample.offset as usize + sample.size as usize];
            prop_assert_eq!(slices(*kind, &file.picture.unit(data, sample.keyframe)), slices(*kind, &unit.data));
        }
        let frames: Vec<_> = file.samples.iter().filter(|s| !s.video).collect();
        prop_assert_eq!(frames.is_empty(), make.aac == 0);
        for pair in frames.windows(2) {
            prop_assert!((pair[1].dts - pair[0].dts).abs_diff(1920) <= 2, "{:?}", pair);
        }
        if let (Some(sample), Some(sound)) = (frames.first(), &file.sound) {
            let data = &file_bytes[sample.offset as usize..sample.offset as usize + sample.size as usize];
            prop_assert_eq!(adts::parse(&sound.unit(data, true)).map(|h| (h.sample_rate, h.channels)), Some((48_000, 2)));
        }
    }
}

#[test]
fn a_file_cut_off_anywhere_keeps_its_whole_fragments() {
    let whole = written(&units(&Make::default(), 100));
    let all = Mp4File::read(&mut Cursor::new(&whole)).expect("read").samples.len();
    let mut kept = 0;
    for n in (0..whole.len()).step_by(977) {
        if let Ok(file) = Mp4File::read(&mut Cursor::new(&whole[..n])) {
            assert!(file.samples.len() >= kept && file.samples.len() <= all);
            kept = file.samples.len();
        }
    }
    assert!(kept > all / 2, "{kept} of {all}");
}

#[test]
fn another_picture_is_not_written_into_the_same_file() {
    let first = units(&Make::default(), 60);
    let mut second = units(&Make::default(), 60);
    let place = second.iter().position(|u| u.keyframe && u.kind.is_video()).expect("a keyframe");
    let mut data = second[place].data.to_vec();
    // Another level in the SPS.
    let sps = data.windows(4).position(|w| w == [0x67, 0x64, 0, 0x1F]).expect("an SPS");
    data[sps + 3] = 0x20;
    second[place].data = Bytes::from(data);
    let (mut writer, mut out) = (Mp4Writer::default(), Vec::new());
    first.iter().for_each(|u| writer.push(u, &mut out).expect("written"));
    let refused = second.iter().find_map(|u| writer.push(u, &mut out).err());
    assert_eq!(refused, Some(NotWritten::Changes));
    writer.finish(&mut out);
    let file = Mp4File::read(&mut Cursor::new(&out)).expect("whole all the same");
    assert!(file.samples.iter().filter(|s| s.video).count() >= 59);
    // A start that goes back in time goes on where the one before ended.
    let mut again = Mp4Writer::default();
    let mut out = Vec::new();
    first.iter().chain(&first).for_each(|u| again.push(u, &mut out).expect("written"));
    again.finish(&mut out);
    let file = Mp4File::read(&mut Cursor::new(&out)).expect("read");
    let times: Vec<u64> = file.samples.iter().filter(|s| s.video).map(|s| s.dts).collect();
    assert!(times.windows(2).all(|w| w[1] > w[0] && w[1] - w[0] <= 3600), "{times:?}");
}
