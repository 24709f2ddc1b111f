//! Many links on few sockets and threads: who shares what, and that nobody disturbs the others.

#![allow(clippy::unwrap_used, reason = "tests")]

use bytes::Bytes;
use choir_core::facts::{Contact, Fault};
use choir_host::{End, Stop};
use choir_ports::{Arrival, CallPlan, Flow, Intake, LinkStatus, ListenPlan, Listener, Listening, Outlet, Shard, Shards, spawn_caller};
use choir_proto::srt::{LinkConfig, StreamMatch};
use std::{
    collections::HashSet,
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

const PATIENCE: Duration = Duration::from_secs(20);
/// Lines that one thread serves before another gets any.
const TOGETHER: usize = 40;

#[derive(Default)]
struct Count(AtomicU64);

impl Intake for Count {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        self.0.fetch_add(arrivals.len() as u64, Ordering::Relaxed);
        arrivals.clear();
    }
}

/// A link that listens for one stream ID.
struct Line {
    count: Arc<Count>,
    status: Arc<LinkStatus>,
    _link: Listening,
}

fn config() -> LinkConfig {
    LinkConfig::default().with_latency(Duration::from_millis(40))
}

fn line(port: &Listener, stream: &str) -> Line {
    let count = Arc::<Count>::default();
    let plan = ListenPlan { stream: StreamMatch::Exactly(stream.into()), ..ListenPlan::one(config(), Flow::In(count.clone())) };
    Line { count, status: plan.status.clone(), _link: port.add(plan) }
}

struct Call {
    outlet: Arc<Outlet>,
    status: Arc<LinkStatus>,
    end: End,
}

fn plan(to: SocketAddr, stream: &str, flow: Flow<Arc<Outlet>>) -> CallPlan {
    CallPlan::to(to, LinkConfig { stream_id: Some(stream.into()), ..config() }, flow)
}

fn call(shard: &Shard, to: SocketAddr, stream: &str, stop: &Stop) -> Call {
    let outlet = Outlet::new();
    let (end, stop) = stop.child();
    let plan = plan(to, stream, Flow::Out(outlet.clone()));
    let status = plan.status.clone();
    spawn_caller(shard, plan, stop);
    Call { outlet, status, end }
}

async fn up(line: &Line) -> SocketAddr {
    choir_rig::until("up", PATIENCE, || line.status.look(), |l| !l.peers.is_empty()).await.peers[0].1.addr
}

