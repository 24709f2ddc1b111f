//! What is shown of a link against what was done to it: a relay between two real ends in simulated
//! time counts every packet, and each number must be what it counted.

#![allow(clippy::panic, reason = "tests")]

use choir_core::{facts::Contact, summary::Summary, view::SpanView};
use choir_path::Faults;
use choir_ports::{LinkStatus, PeerLive, Ticks};
use choir_proto::srt::{Ceiling, LinkConfig};
use choir_rig::pair::{A, B, Pair, ms, number, payload};
use std::{
    cell::RefCell,
    collections::{HashMap, HashSet},
    rc::Rc,
    time::Duration,
};

const LATENCY: Duration = Duration::from_millis(200);
const SIZE: usize = 1316;
/// IP, UDP and SRT headers.
const HEADERS: u64 = 20 + 8 + 16;
/// Nothing is counted until the link has settled.
const SETTLED: Duration = Duration::from_secs(5);
const SECONDS: u64 = 20;

/// What the relay saw of the way to the receiver while it counted.
#[derive(Default)]
struct Truth {
    counts: bool,
    /// First copies that were dropped.
    lost: u64,
    /// Runs of them.
    runs: u64,
    in_run: bool,
    passed_bytes: u64,
    repeats: u64,
    /// When each payload came first.
    came: HashMap<u64, Duration>,
    /// RFC 3550, 6.4.1, over packets that were not repeats, µs.
    jitter: f64,
    last: Option<(i64, i64)>,
    seen: HashSet<u32>,
}

struct Case {
    faults: Faults,
    /// Each how many first copies one is dropped, and how many in a row.
    drops: Option<(u64, u64)>,
    /// Packets a second.
    rate: u64,
}

/// What was shown at both ends over the seconds that were counted, the truth, and the least
/// headroom of each of them as shown and as it was.
struct Seen {
    truth: Truth,
    sender: SpanView,
    receiver: SpanView,
    headroom: Vec<(f64, f64)>,
    came: u64,
    /// Mean of the relay's jitter at the end of each second, ms.
    jitter: f64,
}

fn word(data: &[u8], at: usize) -> u32 {
    u32::from_be_bytes([data[at], data[at + 1], data[at + 2], data[at + 3]])
}

/// The relay: it drops what it is told to, and writes down everything.
fn relay(truth: Rc<RefCell<Truth>>, drops: Option<(u64, u64)>) -> choir_rig::pair::Sieve {
    let mut first_copies = 0u64;
    Box::new(move |now, data| {
        if data[0] & 0x80 != 0 {
            return true;
        }
        let t = &mut *truth.borrow_mut();
        let (sequence, repeated, stamp) = (word(data, 0), data[4] & 0x04 != 0, i64::from(word(data, 8)));
        if t.seen.insert(sequence) {
            first_copies += 1;
            let drop = drops.is_some_and(|(every, row)| first_copies % every < row) && t.counts;
            t.runs += u64::from(drop && !t.in_run);
            t.in_run = drop;
            if drop {
                t.lost += 1;
                return false;
            }
        }
        if t.counts {
            t.passed_bytes += data.len() as u64 + 28;
            t.repeats += u64::from(repeated);
        }
        t.came.entry(number(&data[16..])).or_insert(now);
        let now = now.as_micros() as i64;
        if !repeated {
            if let Some((then, before)) = t.last {
                let d = ((now - then) - (stamp - before)).abs() as f64;
                t.jitter += (d - t.jitter) / 16.0;
            }
            t.last = Some((now, stamp));
        }
        true
    })
}

