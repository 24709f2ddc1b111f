//! Cameras that are pulled: a server with a feed for each, fed with made-up frames at an even pace.

use choir_host::{
    Stop,
    clock::{Alarm, unix_us},
};
use choir_ports::{LinkStatus, ServePlan, ServerOptions, UnitOutlet, spawn_server};
use choir_proto::{
    h26x::{Stamp, stamp_sei},
    ts::{AccessUnit, StreamKind, UnitFormat},
};
use std::{
    net::SocketAddr,
    sync::Arc,
    time::{Duration, Instant},
};

/// Of each camera.
pub const MBITS: f64 = 8.0;
/// Frames per second.
pub const FRAME_RATE: u64 = 25;
const SPS: &[u8] = &[
    0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
    0x80, 0x00, 0x00, 0x19, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
];

/// How packets travel.
#[derive(Debug, Clone, Copy)]
pub struct Shape {
    pub tcp: bool,
}

/// One camera's frames.
struct Source {
    format: Arc<UnitFormat>,
    n: u64,
    outlet: Arc<UnitOutlet>,
}

impl Source {
    fn frame(&mut self) {
        let keyframe = self.n.is_multiple_of(FRAME_RATE);
        let average = MBITS * 1e6 / 8.0 / FRAME_RATE as f64;
        // Keyframes are four times as large as the others.
        let others = average * FRAME_RATE as f64 / (FRAME_RATE as f64 + 3.0);
        let size = if keyframe { others * 4.0 } else { others } as usize;
        let mut data = if keyframe { SPS.to_vec() } else { Vec::new() };
        data.extend(stamp_sei(Stamp { unix_us: unix_us().unsigned_abs(), frame: Some(self.n) }));
        data.extend_from_slice(&[0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88]);
        data.resize(data.len() + size, 0xA5);
        let pts = Some(900_000 + self.n * 90_000 / FRAME_RATE);
        let (data, format) = (data.into(), self.format.clone());
        self.outlet.push(AccessUnit { pid: 0x100, kind: StreamKind::H264, pts, dts: None, keyframe, arrived: 0, data, format });
        self.n += 1;
    }
}

/// Serves `count` cameras until stopped; their frames are spread over the time of one.
pub async fn serve(count: usize, stop: &Stop) -> (SocketAddr, Vec<Arc<LinkStatus>>) {
    let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264] });
    let sources: Vec<Source> = (0..count).map(|_| Source { format: format.clone(), n: 0, outlet: UnitOutlet::new() }).collect();
    let statuses: Vec<_> = sources.iter().map(|_| LinkStatus::new()).collect();
    let plan = |(n, (source, status)): (usize, (&Source, &Arc<LinkStatus>))| ServePlan {
        path: format!("camera-{n}"),
        credentials: None,
        group: None,
        interface: None,
        ttl: None,
        outlet: source.outlet.clone(),
        status: status.clone(),
    };
    let plans = sources.iter().zip(&statuses).enumerate().map(plan).collect();
    let addr = spawn_server(([127, 0, 0, 1], 0).into(), plans, ServerOptions::default(), stop).expect("serves").0;
    tokio::spawn(play(sources, stop.clone()));
    (addr, statuses)
}

async fn play(mut sources: Vec<Source>, stop: Stop) {
    let mut alarm = Alarm::new().expect("an alarm");
    let step = Duration::from_secs(1) / (FRAME_RATE as u32 * sources.len() as u32);
    let mut due = Instant::now();
    while !stop.is_set() {
        for source in &mut sources {
            due += step;
            alarm.until(due).await;
            source.frame();
        }
    }
}
