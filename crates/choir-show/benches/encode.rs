//! What it costs to encode a feed anew, beside the bare codecs and scaler on one thread with the
//! same pictures, run in turn; and how long a picture that is published by RTMP takes to go out by
//! SRT, from its last byte on.
//!
//! `cargo bench -p choir-show --bench encode`; `-- through` for the second alone.

#![allow(clippy::unwrap_used, reason = "a bench")]

use choir_core::{
    id::LineId,
    link::{Link, UdpLink, parse_url},
    sheet::read_sheet,
    units::Bitrate,
};
use choir_host::{
    Stop,
    clock::{Alarm, thread_cpu},
};
use choir_ports::{AnyOutlet, Arrival, Flow, Intake, LinkStatus, Outlet, UnitOutlet, Way, open_ways};
use choir_proto::ts::{AccessUnit, StreamKind, TsWriter, Unit, UnitFormat, WriterConfig};
use choir_show::{
    Show,
    media::{FeedMedia, LineMedia},
};
use choir_sim::camera::{CameraSettings, Frame, encode_loop};
use fast_image_resize::{
    FilterType, ResizeAlg, ResizeOptions, Resizer,
    images::{TypedImage, TypedImageRef},
    pixels::U8,
};
use openh264::{
    OpenH264API,
    decoder::Decoder,
    encoder::{BitRate, Encoder, EncoderConfig, FrameRate, Profile, RateControlMode},
    formats::{YUVSlices, YUVSource},
};
use std::{
    path::Path,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

const TIME: Duration = Duration::from_secs(8);
const RATE: u32 = 25;
const FRAME: u64 = 3600;
const SETS: &[u8] = &[
    0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
    0x80, 0x00, 0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
];

fn main() {
    let frames = camera();
    println!("1920x1080 at {RATE} pictures a second, H.264 of 8 Mbit/s, made 1280x720 of 2 Mbit/s");
    println!("{:>12} {:>12} {:>8} {:>14}", "cores", "bare, cores", "ratio", "longest, ms");
    let only_through = std::env::args().any(|a| a == "through");
    for _ in 0..if only_through { 0 } else { 3 } {
        let ((cores, longest), bare) = (encoded(&frames), bare(&frames));
        println!("{cores:12.3} {bare:12.3} {:8.2} {longest:14.1}", cores / bare);
    }
    println!("published by RTMP, out by SRT, 6 Mbit/s: ms until a picture's first packet has come, and its last");
    println!("{:>8} {:>8} {:>8} {:>14}", "half", "90 %", "99 %", "last, half");
    for _ in 0..3 {
        let [first, last] = through().map(|mut late| {
            late.sort_unstable();
            move |share: f64| late[((late.len() - 1) as f64 * share) as usize].as_secs_f64() * 1e3
        });
        println!("{:8.2} {:8.2} {:8.2} {:14.2}", first(0.5), first(0.9), first(0.99), last(0.5));
    }
}

fn camera() -> Vec<Frame> {
    let to = Link::Udp(UdpLink { port: 1, ..UdpLink::default() });
    let settings = CameraSettings { size: (1920, 1080), bitrate: Bitrate(8_000_000), ..CameraSettings::new("finish-tower", to) };
    encode_loop(&settings).unwrap().frames
}

/// Cores that the thread of an encoding takes, and the longest that a picture took.
fn encoded(frames: &[Frame]) -> (f64, f64) {
    let dir = tempfile::tempdir().unwrap();
    let (mut writer, mut clip) = (TsWriter::new(WriterConfig { audio: None, ..WriterConfig::default() }), Vec::new());
    for (n, frame) in frames.iter().enumerate() {
        let unit = Unit { video: true, pts: 90_000 + n as u64 * FRAME, dts: None, keyframe: frame.keyframe, data: &[&frame.data] };
        writer.write(&unit, &mut clip);
    }
    std::fs::write(dir.path().join("clip.ts"), clip).unwrap();
    let text = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"off\"\n[[line]]\nname = \"tower\"\nfrom = \"clip.ts?repeat\"\n\
         [[feed]]\nname = \"viewers\"\nline = \"tower\"\nto = {{ kind = \"udp\", host = \"127.0.0.1\", port = {}, \
         encode = {{ size = \"1280x720\", bitrate = \"2 Mbps\" }} }}\n",
        choir_rig::port()
    );
    let sheet = read_sheet(&text).0.unwrap();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    runtime.block_on(async {
        let show = Show::start(&sheet, dir.path()).await.unwrap();
        tokio::time::sleep(Duration::from_secs(2)).await;
        let (mut cores, mut longest) = (Vec::new(), 0.0_f64);
        let begun = Instant::now();
        while begun.elapsed() < TIME {
            tokio::time::sleep(Duration::from_secs(1)).await;
            let view = show.view();
            let e = view.feeds[0].outs[0].encoding.clone().unwrap();
            assert_eq!(e.left_out, 0, "the machine is too slow for this bench");
            cores.extend(e.cores);
            longest = longest.max(e.takes_ms.unwrap_or_default());
        }
        show.stop().await;
        (cores.iter().sum::<f64>() / cores.len() as f64, longest)
    })
}

