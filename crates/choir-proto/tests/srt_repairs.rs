//! Repairs that are of use: none that come too late, the first one without delay.

use choir_path::Faults;
use choir_proto::srt::LinkConfig;
use choir_rig::pair::{A, B, Pair, ms, payload};
use std::time::Duration;

/// A stream of this rate for so long; gives what the two ends counted.
fn run(pair: &mut Pair, bps: u64, time: Duration) -> (choir_proto::srt::LinkStats, choir_proto::srt::LinkStats) {
    let conn = pair.up(A).expect("up");
    let spacing = Duration::from_secs_f64(1316.0 * 8.0 / bps as f64);
    for n in 0..(time.as_secs_f64() / spacing.as_secs_f64()) as u64 {
        pair.send(A, conn, payload(n, 1316));
        pair.run_for(spacing);
        pair.seen[B].delivered.clear();
    }
    pair.run_for(ms(1500));
    let stats = |end: usize| pair.ends[end].link_stats(pair.up(end).expect("up")).expect("stats");
    (stats(A), stats(B))
}

#[test]
fn on_a_full_path_nothing_is_repeated_that_comes_too_late() {
    for (delay, latency) in [(10, 120), (20, 120), (10, 60)] {
        let there = Faults { delay: ms(delay), rate: Some(3_400_000), ..Faults::default() };
        let back = Faults { delay: ms(delay), ..Faults::default() };
        let mut pair = Pair::new(delay * 7 + latency, there, back);
        let config = LinkConfig::default().with_latency(ms(latency));
        pair.call(config.clone(), config);
        assert!(pair.join(ms(1000)));
        let (a, b) = run(&mut pair, 4_000_000, Duration::from_secs(20));
        let missing = b.skipped as f64 / a.sent as f64;
        // A path for 3.4 of 4.1 Mbps, headers included, cannot do better than 17 %.
        assert!(missing < 0.22, "{delay} ms, latency {latency}: {missing:.3} missing, {} repeats, {} in time", a.resent, b.recovered);
        assert!(a.resent < a.sent / 50 || b.recovered * 2 > a.resent, "{} repeats, {} in time", a.resent, b.recovered);
        assert!(a.given_up > 0 || a.resent < 50, "{a:?}");
    }
}

#[test]
fn losses_right_after_joining_are_repaired_in_time() {
    let (mut lost, mut skipped) = (0, 0);
    for seed in 0..60 {
        let faults = Faults { delay: ms(10), loss: 0.03, ..Faults::default() };
        let mut pair = Pair::new(9000 + seed, faults, Faults { delay: ms(10), ..Faults::default() });
        let config = LinkConfig::default().with_latency(ms(120));
        pair.call(config.clone(), config);
        assert!(pair.join(ms(3000)));
        let (_, b) = run(&mut pair, 8_000_000, ms(330));
        lost += b.lost;
        skipped += b.skipped;
    }
    assert!(lost > 200, "{lost}");
    assert_eq!(skipped, 0, "of {lost} lost in the first third of a second");
}

#[test]
fn a_lost_packet_is_repeated_as_often_as_its_latency_has_round_trips() {
    // There is room for three repeats, 40 ms apart: what all three do not bring is 0.1 to the
    // fourth power.
    let there = Faults { delay: ms(20), loss: 0.1, ..Faults::default() };
    let (mut sent, mut skipped) = (0, 0);
    for seed in 0..4 {
        let mut pair = Pair::new(700 + seed, there.clone(), Faults { delay: ms(20), ..Faults::default() });
        let config = LinkConfig::default().with_latency(ms(175));
        pair.call(config.clone(), config);
        assert!(pair.join(ms(3000)));
        let (a, b) = run(&mut pair, 8_000_000, Duration::from_secs(20));
        sent += a.sent - a.resent;
        skipped += b.skipped;
    }
    let share = skipped as f64 / sent as f64;
    assert!(share < 3e-4, "{skipped} of {sent} missing: {share:.5}");
}

#[test]
fn a_light_acknowledgement_is_not_answered() {
    let faults = Faults { delay: ms(10), ..Faults::default() };
    let mut pair = Pair::new(8, faults.clone(), faults);
    let config = LinkConfig::default().with_latency(ms(120));
    pair.call(config.clone(), config);
    assert!(pair.join(ms(1000)));
    pair.tap = Some(Vec::new());
    // At this rate 64 packets come sooner than the next full one is due.
    run(&mut pair, 120_000_000, ms(500));
    let sent = pair.tap.take().expect("a tap");
    // Numbers of the control packets of a type (draft, 3.2.4 and 3.2.8).
    let numbers = |end: usize, kind: u8| -> Vec<u32> {
        let of_kind = sent.iter().filter(|(from, d)| *from == end && d[..2] == [0x80, kind]);
        of_kind.map(|(_, d)| u32::from_be_bytes([d[4], d[5], d[6], d[7]])).collect()
    };
    let acknowledgements = numbers(B, 2);
    assert!(acknowledgements.contains(&0) && acknowledgements.iter().any(|n| *n > 0));
    let answers = numbers(A, 6);
    assert!(!answers.is_empty() && !answers.contains(&0), "{answers:?}");
}

