//! Two ends that wave at each other: whoever is first, whatever is lost, whoever begins anew.

use super::*;

#[test]
fn rendezvous_joins_whoever_is_first_and_whichever_messages_are_lost() {
    let mut initiators = [0; 2];
    for seed in 0..300 {
        let f = Faults { delay: ms(5 + seed % 50), loss: 0.3, ..Faults::default() };
        let mut pair = Pair::new(seed, f.clone(), f);
        let config = LinkConfig { connect_timeout: ms(20_000), ..pass("tarn hollow regatta") };
        let (now, to) = (pair.instant(A), pair.addr[B]);
        pair.ends[A].meet(now, to, config.clone());
        pair.tap = Some(Vec::new());
        pair.run_for(ms(seed % 400));
        let (now, to) = (pair.instant(B), pair.addr[A]);
        pair.ends[B].meet(now, to, config);
        assert!(pair.join(ms(15_000)), "seed {seed}");
        for (end, data) in pair.tap.take().into_iter().flatten() {
            if let Ok(Packet::Control { control: Control::Handshake(h), .. }) = Packet::parse(&data)
                && h.kind == HandshakeType::Agreement
            {
                initiators[end] += 1;
                break;
            }
        }
        let (a, b) = (pair.up(A).expect("up"), pair.up(B).expect("up"));
        pair.send(A, a, payload(1, 100));
        pair.send(B, b, payload(2, 100));
        pair.run_for(ms(2000));
        let got = |end: usize, pair: &Pair| pair.seen[end].delivered.first().map(|(_, d)| number(&d.payload));
        // A third of all packets is lost: most get through, and none is ever damaged.
        assert!(got(B, &pair).is_none_or(|n| n == 1) && got(A, &pair).is_none_or(|n| n == 2));
    }
    assert!(initiators.iter().all(|n| *n > 50), "both roles were played: {initiators:?}");
}

#[test]
fn rendezvous_joins_soon_whenever_an_end_has_given_up_and_begun_anew() {
    const AGAIN: Duration = ms(500);
    let f = Faults { delay: ms(45), ..Faults::default() };
    for offset in (2300..3600).step_by(10) {
        let mut pair = Pair::new(offset, f.clone(), f.clone());
        let mut again = Some(pair.now);
        let mut ended = 0;
        let mut first = None;
        for at in (0..offset + 3000).step_by(10) {
            pair.run_until(ms(at));
            if pair.seen[A].events.iter().filter(|e| matches!(e, Event::Closed { .. })).count() > ended {
                ended += 1;
                again = Some(pair.now + AGAIN);
            }
            if again.is_some_and(|at| at <= pair.now) {
                again = None;
                let (now, to) = (pair.instant(A), pair.addr[B]);
                pair.ends[A].meet(now, to, pass("tarn hollow regatta"));
            }
            if at == offset {
                let (now, to) = (pair.instant(B), pair.addr[A]);
                pair.ends[B].meet(now, to, pass("tarn hollow regatta"));
            }
            if let Some(up) = pair.up(A) {
                pair.send(A, up, payload(1, 100));
            }
            if first.is_none() && !pair.seen[B].delivered.is_empty() {
                first = Some(at - offset);
            }
        }
        assert!(first.is_some_and(|after| after < 1500), "B began after {offset} ms, and got its first packet {first:?} ms later");
    }
}

