//! How links come up, are refused, go quiet and end.

use choir_path::Faults;
use choir_proto::srt::{
    AcceptRule, CloseReason, Endpoint, Event, KeyLength, KeyState, LinkConfig, Passphrase, Refresh, RejectReason, RuleId, StreamMatch,
    wire::{Control, Handshake, HandshakeType, Packet},
};
use choir_rig::{
    hand::{Hand, listener},
    pair::{A, B, Pair, ms, number, payload},
};
use std::time::{Duration, Instant};

fn clean(seed: u64) -> Pair {
    let f = Faults { delay: ms(10), ..Faults::default() };
    Pair::new(seed, f.clone(), f)
}

fn pass(text: &str) -> LinkConfig {
    LinkConfig { passphrase: Passphrase::new(text).ok(), ..LinkConfig::default() }
}

fn stream(text: &str) -> LinkConfig {
    LinkConfig { stream_id: Some(text.into()), ..LinkConfig::default() }
}

fn closed(pair: &Pair, end: usize) -> Option<(CloseReason, Option<KeyState>)> {
    pair.seen[end].events.iter().find_map(|e| match e {
        Event::Closed { reason, key_state, .. } => Some((*reason, *key_state)),
        _ => None,
    })
}

fn refused(pair: &Pair) -> Option<(RejectReason, Option<KeyState>)> {
    pair.seen[B].events.iter().find_map(|e| match e {
        Event::Refused { reason, key_state, .. } => Some((*reason, *key_state)),
        _ => None,
    })
}

#[test]
fn a_caller_joins_and_both_latencies_are_the_greater_wishes() {
    let mut pair = clean(1);
    let caller = LinkConfig { receive_latency: ms(130), send_latency: ms(90), ..LinkConfig::default() };
    let listener = LinkConfig { receive_latency: ms(120), send_latency: ms(120), ..LinkConfig::default() };
    pair.call(caller, listener);
    assert!(pair.join(ms(500)));
    let a = pair.ends[A].link_stats(pair.up(A).expect("up")).expect("stats");
    let b = pair.ends[B].link_stats(pair.up(B).expect("up")).expect("stats");
    assert_eq!((a.receive_latency, a.send_latency), (ms(130), ms(120)));
    assert_eq!((b.receive_latency, b.send_latency), (ms(120), ms(130)));
    assert_eq!(b.latency_there, (ms(90), ms(130)), "the listener knows who asked for what");
}

#[test]
fn the_wrong_passphrase_is_refused_on_both_ends() {
    let mut pair = clean(2);
    pair.call(pass("tarn hollow one"), pass("tarn hollow two"));
    assert!(!pair.join(ms(1000)));
    assert_eq!(closed(&pair, A), Some((CloseReason::RefusedByPeer(RejectReason::BadSecret), Some(KeyState::PassphraseDiffers))));
    assert_eq!(refused(&pair), Some((RejectReason::BadSecret, Some(KeyState::PassphraseDiffers))));
}

#[test]
fn a_passphrase_on_one_end_only_is_refused_either_way() {
    let mut pair = clean(3);
    pair.call(LinkConfig::default(), pass("tarn hollow two"));
    assert!(!pair.join(ms(1000)));
    assert_eq!(closed(&pair, A), Some((CloseReason::RefusedByPeer(RejectReason::Unsecure), Some(KeyState::NoPassphraseHere))));
    assert_eq!(refused(&pair), Some((RejectReason::Unsecure, Some(KeyState::NoPassphraseThere))));
    let mut pair = clean(4);
    pair.call(pass("tarn hollow two"), LinkConfig::default());
    assert!(!pair.join(ms(1000)));
    assert_eq!(closed(&pair, A), Some((CloseReason::RefusedByPeer(RejectReason::Unsecure), Some(KeyState::NoPassphraseThere))));
    assert_eq!(refused(&pair), Some((RejectReason::Unsecure, Some(KeyState::NoPassphraseHere))));
}