/// Sends some packets on a call, which must all come out of its line.
async fn carries(call: &Call, line: &Line) {
    let before = line.count.0.load(Ordering::Relaxed);
    choir_rig::until("its caller up", PATIENCE, || call.status.look(), |l| !l.peers.is_empty()).await;
    (0..50).for_each(|_| call.outlet.push(Bytes::from_static(&[0x47; 188])));
    choir_rig::until("all of them", PATIENCE, || line.count.0.load(Ordering::Relaxed) - before, |n| *n >= 50).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn callers_share_a_socket_but_for_one_peer_each_has_its_own() {
    let (_end, stop) = Stop::new();
    let (here, there) = (Shard::start().unwrap(), Shard::start().unwrap());
    let at = |stop: &Stop| Listener::open(&there, ([127, 0, 0, 1], 0).into(), stop.clone()).unwrap();
    let (one, two) = (at(&stop), at(&stop));
    let lines = [line(&one, "a"), line(&one, "b"), line(&two, "c")];
    let calls = [call(&here, one.addr, "a", &stop), call(&here, one.addr, "b", &stop), call(&here, two.addr, "c", &stop)];
    let mut from = Vec::new();
    for line in &lines {
        from.push(up(line).await);
    }
    assert_ne!(from[0], from[1], "two callers of one port are told apart by their addresses");
    assert!(from[2] == from[0] || from[2] == from[1], "{from:?}");
    for (call, line) in calls.iter().zip(&lines) {
        carries(call, line).await;
    }
    // One that is held, one that is stopped: the others on their socket go on.
    calls[2].status.control.set_held(true);
    choir_rig::until("gone", PATIENCE, || lines[2].status.look(), |l| l.peers.is_empty()).await;
    assert_eq!(calls[2].status.look().contact, Contact::Held);
    calls[0].end.now();
    choir_rig::until("stopped", PATIENCE, || lines[0].status.look(), |l| l.peers.is_empty()).await;
    carries(&calls[1], &lines[1]).await;
    calls[2].status.control.set_held(false);
    up(&lines[2]).await;
    carries(&calls[2], &lines[2]).await;
    assert_eq!(lines[1].status.look().sessions, 1, "undisturbed");
}

#[tokio::test(flavor = "multi_thread")]
async fn on_a_shared_socket_a_closed_port_is_told_at_once_and_only_to_its_caller() {
    let (_end, stop) = Stop::new();
    let shard = Shard::start().unwrap();
    let port = Listener::open(&shard, ([127, 0, 0, 1], 0).into(), stop.clone()).unwrap();
    let line = line(&port, "a");
    let good = call(&shard, port.addr, "a", &stop);
    let nobody = SocketAddr::from(([127, 0, 0, 1], choir_rig::port()));
    let bad = call(&shard, nobody, "x", &stop);
    let begun = std::time::Instant::now();
    choir_rig::until("refused", PATIENCE, || bad.status.look(), |l| l.contact.fault() == Some(Fault::PortClosed)).await;
    assert!(begun.elapsed() < Duration::from_millis(2900), "told only when the call had lasted its 3 s: {:?}", begun.elapsed());
    up(&line).await;
    carries(&good, &line).await;
    assert_eq!(good.status.look().contact, Contact::Up);
}

#[tokio::test(flavor = "multi_thread")]
async fn of_lines_that_call_so_many_share_a_socket_as_its_buffer_holds() {
    let (_end, stop) = Stop::new();
    let shard = Shard::start().unwrap();
    let (mut feeds, mut links) = (Vec::new(), Vec::new());
    for _ in 0..40 {
        let port = Listener::open(&shard, ([127, 0, 0, 1], 0).into(), stop.clone()).unwrap();
        let feed = ListenPlan::one(config(), Flow::Out(Outlet::new()));
        feeds.push(feed.status.clone());
        links.push(port.add(feed));
        spawn_caller(&shard, plan(port.addr, "x", Flow::In(Arc::<Count>::default())), stop.clone());
    }
    let mut from = std::collections::HashMap::<SocketAddr, usize>::new();
    for status in &feeds {
        let live = choir_rig::until("up", PATIENCE, || status.look(), |l| !l.peers.is_empty()).await;
        *from.entry(live.peers[0].1.addr).or_default() += 1;
    }
    let mut shared: Vec<usize> = from.into_values().collect();
    shared.sort_unstable();
    assert_eq!(shared, [8, 32]);
}

#[tokio::test(flavor = "multi_thread")]
async fn few_lines_are_served_together_and_many_by_all() {
    let shards = Shards::start().unwrap();
    let mut picked: Vec<Shard> = (0..TOGETHER).map(|_| shards.pick().unwrap()).collect();
    let names = |of: &[Shard]| of.iter().map(Shard::name).collect::<HashSet<_>>();
    assert_eq!(names(&picked).len(), 1, "one wake-up serves them all");
    let threads = shards.iter().count();
    picked.extend((0..TOGETHER * threads).map(|_| shards.pick().unwrap()));
    assert_eq!(names(&picked).len(), threads);
    let most = |name: &String| picked.iter().filter(|s| s.name() == *name).count();
    let counts: Vec<usize> = names(&picked).iter().map(most).collect();
    assert!(counts.iter().max().unwrap() - counts.iter().min().unwrap() <= TOGETHER, "{counts:?}");
    // What is given back makes room.
    picked.clear();
    picked.extend((0..TOGETHER).map(|_| shards.pick().unwrap()));
    assert_eq!(names(&picked).len(), 1);
    shards.end();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_thread_tells_what_it_serves_and_how_late() {
    let (_end, stop) = Stop::new();
    let (here, there) = (Shard::start().unwrap(), Shard::start().unwrap());
    let port = Listener::open(&there, ([127, 0, 0, 1], 0).into(), stop.clone()).unwrap();
    let line = line(&port, "x");
    let call = call(&here, port.addr, "x", &stop);
    up(&line).await;
    choir_rig::until("counted", PATIENCE, || (here.links(), there.links()), |l| *l == (1, 1)).await;
    let late = choir_rig::until(
        "lateness",
        PATIENCE,
        || {
            call.outlet.push(Bytes::from_static(&[0x47; 188]));
            there.lateness()
        },
        |l| !l.most.is_zero(),
    )
    .await;
    assert!(late.half <= late.most_of_all && late.most_of_all <= late.most, "{late:?}");
    assert_eq!(here.lateness().most, Duration::ZERO, "it releases nothing");
    assert!(there.share() < 1.0);
}

/// Run with the machine to itself: it takes both cores.
mod timing {
    use super::*;

    #[tokio::test(flavor = "multi_thread")]
    async fn many_links_on_one_thread_lose_nothing_when_it_looks_on_a_grid() {
        let (_end, stop) = Stop::new();
        let (here, there) = (Shard::start().unwrap(), Shard::start().unwrap());
        let (mut lines, mut calls) = (Vec::new(), Vec::new());
        for _ in 0..40 {
            let port = Listener::open(&there, ([127, 0, 0, 1], 0).into(), stop.clone()).unwrap();
            lines.push(line(&port, "x"));
            calls.push(call(&here, port.addr, "x", &stop));
        }
        for (line, call) in lines.iter().zip(&calls) {
            up(line).await;
            choir_rig::until("its caller up", PATIENCE, || call.status.look(), |l| !l.peers.is_empty()).await;
        }
        // 40 000 packets a second: both threads look on their grid.
        let mut tick = tokio::time::interval(Duration::from_millis(1));
        for _ in 0..500 {
            tick.tick().await;
            calls.iter().for_each(|c| c.outlet.push(Bytes::from_static(&[0x47; 1316])));
        }
        for line in &lines {
            choir_rig::until("all", PATIENCE, || line.count.0.load(Ordering::Relaxed), |n| *n == 500).await;
            let live = choir_rig::until("counted", PATIENCE, || line.status.look(), |l| l.totals().packets == 500).await;
            assert_eq!(live.totals().missing, 0);
        }
        assert!(here.cpu() > Duration::ZERO && there.cpu() > Duration::ZERO);
    }
}
