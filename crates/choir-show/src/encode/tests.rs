//! Pictures of stand-in cameras, encoded anew and read back: each has its number drawn into it.

use super::convert::Converter;
use crate::{planes::Planes, still::Decoder};
use choir_core::{
    link::{Link, UdpLink},
    model::{Corner, Encode, Overlay, Shows},
    units::Bitrate,
};
use choir_proto::ts::{AccessUnit, PTS_WRAP, StreamKind, TimedUnit, UnitFormat};
use choir_sim::camera::{CameraSettings, Frame, encode_loop, read_blocks, shipped_loop};
use proptest::prelude::*;
use std::{path::Path, sync::Arc, time::Duration};

const FRAME: u64 = 3600;

fn camera(size: (u32, u32)) -> Vec<Frame> {
    let to = Link::Udp(UdpLink { port: 1, ..UdpLink::default() });
    let settings = CameraSettings { size, bitrate: Bitrate(2_000_000), ..CameraSettings::new("finish-tower", to) };
    encode_loop(&settings).expect("encoded").frames
}

fn unit(kind: StreamKind, frame: &Frame, pts: u64) -> AccessUnit {
    let format = Arc::new(UnitFormat { streams: vec![kind, StreamKind::AacAdts] });
    let (data, keyframe) = (frame.data.clone().into(), frame.keyframe);
    AccessUnit { pid: 256, kind, pts: Some(pts % PTS_WRAP), dts: None, keyframe, arrived: 0, data, format }
}

fn converter(plan: Encode) -> Converter {
    Converter::new(plan, Path::new(""))
}

/// All that comes of these, none late.
fn all(converter: &mut Converter, units: impl IntoIterator<Item = AccessUnit>) -> Vec<TimedUnit> {
    let mut keyframe = false;
    units.into_iter().flat_map(|u| converter.push(&u, Duration::ZERO, &mut keyframe).expect("encoded")).collect()
}

/// Pictures that come back, with their times.
fn decoded(units: &[TimedUnit]) -> Vec<(u64, Planes)> {
    let (mut decoder, mut shown, mut times) = (Decoder::of_stream(StreamKind::H264, false), Vec::new(), Vec::new());
    for u in units.iter().filter(|u| u.kind.is_video()) {
        times.push(u.pts);
        let frame = Frame { data: u.pieces.concat(), keyframe: u.keyframe };
        decoder.stream(&unit(StreamKind::H264, &frame, u.pts), false, |p| shown.push(p)).expect("decodes");
    }
    assert_eq!(shown.len(), times.len(), "each picture is shown at once");
    times.into_iter().zip(shown).collect()
}

/// The number that is drawn into a picture.
fn number(p: &Planes) -> Option<u16> {
    read_blocks(&p.parts[0], p.size.0, p.size.1, p.size.0)
}

#[test]
fn every_picture_comes_out_once_in_its_size_at_its_time_with_keyframes_by_the_clock() {
    let frames = camera((640, 360));
    let plan = Encode { size: Some((320, 180)), bitrate: Some(Bitrate(800_000)), keyframe: Duration::from_secs(1), ..Encode::default() };
    for begin in [900_000, 7, PTS_WRAP - 50 * FRAME] {
        let units = (0..150).map(|n| unit(StreamKind::H264, &frames[n % 50], begin + n as u64 * FRAME));
        let made = all(&mut converter(plan.clone()), units);
        let shown = decoded(&made);
        let expected: Vec<_> = (0..150_u64).map(|n| ((begin + n * FRAME) % PTS_WRAP, Some((n % 50) as u16))).collect();
        assert_eq!(shown.iter().map(|(t, p)| (*t, number(p))).collect::<Vec<_>>(), expected);
        assert!(shown.iter().all(|(_, p)| p.size == (320, 180)));
        // One at the beginning, and then where the clock passes a second.
        let keyframes: Vec<u64> = made.iter().filter(|u| u.keyframe).map(|u| u.pts).collect();
        assert_eq!(keyframes[0], begin);
        let on_time = |t: &u64| t % 90_000 < FRAME;
        assert!(keyframes.len() >= 6 && keyframes[1..].iter().all(on_time), "{keyframes:?}");
        let bits: usize = made.iter().map(|u| u.pieces.concat().len() * 8).sum::<usize>() / 6;
        assert!((200_000..1_100_000).contains(&bits), "{bits} bits a second");
    }
}

#[test]
fn pictures_of_h265_come_in_the_order_in_which_they_are_shown_and_a_take_between_codecs_goes_on() {
    let (h264, h265) = (camera((640, 480)), shipped_loop().frames);
    let plan = Encode { size: Some((640, 360)), ..Encode::default() };
    let mut converter = converter(plan);
    let made = all(&mut converter, (0..50).map(|n| unit(StreamKind::H265, &h265[n], n as u64 * FRAME)));
    let shown = decoded(&made);
    // What is held back for the order comes with the next pictures.
    assert!(shown.len() >= 45, "{}", shown.len());
    for (n, (time, p)) in shown.iter().enumerate() {
        assert_eq!((*time, number(p)), (n as u64 * FRAME, Some(n as u16)));
    }
    let made = all(&mut converter, (50..100).map(|n| unit(StreamKind::H264, &h264[n - 50], n as u64 * FRAME)));
    // The same stream goes on: with what was there before.
    assert_eq!(made.iter().map(|u| u.pts).collect::<Vec<_>>(), (50..100).map(|n| n * FRAME).collect::<Vec<_>>());
    assert!(made.iter().all(|u| u.kind == StreamKind::H264));
    assert_eq!(converter.size(), Some((640, 360)));
}