#[test]
fn stream_ids_choose_the_rule_and_unknown_ones_are_refused() {
    for (asked, rule) in [
        ("launch", Some(7)),
        ("#!::r=launch,m=publish", Some(7)),
        ("#!:: m = publish , r = launch ", Some(7)),
        ("pontoon", Some(8)),
        ("bicycle", None),
    ] {
        let mut pair = clean(5);
        for (id, name) in [(7, "launch"), (8, "pontoon")] {
            pair.ends[B].listen(AcceptRule {
                id: RuleId(id),
                stream: StreamMatch::Exactly(name.into()),
                config: LinkConfig::default(),
                max_callers: 1,
                held: false,
                callers_send: true,
            });
        }
        pair.call_only(stream(asked));
        pair.run_for(ms(500));
        let joined = pair.seen[B].events.iter().find_map(|e| if let Event::Joined(j) = e { j.rule.map(|r| r.0) } else { None });
        assert_eq!(joined, rule, "for {asked}");
        if rule.is_none() {
            assert_eq!(refused(&pair).map(|r| r.0), Some(RejectReason::StreamIdUnknown));
            assert_eq!(closed(&pair, A).map(|c| c.0), Some(CloseReason::RefusedByPeer(RejectReason::StreamIdUnknown)));
        }
    }
}

#[test]
fn a_held_line_says_so_to_its_caller() {
    let mut pair = clean(21);
    let rule = |held| AcceptRule {
        id: RuleId(1),
        stream: StreamMatch::Any,
        config: LinkConfig::default(),
        max_callers: 1,
        held,
        callers_send: true,
    };
    pair.ends[B].listen(rule(true));
    pair.call_only(LinkConfig::default());
    pair.run_for(ms(500));
    assert_eq!(closed(&pair, A).map(|c| c.0), Some(CloseReason::RefusedByPeer(RejectReason::Held)));
    assert!(!RejectReason::Held.is_setting(), "it is worth asking again");
    pair.ends[B].listen(rule(false));
    pair.call_only(LinkConfig::default());
    assert!(pair.join(ms(500)));
}

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
fn nobody_there_and_port_closed_are_told_apart() {
    let mut pair = clean(7);
    pair.call_only(LinkConfig::default());
    pair.run_for(ms(3100));
    assert_eq!(closed(&pair, A).map(|c| c.0), Some(CloseReason::NoAnswer(ms(3000))));
    let mut pair = clean(8);
    pair.call_only(LinkConfig::default());
    let to = pair.addr[B];
    pair.ends[A].handle_unreachable(to);
    pair.run_for(ms(3100));
    assert_eq!(closed(&pair, A).map(|c| c.0), Some(CloseReason::PortClosed));
}

#[test]
fn an_old_version_is_refused_by_the_listener_and_noticed_by_the_caller() {
    let mut pair = clean(9);
    pair.listen(LinkConfig::default());
    pair.tap = Some(Vec::new());
    let stranger = pair.addr[A];
    let mut h = Handshake {
        version: 4,
        encryption: 0,
        extension_field: 2,
        initial_seq: choir_proto::srt::Seq::new(5),
        mtu: 1500,
        window: 8192,
        kind: HandshakeType::Induction,
        socket_id: 77,
        cookie: 0,
        peer_ip: [0; 16],
        extensions: Vec::new(),
    };
    let send = |pair: &mut Pair, h: &Handshake| {
        let mut data = Vec::new();
        Control::Handshake(Box::new(h.clone())).encode(0, 0, &mut data);
        pair.inject(B, stranger, &data);
        let (_, last) = pair.tap.as_ref().and_then(|t| t.last()).cloned().expect("an answer");
        let Ok(Packet::Control { control: Control::Handshake(h), .. }) = Packet::parse(&last) else { panic!("not a handshake") };
        *h
    };
    let answer = send(&mut pair, &h);
    assert_eq!((answer.version, answer.extension_field), (5, 0x4A17));
    (h.kind, h.cookie) = (HandshakeType::Conclusion, answer.cookie);
    assert_eq!(send(&mut pair, &h).kind, HandshakeType::Rejection(RejectReason::Version));
    // A version 4 listener: its induction response carries no magic.
    let mut pair = clean(10);
    let id = pair.call_only(LinkConfig::default());
    pair.drain(A);
    (h.kind, h.version, h.extension_field) = (HandshakeType::Induction, 4, 2);
    let mut data = Vec::new();
    Control::Handshake(Box::new(h)).encode(0, id.0, &mut data);
    let from = pair.addr[B];
    pair.inject(A, from, &data);
    assert_eq!(closed(&pair, A).map(|c| c.0), Some(CloseReason::NotVersion5));
}

