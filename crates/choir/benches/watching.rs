//! What it costs to watch a show: the health of 400 lines and their ways out, metering beside
//! relaying, and pictures.
//!
//! `cargo bench -p choir --bench watching`; `-- health`, `metering` or `pictures`: only that.

use bytes::Bytes;
use choir_core::{
    alarm::{Alarms, Watched},
    facts::{Around, Contact, Direction, MediaFacts, Piece, Reading, Span, WayTick},
    health::{Health, Verdict},
    id::{LineId, NetworkId, OutId, Subject},
    model::AlarmRules,
    summary::Summary,
    units::Bitrate,
};
use choir_host::{Stop, clock::thread_cpu};
use choir_ports::{Arrival, Intake};
use choir_proto::{
    srt::LinkConfig,
    ts::{AccessUnit, Depth, Index, PacketAligner, TsMeter, TsReader},
};
use choir_show::{
    load::{Load, carry, stream},
    media::LineMedia,
    still::Still,
};
use choir_sim::camera::{CameraSettings, start};
use std::{
    path::Path,
    time::{Duration, Instant},
};
use tokio::runtime::Runtime;

const LINES: usize = 400;
/// Ticks that fill what is looked back on, and ticks that are timed.
const WARM: u64 = 70;
const TICKS: u64 = 60;
const RATE: u64 = 8_000_000;

fn main() {
    let runtime = Runtime::new().expect("a runtime");
    let only: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    let wanted = |part: &str| only.is_empty() || only.iter().any(|o| o == part);
    if wanted("health") {
        health(false);
        health(true);
    }
    if wanted("metering") {
        metering(&runtime);
    }
    if wanted("pictures") {
        pictures(&runtime);
    }
}

/// CPU time of this thread.
fn timed(work: impl FnOnce()) -> Duration {
    let before = thread_cpu();
    work();
    thread_cpu() - before
}

fn ms(d: Duration) -> f64 {
    d.as_secs_f64() * 1000.0
}

struct Way {
    subject: Subject,
    health: Health,
    summary: Summary,
}

/// A second of a way that loses and repairs a little, no two alike.
fn reading(way: usize, tick: u64, direction: Direction) -> Reading {
    let wobble = ((way as u64 * 7919 + tick * 104_729) % 97) as f64 / 10.0;
    let span = |least: f64, greatest: f64| Some(Span { least, greatest });
    let piece = |n: u32| Piece {
        ago: Duration::from_millis(200) * n,
        packets: 152,
        lost: 1,
        headroom_ms: span(90.0 - wobble, 118.0),
        transit_ms: span(0.0, wobble),
        rtt_ms: span(20.0, 20.0 + wobble),
        hole: Some((1, Duration::from_millis(200) * n)),
    };
    Reading {
        contact: Contact::Up,
        direction,
        tick: WayTick {
            length: Duration::from_secs(1),
            bytes: 1_000_000,
            packets: 760,
            lost: 5,
            holes: 5,
            recovered: 5,
            wire_bytes: 1_040_000,
            acks: 100,
            answered: 100,
            rtt_ms: Some(20.0 + wobble / 2.0),
            rtt_span_ms: span(20.0, 20.0 + wobble),
            headroom_ms: span(90.0 - wobble, 118.0),
            transit_ms: span(0.0, wobble),
            jitter_ms: Some(wobble / 4.0),
            latency_ms: Some(120.0),
            silent_ms: Some(1.0),
            data_silent_ms: Some(1.0),
            peer_window: Some(8192),
            peer_free: Some(8000),
            peer_packets: Some(760),
            unacknowledged_ms: Some(25.0),
            pieces: (0..5).rev().map(piece).collect(),
            ..WayTick::default()
        },
        up_for: Duration::from_secs(60 + tick),
        media: (direction == Direction::In).then(|| MediaFacts {
            quiet: Some(Duration::from_millis(2)),
            media_for: Duration::from_secs(60),
            readable: true,
            keyframe_seen: Some(true),
            ..MediaFacts::default()
        }),
        around: Around { sessions: 1, late_ms: Some(0.3), busy: Some(0.4), ..Around::default() },
    }
}