#[test]
fn who_was_met_and_begins_anew_is_met_again_before_the_link_is_given_up() {
    let mut pair = clean(15);
    pair.meet(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    let feed = |pair: &mut Pair, time: u64| {
        for _ in (0..time).step_by(10) {
            pair.up(A).map(|up| pair.send(A, up, payload(1, 100)));
            pair.run_for(ms(10));
        }
    };
    feed(&mut pair, 1000);
    // The plug is pulled and put back.
    pair.ends[A] = Endpoint::new(pair.addr[A].ip(), pair.instant(A), [9; 32]);
    let (now, to) = (pair.instant(A), pair.addr[B]);
    pair.ends[A].meet(now, to, LinkConfig::default());
    feed(&mut pair, 2800);
    assert_eq!(closed(&pair, B).map(|c| c.0), Some(CloseReason::BegunAnew));
    let (now, to) = (pair.instant(B), pair.addr[A]);
    pair.ends[B].meet(now, to, LinkConfig::default());
    let before = pair.seen[B].delivered.len();
    feed(&mut pair, 1000);
    assert!(pair.seen[B].delivered.len() > before + 50);
}

#[test]
fn waves_that_anybody_sends_do_not_end_a_rendezvous_that_lives() {
    let mut pair = clean(16);
    pair.meet(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    let mut other = clean(17);
    other.tap = Some(Vec::new());
    other.meet(LinkConfig::default(), LinkConfig::default());
    other.drain(A);
    let (_, wave) = other.tap.as_ref().and_then(|t| t.first()).cloned().expect("a wave");
    let from = pair.addr[A];
    // Also where there is nothing to send but a sign of life each second.
    for _ in 0..1000 {
        pair.inject(B, from, &wave);
        pair.run_for(ms(10));
    }
    assert_eq!((closed(&pair, A), closed(&pair, B)), (None, None));
}

#[test]
fn rendezvous_with_different_passphrases_is_refused_on_both_ends() {
    let mut pair = clean(13);
    pair.meet(pass("tarn hollow one"), pass("tarn hollow two"));
    pair.run_for(ms(1500));
    let reasons: Vec<_> = [A, B].iter().filter_map(|e| closed(&pair, *e)).map(|c| c.0).collect();
    assert!(reasons.contains(&CloseReason::RefusedHere(RejectReason::BadSecret)), "{reasons:?}");
    assert!(reasons.contains(&CloseReason::RefusedByPeer(RejectReason::BadSecret)), "{reasons:?}");
}

#[test]
fn keys_of_a_peer_that_is_met_are_checked_where_they_hold_up_nothing() {
    let now = clean(1).instant(A);
    let at = ["127.0.0.1:7001", "127.0.0.2:7001"].map(|a| a.parse().expect("an address"));
    let mut ends = [0, 1].map(|n: u8| Endpoint::new([127, 0, 0, 1 + n].into(), now, [n; 32]));
    for (n, end) in ends.iter_mut().enumerate() {
        end.meet(now, at[1 - n], pass("four oars and a cox"));
    }
    // Everything but the checks, until nothing more is said.
    let talk = |ends: &mut [Endpoint; 2], ms: u64| {
        let now = now + Duration::from_millis(ms);
        let (mut buf, mut quiet) = (Vec::new(), false);
        while !quiet {
            quiet = true;
            for n in 0..2 {
                ends[n].handle_timeout(now);
                while let Some(t) = ends[n].poll_transmit(now, 1, &mut buf) {
                    ends[1 - n].handle_datagram(now, at[n], &buf[..t.size]);
                    buf.clear();
                    quiet = false;
                }
            }
        }
    };
    (0..20).for_each(|n| talk(&mut ends, n * 100));
    let up = |ends: &[Endpoint; 2]| ends.iter().filter(|e| e.connections().next().is_some()).count();
    assert_eq!(up(&ends), 0, "one of them cannot answer yet");
    let later = now + Duration::from_millis(2000);
    let checks: Vec<_> = (0..2).filter_map(|n| Some((n, ends[n].poll_key_check(later)?))).collect();
    assert_eq!(checks.len(), 1, "repeats of the request ask for no more of them");
    for (n, check) in checks {
        ends[n].handle_key_check(later, check.run());
        assert!(ends[n].poll_key_check(later).is_none());
    }
    (20..25).for_each(|n| talk(&mut ends, n * 100));
    assert_eq!(up(&ends), 2);
}