#[test]
fn a_listener_keeps_nothing_for_a_stranger_without_the_cookie() {
    let mut pair = clean(11);
    pair.listen(LinkConfig::default());
    let mut caller = Pair::new(12, Faults::default(), Faults::default());
    caller.tap = Some(Vec::new());
    caller.call(stream("x"), LinkConfig::default());
    assert!(caller.join(ms(300)));
    // Conclusions made for another listener carry a cookie that this one never gave.
    for (_, data) in caller.tap.take().into_iter().flatten() {
        for port in 1..2000u16 {
            pair.inject(B, ([127, 20, 9, 9], port).into(), &data);
        }
    }
    assert!(pair.up(B).is_none());
    assert!(pair.ends[B].stats().junk > 0);
}

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
fn keys_are_refreshed_many_times_without_losing_a_packet() {
    // In the last row a packet of the old key is asked for long after its successor has taken over.
    let rows = [(KeyLength::Aes128, 0.0, 100), (KeyLength::Aes192, 0.05, 100), (KeyLength::Aes256, 0.05, 5)];
    for (length, loss, announce) in rows {
        let f = Faults { delay: ms(10), loss, ..Faults::default() };
        let mut pair = Pair::new(14, f.clone(), f);
        let config = LinkConfig { key_length: length, refresh: Refresh { after: 500, announce }, ..pass("tarn hollow one") };
        pair.call(config.clone().with_latency(ms(300)), config);
        assert!(pair.join(ms(2000)));
        let from = pair.up(A).expect("up");
        for n in 0..5000 {
            assert!(pair.send(A, from, payload(n, 200)));
            pair.run_for(ms(1));
        }
        pair.run_for(ms(1000));
        let stats = pair.ends[A].link_stats(from).expect("stats");
        assert!(stats.key_refreshes >= 8, "{} refreshes", stats.key_refreshes);
        assert_eq!(stats.key_length, Some(length));
        let there = pair.ends[B].link_stats(pair.up(B).expect("up")).expect("stats");
        assert_eq!((there.undecrypted, there.key_state), (0, KeyState::Secured));
        assert_eq!(pair.seen[B].delivered.len(), 5000);
    }
}

#[test]
fn a_key_whose_successor_is_never_confirmed_is_given_up_all_the_same() {
    let mut pair = clean(12);
    let config = LinkConfig { refresh: Refresh { after: 40, announce: 10 }, ..pass("tarn hollow one") };
    pair.call(config.clone(), config);
    assert!(pair.join(ms(500)));
    // The peer's word for it never comes.
    pair.sieves[A] = Some(Box::new(|_, data| !matches!(Packet::parse(data), Ok(Packet::Control { control: Control::KeyResponse(_), .. }))));
    let (from, to) = (pair.up(A).expect("up"), pair.up(B).expect("up"));
    let refreshes = |pair: &Pair| pair.ends[A].link_stats(from).expect("stats").key_refreshes;
    for n in 0..40 * 63 {
        pair.send(A, from, payload(n, 400));
        pair.run_for(ms(1));
    }
    assert_eq!(refreshes(&pair), 0, "not before it has to be");
    for n in 0..200 {
        pair.send(A, from, payload(n, 400));
        pair.run_for(ms(1));
    }
    assert!(refreshes(&pair) >= 1);
    pair.run_for(ms(500));
    // It has the key, since only the answer was lost.
    assert_eq!(pair.ends[B].link_stats(to).expect("stats").undecrypted, 0);
}