fn health(with_outs: bool) {
    let rules = AlarmRules::default();
    let networks: Vec<Vec<NetworkId>> = (0..8).map(|n| vec![NetworkId(n)]).collect();
    let all = (0..LINES as u32).flat_map(|n| [Subject::Line(LineId(n)), Subject::Out(OutId(n))]);
    let subjects = all.filter(|s| with_outs || matches!(s, Subject::Line(_)));
    let mut ways: Vec<Way> = subjects.map(|subject| Way { subject, health: Health::default(), summary: Summary::default() }).collect();
    let mut alarms = Alarms::default();
    let direction = |subject| if matches!(subject, Subject::Line(_)) { Direction::In } else { Direction::Out };
    let (mut took, mut copied, mut raised) = (Duration::ZERO, Duration::ZERO, 0);
    for tick in 0..WARM + TICKS {
        let readings: Vec<Reading> = ways.iter().enumerate().map(|(n, w)| reading(n, tick, direction(w.subject))).collect();
        let now = Duration::from_secs(tick);
        let cpu = timed(|| {
            let mut verdicts: Vec<Verdict> = Vec::with_capacity(ways.len());
            for (way, r) in ways.iter_mut().zip(&readings) {
                verdicts.push(way.health.judge(now, r));
                way.summary.note(&r.tick);
            }
            let watched = |(n, (way, r)): (usize, (&Way, _))| {
                let r: &Reading = r;
                Watched { subject: way.subject, rules: &rules, networks: &networks[n % 8], verdict: &verdicts[n], tick: &r.tick }
            };
            let watched: Vec<Watched<'_>> = ways.iter().zip(&readings).enumerate().map(watched).collect();
            raised += alarms.tick(now, tick * 1000, &watched, Some(4)).len();
        });
        let copy = timed(|| drop(std::hint::black_box(readings.clone())));
        if tick >= WARM {
            (took, copied) = (took + cpu, copied + copy);
        }
    }
    assert_eq!(raised, 0, "all are well");
    let (each, raw) = (ms(took) / TICKS as f64, ms(copied) / TICKS as f64);
    let outs = if with_outs { format!(" and {LINES} ways out") } else { String::new() };
    println!("health of {LINES} lines{outs}: {each:.2} ms a second; {:.1} times copying what is judged ({raw:.2} ms)", each / raw);
}

fn metering(runtime: &Runtime) {
    let payloads: Vec<Bytes> = stream(RATE);
    let line = LineMedia::new(LineId(1));
    let mut arrivals = Vec::new();
    let passes = 40;
    let cpu = timed(|| {
        for _ in 0..passes {
            for payload in &payloads {
                arrivals.push(Arrival::ts(1, Instant::now(), payload.clone()));
                line.arrive(&mut arrivals);
                arrivals.clear();
            }
        }
    });
    let per_packet = |cpu: Duration| ms(cpu) * 1000.0 / (passes * payloads.len()) as f64;
    // Of it, what metering alone takes: what is parsed once serves takes and pictures as well.
    let meters = |metered: bool| {
        let (mut aligner, mut index, mut meter) = (PacketAligner::default(), Index::default(), TsMeter::new(Depth::Heads));
        timed(|| {
            for (n, payload) in payloads.iter().cycle().take(passes * payloads.len()).enumerate() {
                aligner.push(payload, |part| {
                    let piece = index.push(&part);
                    if metered {
                        meter.push(n as i64 * 1300, &piece);
                    }
                });
            }
        })
    };
    let (with, without) = (meters(true), meters(false));
    let each = per_packet(with.saturating_sub(without));
    println!("a line that nobody takes from: {:.2} us a packet, of which metering {each:.2}", per_packet(cpu));
    let (_end, stop) = Stop::new();
    for links in [2, 10, 30] {
        let load = Load { links, bps: RATE, config: LinkConfig::default(), time: Duration::from_secs(4) };
        let carried = runtime.block_on(carry(&load, stop.clone())).expect("carried").expect("not stopped");
        let whole = carried.us_per_packet();
        println!(
            "metering beside relaying, {links} links in the clear: {each:.2} of {whole:.1} us a packet, {:.1} % on top",
            each / (whole - each) * 100.0
        );
    }
}

fn pictures(runtime: &Runtime) {
    let folder = tempfile::TempDir::new().expect("a folder");
    for (size, rate) in [((640, 360), 2), ((1280, 720), 5), ((1920, 1080), 8)] {
        let file = folder.path().join(format!("{}.ts", size.0));
        let (end, stop) = Stop::new();
        let link = choir_core::link::parse_url(file.to_str().expect("text")).0.expect("a file");
        let settings = CameraSettings { size, bitrate: Bitrate(rate * 1_000_000), ..CameraSettings::new("tower", link) };
        runtime.block_on(async {
            let camera = start(settings, Path::new("."), stop).await.expect("a camera");
            tokio::time::sleep(Duration::from_secs(4)).await;
            end.now();
            camera.wait().await;
        });
        let mut reader = TsReader::new(Depth::Units);
        reader.push(0, &std::fs::read(&file).expect("a clip").into());
        let keyframes: Vec<AccessUnit> = std::iter::from_fn(|| reader.poll_unit()).filter(|u| u.kind.is_video() && u.keyframe).collect();
        let rounds = 5;
        let mut made = 0;
        let cpu = timed(|| {
            for unit in keyframes.iter().cycle().take(rounds * keyframes.len()) {
                made += usize::from(Still::decode(std::slice::from_ref(unit), Some((320, 180))).is_some());
            }
        });
        assert!(made > 0, "nothing was decoded");
        let raw = vec![0u8; (size.0 * size.1 * 3 / 2) as usize];
        let copy = ms(timed(|| (0..100).for_each(|_| drop(std::hint::black_box(raw.clone()))))) / 100.0;
        let each = ms(cpu) / made as f64;
        println!(
            "a picture of {}x{}: {each:.1} ms, {:.0} a second in 10 % of a core; {:.0} times copying it",
            size.0,
            size.1,
            100.0 / each,
            each / copy
        );
    }
}
