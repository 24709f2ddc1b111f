//! What a peer, or somebody who forges its packets, says that cannot be: what it may cost and what
//! it must not change.

use choir_proto::srt::{
    CipherKeys, CloseReason, Endpoint, Event, LinkConfig, Passphrase, RejectReason, Seq,
    wire::{Ack, AckLink, Control, Extension, Handshake, HandshakeType, HsCaps, KeyFlag, Packet},
};
use choir_rig::{
    hand::{Hand, listener, listener_of},
    pair::ms,
};
use std::time::Instant;

const HOUR_US: u64 = 3_600_000_000;

/// A caller that sends, joined.
fn sender() -> (Endpoint, Instant, Hand, u32) {
    let (mut end, now) = listener(true);
    let hand = Hand::new(5000, 77);
    hand.conclude(&mut end, now, |_| {}).expect("an answer");
    let conn = end.connections().next().expect("joined").0;
    (end, now, hand, conn)
}

/// The same, which receives.
fn receiver(change: impl Fn(&mut Handshake)) -> (Endpoint, Instant, Hand, u32) {
    let (mut end, now) = listener(false);
    let hand = Hand::new(5000, 77);
    hand.conclude(&mut end, now, change).expect("an answer");
    let conn = end.connections().next().expect("joined").0;
    (end, now, hand, conn)
}

fn events(end: &mut Endpoint) -> Vec<Event> {
    std::iter::from_fn(|| end.poll_event()).collect()
}

#[test]
fn forged_times_do_not_move_those_of_good_packets() {
    let (mut end, start, hand, conn) = sender();
    let us = |n: u32| n * 10_000;
    for n in 0..20 {
        let now = start + ms(u64::from(n) * 10);
        hand.data(&mut end, now, conn, (7 + n, us(n)), &[n as u8]);
        // Half of the wrap ahead each time, so that two of them would make a round of it.
        let forged = us(n).wrapping_add((n + 1).wrapping_mul(2_100_000_000));
        hand.data(&mut end, now, conn, (2000 + n, forged), &[0xFF]);
    }
    let out = Hand::delivered(&mut end, start + ms(190), start + ms(900));
    let good: Vec<_> = out.iter().filter(|(byte, _)| *byte != 0xFF).collect();
    assert_eq!(good.len(), 20, "{out:?}");
    assert!(good.iter().all(|(n, at)| *at <= ms(u64::from(*n) * 10)), "120 ms after they left: {out:?}");
    let mistimed = end.link_stats(end.connections().next().expect("up")).expect("stats").mistimed;
    assert!(mistimed >= 9, "what is far ahead is not taken: {mistimed}");
}

#[test]
fn media_after_an_hour_of_silence_is_on_time() {
    let (mut end, start, hand, conn) = sender();
    for minute in 0..3600 {
        let now = start + ms(minute * 1000);
        hand.send(&mut end, now, conn, Control::KeepAlive);
        end.handle_timeout(now);
    }
    let later = start + ms(HOUR_US / 1000);
    hand.data(&mut end, later, conn, (7, HOUR_US as u32), &[1]);
    assert_eq!(Hand::delivered(&mut end, later, later + ms(500)), [(1, ms(120))]);
}

#[test]
fn a_peer_s_clock_that_jumps_is_told_and_followed() {
    for jump in [1_200_000_000_i64, -1_200_000_000] {
        let (mut end, start, hand, conn) = sender();
        let stamp = |n: u32| (i64::from(n) * 10_000 + if n < 100 { 0 } else { jump }) as u32;
        let mut on_time = Vec::new();
        for n in 0..400 {
            let now = start + ms(u64::from(n) * 10);
            hand.data(&mut end, now, conn, (7 + n, stamp(n)), &[1]);
            end.handle_timeout(now);
            while let Some(d) = end.poll_delivery() {
                on_time.push((d.seq.raw() - 7, now));
            }
        }
        let jumped: Vec<i64> =
            events(&mut end).iter().filter_map(|e| if let Event::ClockJumped { us, .. } = e { Some(*us) } else { None }).collect();
        assert_eq!(jumped, [jump], "once");
        let after: Vec<_> = on_time.iter().filter(|(n, _)| *n > 250).collect();
        assert!(after.len() > 130, "{}", after.len());
        assert!(after.iter().all(|(n, at)| *at - (start + ms(u64::from(*n) * 10)) == ms(120)), "with their latency again");
    }
}

