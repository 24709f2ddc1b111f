//! How links come up and are refused.

use super::*;

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