fn run(case: &Case) -> Seen {
    let mut pair = Pair::new(7, case.faults.clone(), case.faults.clone());
    let truth: Rc<RefCell<Truth>> = Rc::default();
    pair.sieves[B] = Some(relay(truth.clone(), case.drops));
    let config = LinkConfig::default().with_latency(LATENCY);
    pair.call(config.clone(), config);
    assert!(pair.join(Duration::from_secs(5)));
    let begun = pair.now;
    let mut lives = [A, B].map(|end| {
        let mut live = LinkStatus::new().look();
        live.contact = Contact::Up;
        live.peers.push((1, PeerLive::new(pair.addr[1 - end], pair.instant(end))));
        let ticks = Ticks::new(&live, pair.instant(end));
        (live, ticks)
    });
    let mut summaries = [Summary::default(), Summary::default()];
    let (mut headroom, mut came, mut sent, mut jitter) = (Vec::new(), 0, 0, 0.0);
    let interval = Duration::from_secs(1) / case.rate as u32;
    let mut next = begun;
    // In fifths of a second, as a port looks; a tick each fifth time.
    for look in 1..=5 * (SETTLED.as_secs() + SECONDS) {
        let until = begun + ms(200) * look as u32;
        while next < until {
            pair.run_until(next.max(pair.now));
            let conn = pair.up(A).expect("up");
            sent += 1;
            assert!(pair.send(A, conn, payload(sent, SIZE)));
            next += interval;
        }
        pair.run_until(until);
        for end in [A, B] {
            let (now, conn) = (pair.instant(end), pair.up(end).expect("up"));
            let stats = pair.ends[end].link_stats(conn).expect("up");
            let glance = pair.ends[end].take_glance(now, conn).expect("up");
            let (live, ticks) = &mut lives[end];
            live.read_at = Some(now);
            live.peers[0].1.read_srt(now, end == B, &stats, &glance);
            if look % 5 == 0 {
                let tick = ticks.end(live, now, None, 0);
                if truth.borrow().counts {
                    summaries[end].note(&tick);
                    if end == B {
                        came += tick.packets;
                        jitter += truth.borrow().jitter / 1000.0 / SECONDS as f64;
                        headroom.push((until, tick.headroom_ms.expect("headroom").least));
                    }
                }
            }
        }
        if until == begun + SETTLED {
            truth.borrow_mut().counts = true;
        }
    }
    // Until the last of them is released.
    pair.run_for(Duration::from_secs(1));
    pair.sieves[B] = None;
    let [sender, receiver] = summaries.map(|s| s.spans().pop().expect("all"));
    let truth = Rc::try_unwrap(truth).map(RefCell::into_inner).unwrap_or_else(|_| panic!("the relay is gone"));
    let released: HashMap<u64, Duration> = pair.seen[B].delivered.iter().map(|(at, d)| (number(&d.payload), *at)).collect();
    let least = |until: Duration| {
        let second = until - Duration::from_secs(1)..until;
        let came = truth.came.iter().filter(|(_, came)| second.contains(*came));
        came.filter_map(|(n, came)| Some((released.get(n)?.as_secs_f64() - came.as_secs_f64()) * 1000.0)).fold(f64::MAX, f64::min)
    };
    let headroom = headroom.into_iter().map(|(until, shown)| (shown, least(until))).collect();
    Seen { truth, sender, receiver, headroom, came, jitter }
}

fn path(rtt: u64) -> Faults {
    Faults { delay: ms(rtt) / 2, ..Faults::default() }
}

fn near(what: &str, shown: f64, is: f64, by: f64) {
    assert!((shown - is).abs() <= by, "{what}: shown {shown}, it is {is}, {by} off is allowed");
}

#[test]
fn loss_before_repair_is_what_was_dropped_at_both_ends() {
    for (every, row) in [(100, 1), (50, 3), (200, 10), (20, 1)] {
        let seen = run(&Case { faults: path(40), drops: Some((every, row)), rate: 500 });
        let is = seen.truth.lost as f64;
        assert!(is > 50.0, "{is}");
        // A packet at the edge of a second, or that is not reported yet.
        let by = (is * 0.05).max(2.0);
        near("receiver's loss", seen.receiver.lost as f64, is, by);
        near("sender's loss", seen.sender.lost as f64, is, by);
        let (mean, most) = seen.receiver.burst.expect("runs");
        near("runs", mean, is / seen.truth.runs as f64, 0.05 * row as f64);
        assert_eq!(u64::from(most), row, "the longest run");
        near("repeats that came", seen.receiver.resent as f64, seen.truth.repeats as f64, 2.0 + 0.01 * is);
        near("repaired", seen.receiver.recovered as f64, is, by);
        assert_eq!((seen.receiver.missing, seen.receiver.late), (0, 0));
    }
}

#[test]
fn the_round_trip_is_that_of_the_path() {
    for rtt in [2, 20, 61, 150] {
        let seen = run(&Case { faults: path(rtt), drops: None, rate: 500 });
        for (end, view) in [("receiver", &seen.receiver), ("sender", &seen.sender)] {
            let (least, mean, most) = view.rtt_ms.expect("measured");
            for (what, shown) in [("least", least), ("mean", mean), ("95 %", most)] {
                near(&format!("{end}'s {what} of {rtt} ms"), shown, rtt as f64, 1.0);
            }
        }
    }
}