#[test]
fn a_key_in_the_odd_slot_alone_serves() {
    let passphrase = Passphrase::new("four oars and a cox").expect("long enough");
    let mut theirs = CipherKeys::from_even(&[5; 16], [9; 16]).expect("keys");
    let mut message = theirs.to_message(&passphrase).expect("a message");
    // The same key, said to be the odd one.
    message[3] = 2;
    let now = listener(false).1;
    let mut end = listener_of(false, LinkConfig { passphrase: Some(passphrase), ..LinkConfig::default() }, now);
    let hand = Hand::new(5000, 77);
    let answer = hand.conclude(&mut end, now, |h| {
        h.encryption = 2;
        h.extension_field |= 2;
        h.extensions.push(Extension::KmReq(message.clone()));
    });
    assert_eq!(answer.expect("an answer").kind, HandshakeType::Conclusion);
    let conn = end.connections().next().expect("joined");
    end.send(now, conn, vec![0x47; 188].into()).expect("there is a key to send with");
    let request = |c| if let Control::KeyRequest(m) = c { Some(m) } else { None };
    let announced = hand.controls(&mut end, now).into_iter().find_map(request).expect("an own key, beside the peer's");
    assert_ne!(announced, message);
    hand.send(&mut end, now, conn.0, Control::KeyResponse(announced));
    let sent = hand.take(&mut end, now);
    let mut packets =
        sent.iter().filter_map(|d| if let Ok(Packet::Data(h, payload)) = Packet::parse(d) { Some((h, payload)) } else { None });
    let (header, payload) = packets.next_back().expect("it is sent");
    assert_eq!(header.key, KeyFlag::Even);
    let mut data = payload.to_vec();
    assert!(theirs.apply(KeyFlag::Even, header.seq, &mut data) && data != [0x47; 188], "not with the peer's");
}

#[test]
fn no_more_is_under_way_than_the_peer_has_room_for() {
    let (mut end, now, hand, conn) = receiver(|_| {});
    let id = end.connections().next().expect("up");
    let first = match end.send(now, id, vec![0; 100].into()).map(|()| hand.take(&mut end, now)) {
        Ok(sent) => u32::from_be_bytes(sent[0][..4].try_into().expect("a number")),
        Err(e) => panic!("{e}"),
    };
    let link = Some(AckLink { rtt_us: 10_000, rtt_var_us: 1000, free_packets: 5 });
    let ack = |next: u32| Control::Ack(Ack { number: next, next: Seq::new(next), link, rates: None });
    hand.send(&mut end, now, conn, ack(first.wrapping_add(1)));
    for _ in 0..50 {
        end.send(now, id, vec![0; 100].into()).expect("taken");
    }
    let data = |sent: &[Vec<u8>]| sent.iter().filter(|d| d[0] & 0x80 == 0).count();
    assert_eq!(data(&hand.take(&mut end, now)), 5);
    hand.send(&mut end, now + ms(10), conn, ack(first.wrapping_add(4)));
    assert_eq!(data(&hand.take(&mut end, now + ms(10))), 3);
}

