//! The loads: pulling, handing on, serving; and the raw relay beside them.

use crate::cameras::{MBITS, Shape, serve};
use choir_core::id::LineId;
use choir_core::link::RtspTransport;
use choir_host::{
    Stop,
    clock::{thread_cpu, unix_us},
};
use choir_ports::{
    Arrival, CallPlan, Flow, Intake, LinkStatus, ListenPlan, Media, Outlet, PullPlan, Shard, spawn_caller, spawn_listener, spawn_pull,
};
use choir_proto::{h26x::find_stamp, rtsp::RtspUrl, srt::LinkConfig, ts::Timed};
use choir_show::media::{FeedMedia, LineMedia};
use std::{
    net::{SocketAddr, UdpSocket},
    sync::{
        Arc, Mutex,
        atomic::{AtomicU64, Ordering},
        mpsc,
    },
    time::{Duration, Instant},
};
use tokio::{runtime::Runtime, sync::watch};

/// Bytes of an RTP packet here.
const PACKET: usize = 1400;
/// Time in which all come up.
const WARM_UP: Duration = Duration::from_secs(4);

/// What a load came to.
pub struct Load {
    pub ns_per_packet: f64,
    pub cores: f64,
    pub delivered: f64,
}

fn runtime() -> Runtime {
    tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime")
}

/// One thread receives each packet and sends it on: ns of CPU per packet.
pub fn raw(packets: u32) -> f64 {
    let socket = || UdpSocket::bind("127.0.0.1:0").expect("bound");
    let (from, relay, to) = (socket(), socket(), socket());
    from.connect(relay.local_addr().expect("address")).expect("connected");
    let onward = to.local_addr().expect("address");
    let (data, mut buffer) = ([0x47u8; PACKET], [0u8; 2048]);
    let mut spent = Duration::ZERO;
    for _ in 0..packets {
        from.send(&data).expect("sent");
        let before = thread_cpu();
        let (n, _) = relay.recv_from(&mut buffer).expect("received");
        relay.send_to(&buffer[..n], onward).expect("sent");
        spent += thread_cpu() - before;
        to.recv(&mut buffer).expect("received");
    }
    spent.as_nanos() as f64 / f64::from(packets)
}

/// Counts bytes, and measures frames if it is to.
#[derive(Default)]
struct Sink {
    bytes: AtomicU64,
    frames: Option<Mutex<Vec<f64>>>,
}

impl Intake for Sink {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        arrivals.drain(..).for_each(|a| self.take(&a.media));
    }
}

impl Sink {
    fn take(&self, media: &Media) {
        self.bytes.fetch_add(media.size() as u64, Ordering::Relaxed);
        let (Some(late), Media::Units(_, Timed { unit: Some(unit), .. })) = (&self.frames, media) else { return };
        let now = unix_us();
        let stamp = find_stamp(&unit.pieces.concat());
        late.lock().expect("lock").extend(stamp.map(|s| (now - s.unix_us as i64) as f64 / 1000.0));
    }
}

fn plan(addr: SocketAddr, n: usize, tcp: bool, intake: Arc<dyn Intake>, status: Arc<LinkStatus>) -> PullPlan {
    PullPlan {
        url: RtspUrl { host: addr.ip().to_string(), port: addr.port(), path: format!("/camera-{n}") },
        credentials: None,
        transport: if tcp { RtspTransport::Tcp } else { RtspTransport::Udp },
        reorder: None,
        pass_damaged: false,
        interface: None,
        intake,
        status,
    }
}

/// Runs `work` on a thread of its own whose CPU is watched.
fn watched<F: Future<Output = T>, T: Send + 'static>(
    work: impl FnOnce() -> F + Send + 'static,
    stop: &Stop,
) -> (T, watch::Receiver<Duration>) {
    let (cpu_tx, cpu) = watch::channel(Duration::ZERO);
    let (tx, rx) = mpsc::channel();
    let mut over = stop.clone();
    std::thread::spawn(move || {
        runtime().block_on(async {
            let _ = tx.send(work().await);
            let mut tick = tokio::time::interval(Duration::from_millis(100));
            loop {
                tokio::select! {
                    _ = tick.tick() => { cpu_tx.send_replace(thread_cpu()); }
                    () = over.wait() => return,
                }
            }
        });
    });
    (rx.recv().expect("began"), cpu)
}