/// The same by codecs and scaler alone, as fast as it goes, in cores at the rate of the pictures.
fn bare(frames: &[Frame]) -> f64 {
    let (mut decoder, mut resizer) = (Decoder::new().unwrap(), Resizer::new());
    let config = EncoderConfig::new()
        .bitrate(BitRate::from_bps(2_000_000))
        .max_frame_rate(FrameRate::from_hz(RATE as f32))
        .rate_control_mode(RateControlMode::Bitrate)
        .profile(Profile::High)
        .skip_frames(true)
        .scene_change_detect(false)
        .num_threads(1);
    let mut encoder = Encoder::with_api_config(OpenH264API::from_source(), config).unwrap();
    let options = ResizeOptions::new().resize_alg(ResizeAlg::Convolution(FilterType::Bilinear));
    let (before, count) = (thread_cpu(), RATE as usize * TIME.as_secs() as usize);
    for n in 0..count {
        let yuv = decoder.decode(&frames[n % frames.len()].data).unwrap().unwrap();
        let (w, h) = yuv.dimensions();
        let strides = yuv.strides();
        let mut scale = |from: &[u8], stride: usize, (w, h): (usize, usize), (to_w, to_h): (u32, u32)| {
            let rows: Vec<u8> = from.chunks(stride).take(h).flat_map(|row| &row[..w]).copied().collect();
            let mut scaled = vec![0; (to_w * to_h) as usize];
            let mut to = TypedImage::<U8>::from_buffer(to_w, to_h, &mut scaled).unwrap();
            resizer.resize_typed(&TypedImageRef::from_buffer(w as u32, h as u32, &rows).unwrap(), &mut to, &options).unwrap();
            scaled
        };
        let y = scale(yuv.y(), strides.0, (w, h), (1280, 720));
        let u = scale(yuv.u(), strides.1, (w / 2, h / 2), (640, 360));
        let v = scale(yuv.v(), strides.2, (w / 2, h / 2), (640, 360));
        let _ = encoder.encode(&YUVSlices::new((&y, &u, &v), (1280, 720), (1280, 640, 640))).unwrap().to_vec();
    }
    (thread_cpu() - before).as_secs_f64() / count as f64 * f64::from(RATE)
}

/// When the first and the last packet of pictures came, by the number that is in them.
#[derive(Default)]
struct Seen(Mutex<[Vec<(u16, Instant)>; 2]>);

/// Stands before a picture's number at its beginning.
const MARK: [u8; 4] = [0x5A, 0x7B, 0x5C, 0x7D];

impl Intake for Seen {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let now = Instant::now();
        let mut seen = self.0.lock().unwrap();
        for a in arrivals.drain(..) {
            let Some(bytes) = a.media.into_ts() else { continue };
            for packet in bytes.chunks_exact(188) {
                if let Some(at) = packet.windows(4).position(|w| w == MARK)
                    && let Some([a, b]) = packet.get(at + 4..at + 6)
                {
                    seen[0].push((u16::from_be_bytes([*a, *b]), now));
                }
                // It ends with its number, twice.
                let [.., a, b, c, d, 0x7E] = packet else { continue };
                if (a, b) == (c, d) {
                    seen[1].push((u16::from_be_bytes([*a, *b]), now));
                }
            }
        }
    }
}

/// From the time at which a picture is handed to its publisher to the times at which its first and
/// its last packet have come at the other end of an SRT link that does not wait.
fn through() -> [Vec<Duration>; 2] {
    let (rtmp, srt) = (choir_rig::port(), choir_rig::port());
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let (end, stop) = Stop::new();
    let sent = Arc::new(Mutex::new(Vec::<Instant>::new()));
    let late = runtime.block_on(async {
        let (line, feed, out) = (LineMedia::new(LineId(0)), FeedMedia::new(Some(LineId(0)), Arc::default()), Outlet::new());
        feed.add_out(AnyOutlet::Ts(out.clone()));
        line.attach(feed);
        let (seen, pushed): (Arc<Seen>, Arc<UnitOutlet>) = (Arc::default(), Outlet::new());
        let way = |url: String, flow: Flow| {
            let link = parse_url(&url).0.unwrap();
            Way { name: "bench".into(), link, flow, status: LinkStatus::new(), stave: None, shard: None }
        };
        let ways = vec![
            way(format!("srt://127.0.0.1:{srt}?mode=listener&latency=0"), Flow::In(seen.clone())),
            way(format!("srt://127.0.0.1:{srt}?latency=0"), Flow::Out(AnyOutlet::Ts(out))),
            way(format!("rtmp://127.0.0.1:{rtmp}/in/key#mode=listener"), Flow::In(line)),
            way(format!("rtmp://127.0.0.1:{rtmp}/in/key"), Flow::Out(AnyOutlet::Units(pushed.clone()))),
        ];
        let _open = open_ways(ways, Duration::ZERO, Path::new("."), &stop, &Stop::given()).await.map_err(|e| e.cause).unwrap();
        let mut alarm = Alarm::new().unwrap();
        let begun = Instant::now() + Duration::from_secs(1);
        for n in 0..RATE as u64 * 12 {
            alarm.until(begun + Duration::from_millis(n * 40)).await;
            let unit = picture(n);
            sent.lock().unwrap().push(Instant::now());
            pushed.push(unit);
        }
        tokio::time::sleep(Duration::from_millis(500)).await;
        let (sent, seen) = (sent.lock().unwrap().clone(), seen.0.lock().unwrap());
        seen.each_ref().map(|seen| {
            let late: Vec<Duration> = seen.iter().skip(RATE as usize * 2).map(|(n, at)| *at - sent[usize::from(*n)]).collect();
            assert!(late.len() > RATE as usize * 8, "{} pictures came", late.len());
            late
        })
    });
    end.now();
    late
}

fn picture(n: u64) -> AccessUnit {
    let keyframe = n.is_multiple_of(u64::from(RATE));
    let number = (n as u16).to_be_bytes();
    let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88];
    let data = [if keyframe { SETS } else { &[] }, &head, &MARK, &number, &vec![0xA5; 30_000], &number, &number, &[0x7E]].concat();
    let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264] });
    AccessUnit {
        pid: 256,
        kind: StreamKind::H264,
        pts: Some(90_000 + n * FRAME),
        dts: None,
        keyframe,
        arrived: 0,
        data: data.into(),
        format,
    }
}