#[test]
fn a_loss_report_fits_the_peer_s_mss() {
    let (mut end, now) = listener(true);
    let hand = Hand::new(5000, 77);
    hand.conclude(&mut end, now, |h| h.mtu = 300).expect("an answer");
    let conn = end.connections().next().expect("joined").0;
    for n in 0..400 {
        hand.data(&mut end, now, conn, (7 + 2 * n, 0), &[1]);
    }
    let (mut sizes, mut reported) = (Vec::new(), 0);
    for _ in 0..100 {
        for packet in hand.take(&mut end, now) {
            sizes.push(packet.len() + 28);
            if let Ok(Packet::Control { control: Control::Nak(list), .. }) = Packet::parse(&packet) {
                reported += list.0.len();
            }
        }
    }
    assert_eq!(reported, 399, "all of them, in several");
    assert!(sizes.iter().all(|s| *s <= 300), "{sizes:?}");
}

#[test]
fn nobody_who_does_not_know_its_socket_id_refuses_a_caller() {
    let now = listener(true).1;
    let mut end = Endpoint::new([127, 20, 0, 2].into(), now, [3; 32]);
    let hand = Hand::new(5000, 77);
    let conn = end.call(now, hand.from, LinkConfig::default());
    let refusal = || Control::Handshake(Box::new(hand.handshake(HandshakeType::Rejection(RejectReason::Backlog))));
    hand.send(&mut end, now, 0, refusal());
    assert_eq!(events(&mut end), [], "destination 0 is for those who meet");
    hand.send(&mut end, now, conn.0, refusal());
    let closed = events(&mut end);
    assert!(matches!(closed[..], [Event::Closed { reason: CloseReason::RefusedByPeer(RejectReason::Backlog), .. }]), "{closed:?}");
}

#[test]
fn a_peer_that_compares_cookies_without_a_sign_is_met_too() {
    let now = listener(true).1;
    for (cookie, leads) in [(0xF000_0000, true), (0xF000_0000, false), (0x7FFF_FFFF, true), (1, false)] {
        let mut end = Endpoint::new([127, 20, 0, 2].into(), now, [3; 32]);
        let hand = Hand::new(5000, 77);
        let conn = end.meet(now, hand.from, LinkConfig::default());
        let wave = Handshake { cookie, ..hand.handshake(HandshakeType::Waveahand) };
        hand.send(&mut end, now, 0, Control::Handshake(Box::new(wave)));
        hand.handshakes(&mut end, now);
        let mut conclusion = Handshake { cookie, ..hand.handshake(HandshakeType::Conclusion) };
        if leads {
            conclusion.extension_field = 1;
            conclusion.extensions =
                vec![Extension::HsReq(HsCaps { version: 0x01_03_00, flags: 0x3F, receiver_delay: 120, sender_delay: 120 })];
        }
        hand.send(&mut end, now, conn.0, Control::Handshake(Box::new(conclusion)));
        let answer = hand.handshakes(&mut end, now + ms(300)).pop().expect("an answer");
        let leader = answer.extensions.iter().any(|e| matches!(e, Extension::HsReq(_)));
        let follower = answer.extensions.iter().any(|e| matches!(e, Extension::HsRsp(_)));
        assert_eq!((leader, follower), (!leads, leads), "cookie {cookie:08x}");
    }
}

#[test]
fn a_machine_that_slept_goes_on_in_its_peer_s_time() {
    // Three seconds that this end's clock does not know of.
    let (mut end, start, hand, conn) = sender();
    hand.data(&mut end, start, conn, (7, 0), &[1]);
    end.note_pause(ms(3000));
    hand.data(&mut end, start + ms(100), conn, (8, 3_100_000), &[2]);
    let out = Hand::delivered(&mut end, start + ms(100), start + ms(600));
    assert_eq!(out, [(1, ms(0)), (2, ms(120))], "with the latency that it had");
    // After a night the peer has long given up: nobody waits for its silence to be noticed.
    end.note_pause(ms(8 * 3_600_000));
    end.handle_timeout(start + ms(700));
    let closed = events(&mut end);
    assert!(matches!(closed[..], [_, Event::Closed { reason: CloseReason::Silent(_), .. }]), "{closed:?}");
}