#[test]
fn an_answer_goes_behind_the_packet_that_leaves_with_it_if_it_is_no_longer() {
    let mut pair = clean(31);
    pair.call(LinkConfig::default(), LinkConfig::default());
    assert!(pair.join(ms(500)));
    let from = pair.up(A).expect("up");
    pair.tap = Some(Vec::new());
    for n in 0..20 {
        pair.send(A, from, payload(n, 1316));
        pair.run_for(ms(1));
    }
    pair.run_for(ms(50));
    let is_ack = |data: &[u8]| matches!(Packet::parse(data), Ok(Packet::Control { control: Control::Ack(ack), .. }) if ack.number != 0);
    let (_, ack) = pair.tap.take().into_iter().flatten().find(|(end, data)| *end == B && is_ack(data)).expect("an acknowledgement");
    for (size, together) in [(1316, true), (2, false)] {
        let (now, peer) = (pair.instant(A), pair.addr[B]);
        pair.ends[A].send(now, from, payload(99, 1316).slice(..size)).expect("sent");
        pair.ends[A].handle_datagram(now, peer, &ack);
        let (mut sizes, mut kinds, mut buf) = (Vec::new(), Vec::new(), Vec::new());
        while let Some(t) = pair.ends[A].poll_transmit(now, 32, &mut buf) {
            let segment = t.segment.unwrap_or(t.size);
            sizes.push((t.size, segment));
            kinds.extend(buf.chunks(segment).map(|d| matches!(Packet::parse(d), Ok(Packet::Data { .. }))));
            buf.clear();
        }
        let answer = 20;
        assert_eq!(kinds, [true, false], "the packet, then the answer");
        assert_eq!(sizes, if together { vec![(size + 16 + answer, size + 16)] } else { vec![(size + 16, size + 16), (answer, answer)] });
    }
}

#[test]
fn payloads_are_not_readable_on_the_wire() {
    let mut pair = clean(15);
    pair.call(pass("tarn hollow one"), pass("tarn hollow one"));
    assert!(pair.join(ms(500)));
    pair.tap = Some(Vec::new());
    let from = pair.up(A).expect("up");
    let text = b"the launch carries the umpire down the course";
    pair.send(A, from, text.to_vec().into());
    pair.run_for(ms(300));
    assert_eq!(&pair.seen[B].delivered[0].1.payload[..], text);
    let seen = pair.tap.take().into_iter().flatten().any(|(_, d)| d.windows(10).any(|w| w == &text[..10]));
    assert!(!seen);
}

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

#[test]
fn the_direction_asked_for_must_be_the_one_there_is() {
    use choir_proto::srt::wire::Extension;
    for (callers_send, mode, taken) in
        [(true, "request", false), (true, "publish", true), (false, "publish", false), (false, "request", true)]
    {
        let (mut end, now) = listener(callers_send);
        let answer = Hand::new(5000, 77).conclude(&mut end, now, |h| {
            h.extension_field |= 4;
            h.extensions.push(Extension::StreamId(format!("#!::r=finish, m={mode}")));
        });
        let kind = answer.expect("an answer").kind;
        let wanted = if taken { HandshakeType::Conclusion } else { HandshakeType::Rejection(RejectReason::Mode) };
        assert_eq!(kind, wanted, "m={mode}, callers send: {callers_send}");
    }
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

#[test]
fn a_closed_port_is_told_at_once_and_the_calling_goes_on() {
    let mut pair = clean(31);
    let conn = pair.call_only(LinkConfig::default());
    pair.cut = true;
    pair.run_for(ms(10));
    let to = pair.addr[B];
    pair.ends[A].handle_unreachable(to);
    pair.drain(A);
    assert_eq!(pair.seen[A].events, [Event::Unreachable { conn }]);
    pair.cut = false;
    pair.listen(LinkConfig::default());
    assert!(pair.join(ms(1000)), "the other end was started meanwhile");
}

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
