//! Several callers of one port, and those that come back, fall silent or are somebody else.

use super::*;

#[test]
fn a_second_caller_is_refused_until_the_first_falls_silent() {
    let mut pair = clean(6);
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    let second = pair.call_only(LinkConfig::default());
    pair.run_for(ms(500));
    let refusal = pair.seen[A]
        .events
        .iter()
        .any(|e| matches!(e, Event::Closed { conn, reason: CloseReason::RefusedByPeer(RejectReason::InUse), .. } if *conn == second));
    assert!(refusal, "{:?}", pair.seen[A].events);
    // The first caller's machine is switched off, and a new one takes its address.
    let seed = [9; 32];
    let now = pair.instant(A);
    pair.ends[A] = Endpoint::new(pair.addr[A].ip(), now, seed);
    pair.run_for(ms(1600));
    pair.call_only(LinkConfig::default());
    assert!(pair.join(ms(500)));
    assert!(matches!(closed(&pair, B), Some((CloseReason::Replaced, _))), "the silent one made room");
}

#[test]
fn one_port_serves_many_callers() {
    let mut pair = clean(18);
    let rule = |config| AcceptRule { id: RuleId(1), stream: StreamMatch::Any, config, max_callers: 50, held: false, callers_send: true };
    pair.ends[B].listen(rule(LinkConfig::default()));
    let ids: Vec<_> = (0..50).map(|_| pair.call_only(LinkConfig::default())).collect();
    pair.run_for(ms(300));
    assert_eq!(pair.ends[B].connections().count(), 50);
    // They may pause: each keeps alive, though all come from one address.
    pair.run_for(ms(20_000));
    for (n, id) in ids.iter().enumerate() {
        pair.send(A, *id, payload(n as u64, 100));
    }
    pair.run_for(ms(300));
    let mut got: Vec<_> = pair.seen[B].delivered.iter().map(|(_, d)| number(&d.payload)).collect();
    got.sort_unstable();
    assert_eq!(got, (0..50).collect::<Vec<_>>());
}

fn data(hand: &Hand, end: &mut Endpoint, now: Instant, to: u32, seq: u32) {
    hand.data(end, now, to, (seq, 0), &[0x47; 188]);
}

#[test]
fn a_sender_that_returns_from_elsewhere_takes_over_once_the_old_one_is_silent() {
    use choir_proto::srt::wire::Extension;
    let named = |h: &mut Handshake| {
        h.extension_field |= 4;
        h.extensions.push(Extension::StreamId("towpath".into()));
    };
    let (mut end, start) = listener(true);
    let old = Hand::new(5000, 77);
    old.conclude(&mut end, start, named).expect("an answer");
    let conn = end.connections().next().expect("joined");
    for n in 0..100 {
        data(&old, &mut end, start + ms(n * 10), conn.0, 7 + n as u32);
    }
    let kind = |answer: Option<Handshake>| answer.expect("an answer").kind;
    // The same stream ID from another address: refused while the first one sends, let in 300 ms
    // after its last packet.
    let new = Hand { from: ([127, 20, 0, 8], 6000).into(), id: 78 };
    assert_eq!(kind(new.conclude(&mut end, start + ms(1000), named)), HandshakeType::Rejection(RejectReason::InUse));
    assert_eq!(kind(new.conclude(&mut end, start + ms(1300), named)), HandshakeType::Conclusion);
    assert_eq!(end.connections().count(), 1);
    // Another stream ID does not, as long as the holder has sent something.
    let stranger = Hand { from: ([127, 20, 0, 7], 6000).into(), id: 79 };
    let conn = end.connections().next().expect("joined");
    data(&new, &mut end, start + ms(1301), conn.0, 7);
    assert_eq!(kind(stranger.conclude(&mut end, start + ms(3000), |_| {})), HandshakeType::Rejection(RejectReason::InUse));
}

#[test]
fn a_silent_stranger_does_not_hold_a_line() {
    let (mut end, start) = listener(true);
    Hand::new(5000, 77).conclude(&mut end, start, |_| {}).expect("an answer");
    let good = Hand { from: ([127, 20, 0, 8], 6000).into(), id: 78 };
    assert_eq!(good.conclude(&mut end, start + ms(600), |_| {}).expect("an answer").kind, HandshakeType::Conclusion);
    // Nor one that sends noise, as it is decrypted when somebody who has no key replays a greeting.
    let (mut end, start) = listener(true);
    let stranger = Hand::new(5000, 77);
    stranger.conclude(&mut end, start, |_| {}).expect("an answer");
    let conn = end.connections().next().expect("joined");
    for n in 0..60 {
        stranger.data(&mut end, start + ms(n * 10), conn.0, (7 + n as u32, 0), &[0xA5; 188]);
    }
    assert_eq!(good.conclude(&mut end, start + ms(600), |_| {}).expect("an answer").kind, HandshakeType::Conclusion);
    // Receivers send nothing by nature: theirs is not taken.
    let (mut end, start) = listener(false);
    Hand::new(5000, 77).conclude(&mut end, start, |_| {}).expect("an answer");
    let answer = good.conclude(&mut end, start + ms(600), |_| {}).expect("an answer");
    assert_eq!(answer.kind, HandshakeType::Rejection(RejectReason::InUse));
}

#[test]
fn nothing_for_an_old_session_reaches_a_peer_that_came_back_on_its_port() {
    let (mut end, start) = listener(true);
    Hand::new(5000, 77).conclude(&mut end, start, |_| {}).expect("an answer");
    let again = Hand::new(5000, 78);
    assert_eq!(again.conclude(&mut end, start + ms(700), |_| {}).expect("an answer").kind, HandshakeType::Conclusion);
    let mut sent = Vec::new();
    for n in 0..100 {
        sent.extend(again.take(&mut end, start + ms(700 + n * 100)));
    }
    assert!(sent.iter().all(|d| d[12..16] == 78u32.to_be_bytes()), "all for the new one");
}

#[test]
fn whoever_shares_its_address_is_missed_sooner() {
    let gone_after = |callers: u32| {
        let (mut end, start) = listener(true);
        end.listen(AcceptRule {
            id: RuleId(1),
            stream: StreamMatch::Any,
            config: LinkConfig::default(),
            max_callers: 2,
            held: false,
            callers_send: true,
        });
        for n in 0..callers {
            Hand::new(5000, 77 + n).conclude(&mut end, start, |_| {}).expect("an answer");
        }
        // Nobody says another word.
        (0..100).find(|n| {
            end.handle_timeout(start + ms(n * 100));
            end.connections().count() < callers as usize
        })
    };
    assert_eq!((gone_after(1), gone_after(2)), (Some(50), Some(35)), "tenths of a second");
}

#[test]
fn a_caller_that_cannot_hear_us_is_not_called_closed_by_it() {
    let (mut end, start) = listener(true);
    let hand = Hand::new(5000, 77);
    // The answers are lost: it concludes again and again, then gives up.
    for n in 0..10 {
        hand.conclude(&mut end, start + ms(n * 250), |_| {}).expect("an answer");
    }
    let conn = end.connections().next().expect("joined, as far as we know");
    let mut shutdown = Vec::new();
    Control::Shutdown.encode(0, conn.0, &mut shutdown);
    end.handle_datagram(start + ms(3000), hand.from, &shutdown);
    end.handle_timeout(start + ms(3000));
    let reason =
        std::iter::from_fn(|| end.poll_event()).find_map(|e| if let Event::Closed { reason, .. } = e { Some(reason) } else { None });
    assert_eq!(reason, Some(CloseReason::NotHeard));
}