#[test]
fn a_capacity_that_no_path_has_is_not_believed() {
    let mut pair = Pair::new(8, Faults::default(), Faults::default());
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(1000)));
    let conn = pair.up(A).expect("up");
    // A full acknowledgement (draft, 3.2.4): rate, capacity and bytes are its last three words.
    let words = |capacity: u32, bytes: u32| [0x8002_0000, 1, 0, conn.0, 0, 100_000, 50_000, 8192, 1, capacity, bytes];
    for (capacity, bytes) in [(u32::MAX, u32::MAX), (2, u32::MAX), (1 << 30, 1316)] {
        let data: Vec<u8> = words(capacity, bytes).into_iter().flat_map(u32::to_be_bytes).collect();
        pair.inject(A, pair.addr[B], &data);
        let now = pair.instant(A);
        let told = pair.ends[A].take_glance(now, conn).and_then(|g| g.capacity_bps).expect("told");
        assert!(told <= 1_000_000_000_000, "{told}");
    }
}

#[test]
fn a_small_window_at_the_peer_is_what_is_told() {
    let faults = Faults { delay: ms(40), ..Faults::default() };
    let mut pair = Pair::new(5, faults.clone(), faults);
    let config = LinkConfig::default().with_latency(ms(200));
    // 32 packets each 80 ms are 4.2 Mbps at best.
    pair.call(config.clone(), LinkConfig { window: 32, ..config });
    assert!(pair.join(ms(1000)));
    let (a, _) = run(&mut pair, 8_000_000, Duration::from_secs(5));
    assert_eq!(a.peer_window, 32);
    assert!(a.window_dropped > 500 && a.window_dropped <= a.send_dropped, "{} of {}", a.window_dropped, a.send_dropped);
}

#[test]
fn a_sender_counts_lost_packets_and_not_the_reports_of_them() {
    // At 120 ms round trip each loss is reported several times before its repeat comes.
    for (delay, latency) in [(20, 200), (60, 400), (120, 200)] {
        let there = Faults { delay: ms(delay), loss: 0.03, ..Faults::default() };
        let mut pair = Pair::new(delay, there, Faults { delay: ms(delay), ..Faults::default() });
        let config = LinkConfig::default().with_latency(ms(latency));
        pair.call(config.clone(), config);
        assert!(pair.join(ms(3000)));
        let (a, b) = run(&mut pair, 4_000_000, Duration::from_secs(20));
        let seen = b.lost - b.reordered;
        assert!(seen > 150, "{seen}");
        // A loss whose report comes after the packet was forgotten is not among them.
        assert!(a.reported_lost <= seen && a.reported_lost * 100 >= seen * 98, "{delay} ms: {} told, {seen} lost", a.reported_lost);
    }
}

#[test]
fn what_stays_unacknowledged_grows_with_a_dead_path_only() {
    let faults = Faults { delay: ms(30), ..Faults::default() };
    let mut pair = Pair::new(3, faults.clone(), faults);
    let config = LinkConfig::default().with_latency(ms(200));
    pair.call(config.clone(), config);
    assert!(pair.join(ms(1000)));
    let conn = pair.up(A).expect("up");
    let age = |pair: &mut Pair| {
        for n in 0..100 {
            pair.send(A, conn, payload(n, 1316));
            pair.run_for(ms(4));
        }
        let now = pair.instant(A);
        ms(pair.ends[A].take_glance(now, conn).expect("up").unacknowledged_us as u64 / 1000)
    };
    let usual = age(&mut pair);
    assert!(usual < ms(100), "{usual:?}");
    pair.cut = true;
    assert!(age(&mut pair) > ms(350));
}

#[test]
fn a_window_that_was_full_opens_again_when_the_sender_gives_up_what_it_holds() {
    let faults = Faults { delay: ms(75), ..Faults::default() };
    let mut pair = Pair::new(5, faults.clone(), faults);
    let config = LinkConfig::default().with_latency(ms(500));
    pair.call(config.clone(), LinkConfig { window: 32, ..config });
    assert!(pair.join(ms(1000)));
    let conn = pair.up(A).expect("up");
    let delivered = |pair: &mut Pair| {
        for n in 0..2000 {
            pair.send(A, conn, payload(n, 1316));
            pair.run_for(ms(3));
        }
        std::mem::take(&mut pair.seen[B].delivered).len()
    };
    delivered(&mut pair);
    let later = delivered(&mut pair);
    assert!(later > 300, "a window a round trip is 160 a second: {later} in 6 s");
}
