//! Times of arrival, and when what came is due.

use super::*;

#[test]
fn a_packet_that_comes_after_its_time_was_due_when_it_came() {
    let mut pair = Pair::new(3, Faults { delay: ms(10), ..Faults::default() }, Faults::default());
    let config = LinkConfig::default().with_latency(ms(60));
    pair.call(config.clone(), config);
    assert!(pair.join(ms(1000)));
    let conn = pair.up(A).expect("up");
    pair.paths[A].set_faults(Faults { delay: ms(200), ..Faults::default() });
    pair.send(A, conn, payload(1, 1316));
    pair.run_for(ms(500));
    let (at, d) = &pair.seen[B].delivered[0];
    let late = (pair.instant(B) - (pair.now - *at)).saturating_duration_since(d.due);
    assert!(late < ms(2), "{late:?}: this end was not late");
}

#[test]
fn what_leaves_in_lumps_is_released_as_it_was_made() {
    let mut pair = clean(23);
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    let conn = pair.up(A).expect("up");
    // Made each 700 µs, and sent each 5 ms; the last of each lump 300 µs before its time.
    let mut sent = 0;
    for _ in 0..100 {
        let now = pair.instant(A);
        for n in 0..7_i64 {
            let age = 700 * (6 - n) - 300;
            assert!(pair.ends[A].send_from(now, age, conn, payload(sent, 1316)).is_ok());
            sent += 1;
        }
        pair.run_for(ms(5));
    }
    pair.run_for(ms(500));
    let released = &pair.seen[B].delivered;
    assert_eq!(released.len(), 700);
    let steps: Vec<u128> = released.windows(2).map(|w| (w[1].0 - w[0].0).as_micros()).collect();
    for (n, step) in steps.iter().enumerate() {
        let made = if n % 7 == 6 { 800 } else { 700 };
        assert!(step.abs_diff(made) <= 2, "{step} µs behind packet {n}");
    }
    // A time before that of the packet before is not believed: times rise.
    let now = pair.instant(A);
    for age in [0, 50_000] {
        assert!(pair.ends[A].send_from(now, age, conn, payload(sent, 1316)).is_ok());
        sent += 1;
    }
    pair.run_for(ms(500));
    let last = &pair.seen[B].delivered[700..];
    assert_eq!(last.len(), 2);
    assert!((last[1].0 - last[0].0).as_micros() <= 2);
}

#[test]
fn what_is_looked_at_now_and_then_is_measured_by_when_it_came() {
    let path = Faults { delay: Duration::from_micros(10_700), ..Faults::default() };
    let mut pair = Pair::new(29, path.clone(), path);
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    let conn = pair.up(A).expect("up");
    pair.looks = Some(ms(2));
    for n in 0..1000 {
        assert!(pair.send(A, conn, payload(n, 1316)));
        pair.run_for(Duration::from_micros(4300));
    }
    pair.run_for(ms(500));
    assert_eq!(pair.seen[B].delivered.len(), 1000);
    let (there, now) = (pair.up(B).expect("up"), pair.instant(B));
    let glance = pair.ends[B].take_glance(now, there).expect("up");
    assert!(glance.jitter_us < 20, "{} µs of jitter on a path without any", glance.jitter_us);
    // The far end answers with its next look, 12 ms later; this end's own look adds nothing.
    let rtt = glance.rtt.expect("measured");
    assert!(rtt.least_us.abs_diff(22_700) < 50 && rtt.greatest_us.abs_diff(22_700) < 50, "{rtt:?} on a path of 21.4 ms");
}

#[test]
fn who_looks_now_and_then_adds_nothing_to_the_delay_of_the_other_end() {
    let way = Duration::from_micros(10_700);
    let path = Faults { delay: way, ..Faults::default() };
    let mut pair = Pair::new(29, path.clone(), path);
    pair.looks = Some(ms(2));
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    for (from, to) in [(A, B), (B, A)] {
        let conn = pair.up(from).expect("up");
        let sent = pair.instant(from);
        assert!(pair.send(from, conn, payload(0, 1316)));
        pair.run_for(ms(300));
        let (_, delivered) = pair.seen[to].delivered.first().expect("delivered");
        let beyond = (delivered.due - sent).abs_diff(way + LinkConfig::default().receive_latency);
        assert!(beyond < Duration::from_micros(50), "from end {from}: {beyond:?} off");
    }
}

#[test]
fn times_of_arrival_before_the_last_look_lose_nothing() {
    for seed in 0..20 {
        let faults = Faults { delay: ms(10), jitter: ms(3), loss: 0.03, ..Faults::default() };
        let mut pair = Pair::new(seed, faults.clone(), faults);
        // Enough for a packet that is lost three times before the round trip is known.
        let config = || pass("eight oars and a cox").with_latency(ms(600));
        pair.call(config(), config());
        pair.looks = Some(Duration::from_micros(1250));
        assert!(pair.join(ms(3000)));
        let conn = pair.up(A).expect("up");
        for n in 0..2000 {
            assert!(pair.send(A, conn, payload(n, 1316)));
            pair.run_for(Duration::from_micros(1300));
        }
        pair.run_for(ms(1000));
        let released = pair.seen[B].delivered.iter().map(|(_, d)| number(&d.payload));
        assert!(released.eq(0..2000), "seed {seed}");
    }
}
