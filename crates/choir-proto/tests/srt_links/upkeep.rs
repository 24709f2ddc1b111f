//! What a link lives through, and how it ends.

use super::*;

#[test]
fn a_clean_end_delivers_everything_first() {
    let mut pair = clean(16);
    pair.paths[A].set_faults(Faults { delay: ms(10), loss: 0.2, ..Faults::default() });
    pair.call(LinkConfig { connect_timeout: ms(9000), ..LinkConfig::default().with_latency(ms(400)) }, LinkConfig::default());
    assert!(pair.join(ms(9000)));
    let from = pair.up(A).expect("up");
    for n in 0..100 {
        pair.send(A, from, payload(n, 500));
        pair.run_for(ms(1));
    }
    let now = pair.instant(A);
    pair.ends[A].finish(now, from);
    pair.paths[A].set_faults(Faults { delay: ms(10), ..Faults::default() });
    pair.run_for(ms(2000));
    assert_eq!(pair.seen[B].delivered.len(), 100, "the lost tail was sent again");
    assert_eq!(closed(&pair, B).map(|c| c.0), Some(CloseReason::PeerClosed));
    assert_eq!(closed(&pair, A).map(|c| c.0), Some(CloseReason::Closed));
}

#[test]
fn keep_alives_hold_an_idle_link_and_silence_ends_it() {
    let mut pair = clean(17);
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    pair.run_for(Duration::from_secs(60));
    assert!(closed(&pair, A).is_none() && closed(&pair, B).is_none());
    pair.cut = true;
    pair.run_for(ms(6100));
    assert_eq!(closed(&pair, A).map(|c| c.0), Some(CloseReason::Silent(ms(5000))));
    assert_eq!(closed(&pair, B).map(|c| c.0), Some(CloseReason::Silent(ms(5000))));
}

#[test]
fn clocks_200_ppm_apart_are_followed_for_an_hour() {
    let f = Faults { delay: ms(15), jitter: ms(4), ..Faults::default() };
    let mut pair = Pair::new(19, f.clone(), f);
    pair.ppm = [100.0, -100.0];
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    let from = pair.up(A).expect("up");
    let mut worst = (Duration::MAX, Duration::ZERO);
    for n in 0..360_000 {
        let sent = pair.now;
        pair.send(A, from, payload(n, 100));
        pair.run_until(sent + ms(10));
        for (at, d) in pair.seen[B].delivered.drain(..) {
            // Packet n left at n * 10 ms after the first one.
            let left = sent - ms(10) * (n - number(&d.payload)) as u32;
            let took = at - left;
            worst = (worst.0.min(took), worst.1.max(took));
        }
    }
    let stats = pair.ends[B].link_stats(pair.up(B).expect("up")).expect("stats");
    assert_eq!(stats.skipped, 0);
    assert!((-725_000..=-700_000).contains(&stats.drift_us) || (700_000..=725_000).contains(&stats.drift_us), "{}", stats.drift_us);
    // An hour apart by 720 ms, and the way through stays what it was within a few ms.
    assert!(worst.1 - worst.0 < ms(5), "took {:?} to {:?}", worst.0, worst.1);
}

#[test]
fn junk_is_counted_and_costs_nothing() {
    let mut pair = clean(20);
    pair.call(pass("tarn hollow one"), pass("tarn hollow one"));
    assert!(pair.join(ms(500)));
    let (from, to) = (pair.addr[A], pair.up(B).expect("up"));
    let before = pair.ends[B].link_stats(to);
    let mut data = vec![0u8; 1400];
    let mut x = 1u32;
    for round in 0..20_000u32 {
        for b in &mut data {
            x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            *b = (x >> 24) as u8;
        }
        // A third with the right header fields, so that it gets past the first check.
        if round % 3 == 0 {
            data[12..16].copy_from_slice(&to.0.to_be_bytes());
            data[0] = 0x80;
            data[1..4].copy_from_slice(&[(round % 9) as u8, 0, 0]);
        }
        pair.inject(B, from, &data[..(x % 1400) as usize]);
    }
    pair.run_for(ms(100));
    let after = pair.ends[B].link_stats(to);
    assert_eq!(before.map(|s| s.delivered), after.map(|s| s.delivered));
    assert!(pair.ends[B].stats().junk > 10_000);
}

#[test]
fn time_that_stands_still_does_no_harm() {
    #[allow(clippy::disallowed_methods, reason = "any time will do")]
    let now = Instant::now();
    let mut end = Endpoint::new([127, 0, 0, 1].into(), now, [1; 32]);
    end.call(now, ([127, 0, 0, 1], 9).into(), LinkConfig::default());
    let mut buf = Vec::new();
    for _ in 0..10 {
        end.handle_timeout(now);
    }
    assert!(end.poll_transmit(now, 4, &mut buf).is_some());
    assert!(end.poll_transmit(now, 4, &mut buf).is_none(), "the first greeting goes out once");
    assert!(end.poll_timeout().is_some_and(|t| t > now));
}

#[test]
fn a_peer_s_mss_bounds_every_packet() {
    for (mss, largest) in [(1000, 940), (600, 376), (1500, 1316), (300, 188)] {
        let (mut end, now) = listener(false);
        let hand = Hand::new(5000, 77);
        let answer = hand.conclude(&mut end, now, |h| h.mtu = mss).expect("an answer");
        assert_eq!(answer.kind, HandshakeType::Conclusion, "MSS {mss}");
        let conn = end.connections().next().expect("joined");
        let whole: Vec<u8> = (0..1316u32).map(|n| if n % 188 == 0 { 0x47 } else { n as u8 & 0x3F }).collect();
        for _ in 0..5 {
            end.send(now, conn, whole.clone().into()).expect("sent");
        }
        let sizes: Vec<usize> = hand.take(&mut end, now).iter().filter(|d| d[0] & 0x80 == 0).map(|d| d.len() - 16).collect();
        assert_eq!(sizes.iter().max(), Some(&largest), "MSS {mss}: {sizes:?}");
        assert_eq!(sizes.iter().sum::<usize>(), 5 * 1316, "nothing is left out");
        assert!(sizes.iter().all(|s| s % 188 == 0 && s + 44 <= mss as usize), "{sizes:?}");
    }
    let (mut end, now) = listener(false);
    let answer = Hand::new(5000, 77).conclude(&mut end, now, |h| h.mtu = 200).expect("an answer");
    assert_eq!(answer.kind, HandshakeType::Rejection(RejectReason::Rogue), "no room for a packet of a transport stream");
}