#[test]
fn the_bitrate_is_that_of_what_came() {
    for rate in [100, 500, 2000] {
        let seen = run(&Case { faults: path(30), drops: Some((100, 1)), rate });
        let is = (seen.came * SIZE as u64 * 8) as f64 / SECONDS as f64;
        near("media", seen.receiver.rate_bps.0 as f64, is, 0.01 * is);
        near("what was sent", seen.sender.rate_bps.0 as f64, (rate * SIZE as u64 * 8) as f64, 0.01 * is);
        let wire = (seen.truth.passed_bytes * 8) as f64 / SECONDS as f64;
        near("on the wire", seen.receiver.wire_bps as f64, wire, 0.01 * wire);
        assert!(wire > is * (SIZE as u64 + HEADERS) as f64 / SIZE as f64, "repeats come on top");
    }
}

#[test]
fn the_least_headroom_of_each_second_is_that_of_its_latest_packet() {
    for (rtt, jitter, drops) in [(40, 0, None), (40, 15, None), (60, 10, Some((50, 2))), (90, 5, Some((100, 1)))] {
        let faults = Faults { jitter: ms(jitter), ..path(rtt) };
        let seen = run(&Case { faults, drops, rate: 500 });
        for (shown, is) in &seen.headroom {
            near(&format!("headroom with {jitter} ms of jitter"), *shown, *is, 2.0);
        }
        let least = seen.headroom.iter().map(|h| h.1).fold(f64::MAX, f64::min);
        let (shown, first) = seen.receiver.headroom_ms.expect("headroom");
        near("least of all", shown, least, 2.0);
        assert!(first >= shown);
    }
}

#[test]
fn jitter_is_that_of_rfc_3550() {
    for jitter in [2, 8, 20] {
        let seen = run(&Case { faults: Faults { jitter: ms(jitter), ..path(40) }, drops: None, rate: 500 });
        let (mean, _) = seen.receiver.jitter_ms.expect("measured");
        // The relay's own estimate, averaged as it is shown: at the end of each second.
        let is = seen.jitter;
        near("jitter", mean, is, 0.1 * is);
    }
}

#[test]
fn a_full_path_does_not_make_this_machine_look_late() {
    let rate = 500u64;
    let usual = Faults { jitter: ms(8), loss: 0.01, burst: 3.0, ..path(50) };
    let full = Faults { rate: Some(rate * 1360 * 8 * 8 / 10), queue: Duration::from_secs(1), ..usual.clone() };
    let mut pair = Pair::new(3, full, usual);
    let config = LinkConfig::default().with_latency(Duration::from_millis(300));
    pair.call(config.clone(), config);
    assert!(pair.join(Duration::from_secs(5)));
    for n in 1..=rate * 20 {
        let conn = pair.up(A).expect("up");
        pair.send(A, conn, payload(n, SIZE));
        pair.run_for(Duration::from_secs(1) / rate as u32);
    }
    let late = pair.seen[B].delivered.iter().map(|(at, d)| (pair.instant(B) - (pair.now - *at)).saturating_duration_since(d.due));
    let worst = late.max().expect("some were delivered");
    assert!(worst < Duration::from_millis(1), "{worst:?}");
}

/// Pictures of 20 packets, 25 a second, over this path; what each end says it lets through.
fn lets_through(there: Faults) -> [Option<u64>; 2] {
    let mut pair = Pair::new(5, there, path(40));
    // A sender's own pace would come out.
    let config = LinkConfig { ceiling: Ceiling::Unlimited, ..LinkConfig::default().with_latency(Duration::from_millis(300)) };
    pair.call(config.clone(), config);
    assert!(pair.join(Duration::from_secs(5)));
    for picture in 0..25 * 20 {
        let conn = pair.up(A).expect("up");
        for n in 0..20 {
            pair.send(A, conn, payload(picture * 20 + n, SIZE));
        }
        pair.run_for(ms(40));
    }
    [A, B].map(|end| {
        let (now, conn) = (pair.instant(end), pair.up(end).expect("up"));
        pair.ends[end].take_glance(now, conn).expect("up").capacity_bps
    })
}

#[test]
fn what_the_path_lets_through_is_what_it_carries() {
    for (bps, faults) in
        [(8_000_000, path(40)), (20_000_000, Faults { jitter: ms(1), ..path(60) }), (12_000_000, Faults { loss: 0.01, ..path(20) })]
    {
        for (end, shown) in ["sender", "receiver"].iter().zip(lets_through(Faults { rate: Some(bps), ..faults })) {
            near(&format!("{end}'s of {bps}"), shown.expect("bursts queue") as f64, bps as f64, 0.05 * bps as f64);
        }
    }
    assert_eq!(lets_through(Faults { jitter: ms(8), ..path(40) }), [None, None], "nothing queues");
}