#[test]
fn a_lower_rate_takes_pictures_evenly() {
    let frames = camera((320, 180));
    for (most, apart) in [(12.5, 2), (25.0, 1), (50.0, 1), (5.0, 5)] {
        let plan = Encode { rate: Some(most), ..Encode::default() };
        // Times that are off by up to a millisecond.
        let units = (0..100).map(|n| unit(StreamKind::H264, &frames[n % 50], 90_000 + n as u64 * FRAME + n as u64 * 7919 % 90));
        let made = all(&mut converter(plan), units);
        let at: Vec<u64> = made.iter().map(|u| (u.pts - 90_000) / FRAME).collect();
        assert_eq!(at, (0..100).step_by(apart).collect::<Vec<_>>(), "{most} a second");
    }
}

#[test]
fn sound_goes_through_and_the_format_says_what_comes_of_it() {
    let frames = camera((320, 180));
    let mut converter = converter(Encode::default());
    let mut sound = unit(StreamKind::AacAdts, &Frame { data: vec![0xFF, 0xF1, 1, 2, 3], keyframe: true }, 77);
    sound.format = unit(StreamKind::H265, &frames[0], 0).format;
    let made = all(&mut converter, [sound]);
    assert_eq!((made.len(), made[0].kind, made[0].pts), (1, StreamKind::AacAdts, 77));
    assert_eq!(converter.format().streams, [StreamKind::H264, StreamKind::AacAdts]);
}

#[test]
fn what_is_damaged_is_left_out_up_to_the_next_keyframe() {
    let frames = camera((320, 180));
    let mut converter = converter(Encode::default());
    let hurt = |n: usize| {
        let mut frame = frames[n % 50].clone();
        if n == 10 {
            frame.data.iter_mut().skip(8).for_each(|b| *b = 0xA5);
        }
        unit(StreamKind::H264, &frame, n as u64 * FRAME)
    };
    let made = all(&mut converter, (0..60).map(hurt));
    let shown = decoded(&made);
    let times: Vec<u64> = shown.iter().map(|(t, _)| t / FRAME).collect();
    assert!((0..10).all(|n| times.contains(&n)) && (25..60).all(|n| times.contains(&n)) && !times.contains(&10), "{times:?}");
    assert!(converter.left_out > 0);
    for (time, picture) in shown.iter().filter(|(t, _)| *t >= 25 * FRAME) {
        assert_eq!(number(picture).map(u64::from), Some(time / FRAME % 50));
    }
}

#[test]
fn what_comes_far_too_late_waits_for_a_keyframe_and_a_keyframe_that_is_asked_for_comes_at_once() {
    let frames = camera((320, 180));
    let mut converter = converter(Encode { keyframe: Duration::from_secs(10), ..Encode::default() });
    let mut asked = false;
    let mut made = Vec::new();
    for n in 0..50_u64 {
        let late = Duration::from_millis(if (5..8).contains(&n) { 1500 } else { 0 });
        asked |= n == 30;
        made.extend(converter.push(&unit(StreamKind::H264, &frames[n as usize], n * FRAME), late, &mut asked).expect("encoded"));
    }
    let at = |u: &TimedUnit| u.pts / FRAME;
    assert_eq!(made.iter().map(at).collect::<Vec<_>>(), (0..5).chain(25..50).collect::<Vec<_>>());
    assert_eq!((converter.left_out, asked), (20, false));
    assert_eq!(made.iter().filter(|u| u.keyframe).map(at).collect::<Vec<_>>(), [0, 30]);
}

#[test]
fn an_overlay_that_cannot_be_read_is_told_and_the_picture_goes_on() {
    let frames = camera((320, 180));
    let overlay = |shows| Overlay { shows, corner: Corner::TopLeft, size: 0.1 };
    let overlays = vec![overlay(Shows::Image("none.png".into())), overlay(Shows::Text("Heat 3".into()))];
    let mut converter = converter(Encode { overlays, ..Encode::default() });
    let made = all(&mut converter, (0..5).map(|n| unit(StreamKind::H264, &frames[n], n as u64 * FRAME)));
    assert_eq!(made.len(), 5);
    assert!(converter.problem.as_ref().is_some_and(|p| p.contains("none.png")), "{:?}", converter.problem);
    // Letters are light.
    let (_, p) = &decoded(&made)[4];
    let light = (8..22).flat_map(|y| (8..80).map(move |x| (x, y))).filter(|(x, y)| p.parts[0][y * 320 + x] > 200).count();
    assert!(light > 100, "{light} light points");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, ..ProptestConfig::default() })]

    /// Whatever comes: no panic, times only of pictures that came, and bounded memory.
    #[test]
    fn hostile_units_do_no_harm(
        units in prop::collection::vec((0..4_usize, any::<bool>(), any::<u64>(), prop::collection::vec(any::<u8>(), 0..400)), 0..60)
    ) {
        let real = shipped_loop().frames;
        let mut converter = converter(Encode { size: Some((64, 64)), rate: Some(10.0), ..Encode::default() });
        for (n, (kind, keyframe, pts, noise)) in units.into_iter().enumerate() {
            let kind = [StreamKind::H264, StreamKind::H265, StreamKind::AacAdts, StreamKind::H265][kind];
            let mut data = real[n % real.len()].data.clone();
            data.truncate(3000);
            let at = noise.first().map_or(0, |b| usize::from(*b) * 4 % data.len().max(1));
            data.splice(at..at, noise);
            let _ = converter.push(&unit(kind, &Frame { data, keyframe }, pts), Duration::ZERO, &mut false);
        }
    }
}
