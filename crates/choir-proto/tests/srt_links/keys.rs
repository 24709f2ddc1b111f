//! Payloads are secret, and keys are refreshed while they go.

use super::*;

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