/// Measures a watched thread while media flows.
fn measure(count: usize, cpu: impl Fn() -> Duration, packets: impl Fn() -> u64, time: Duration) -> Load {
    std::thread::sleep(WARM_UP);
    let (cpu_before, before) = (cpu(), packets());
    std::thread::sleep(time);
    let (spent, got) = (cpu().saturating_sub(cpu_before), packets() - before);
    let wanted = count as f64 * MBITS * 1e6 / 8.0 * time.as_secs_f64() / (PACKET as f64 - 12.0);
    Load {
        ns_per_packet: spent.as_nanos() as f64 / got.max(1) as f64,
        cores: spent.as_secs_f64() / time.as_secs_f64(),
        delivered: got as f64 / wanted,
    }
}

/// Pulls `count` cameras into lines, which meter them; with `srt` each goes out by a link of its
/// own.
pub fn pull(count: usize, srt: bool, time: Duration) -> Load {
    let (end, stop) = Stop::new();
    let for_cameras = stop.clone();
    let ((addr, _), _) = watched(move || async move { serve(count, &for_cameras).await }, &stop);
    let for_sink = stop.clone();
    let shards = [Shard::start().expect("a thread"), Shard::start().expect("a thread")];
    let [sink_shard, on] = shards.clone();
    let (sink_at, _) = watched(
        move || async move {
            let sink = Flow::In(Arc::new(Sink::default()) as _);
            let plan = ListenPlan { max_callers: count, ..ListenPlan::one(LinkConfig::default(), sink) };
            spawn_listener(&sink_shard, ([127, 0, 0, 1], 0).into(), vec![plan], for_sink).expect("listens")
        },
        &stop,
    );
    let statuses: Vec<_> = (0..count).map(|_| LinkStatus::new()).collect();
    let (for_pull, own) = (stop.clone(), statuses.clone());
    let ((), cpu) = watched(
        move || async move {
            for (n, status) in own.into_iter().enumerate() {
                let line = LineMedia::new(LineId(n as u32));
                if srt {
                    let outlet = Outlet::new();
                    let call = CallPlan::to(sink_at, LinkConfig::default(), Flow::Out(outlet.clone()));
                    spawn_caller(&on, call, for_pull.clone());
                    let feed = FeedMedia::new(Some(LineId(n as u32)), Arc::default());
                    feed.add_out(outlet.into());
                    line.attach(feed);
                }
                spawn_pull(plan(addr, n, false, line, status), for_pull.clone());
            }
        },
        &stop,
    );
    let packets = || statuses.iter().map(|s| s.look().totals().packets).sum();
    let cpu = || *cpu.borrow() + shards[1].cpu();
    let load = measure(count, cpu, packets, time);
    end.now();
    shards.iter().for_each(Shard::end);
    load
}

/// Serves one feed to `count` viewers.
pub fn viewers(count: usize, tcp: bool, time: Duration) -> Load {
    let (end, stop) = Stop::new();
    let for_camera = stop.clone();
    let ((addr, _), cpu) = watched(move || async move { serve(1, &for_camera).await }, &stop);
    let statuses: Vec<_> = (0..count).map(|_| LinkStatus::new()).collect();
    let (for_pull, own) = (stop.clone(), statuses.clone());
    let ((), _) = watched(
        move || async move {
            for status in own {
                spawn_pull(plan(addr, 0, tcp, Arc::new(Sink::default()), status), for_pull.clone());
            }
        },
        &stop,
    );
    let packets = || statuses.iter().map(|s| s.look().totals().packets).sum();
    let load = measure(count, || *cpu.borrow(), packets, time);
    end.now();
    load
}

/// From a frame at the camera to its transport stream here, ms, sorted.
pub fn delay(shape: Shape, frames: usize) -> Vec<f64> {
    let (end, stop) = Stop::new();
    let for_camera = stop.clone();
    let ((addr, _), _) = watched(move || async move { serve(1, &for_camera).await }, &stop);
    let sink = Arc::new(Sink { frames: Some(Mutex::default()), ..Sink::default() });
    let (for_pull, own) = (stop.clone(), sink.clone());
    let ((), _) = watched(
        move || async move {
            spawn_pull(plan(addr, 0, shape.tcp, own, LinkStatus::new()), for_pull);
        },
        &stop,
    );
    let begun = Instant::now();
    let mut late = Vec::new();
    while late.len() < frames && begun.elapsed() < Duration::from_secs(60) {
        std::thread::sleep(Duration::from_millis(200));
        if let Some(frames) = &sink.frames {
            late.append(&mut frames.lock().expect("lock"));
        }
    }
    end.now();
    late.sort_by(f64::total_cmp);
    late
}
