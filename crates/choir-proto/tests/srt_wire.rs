//! Every message: to the byte, there and back, cut at every length, and any junk at all.

use choir_proto::srt::{
    RejectReason, Seq,
    wire::{
        Ack, AckLink, AckRates, Control, DataHeader, Extension, Handshake, HandshakeType, HsCaps, KeyFlag, KeyMaterial, KeySlots, LossList,
        Packet, StreamId,
    },
};
use proptest::prelude::*;

fn encode(control: &Control) -> Vec<u8> {
    let mut out = Vec::new();
    control.encode(0x0A0B_0C0D, 0x1122_3344, &mut out);
    out
}

fn hex(s: &str) -> Vec<u8> {
    let s: String = s.split_whitespace().collect();
    (0..s.len()).step_by(2).map(|i| u8::from_str_radix(&s[i..i + 2], 16).expect("hex")).collect()
}

fn handshake() -> Handshake {
    Handshake {
        version: 5,
        encryption: 2,
        extension_field: 7,
        initial_seq: Seq::new(0x1234_5678),
        mtu: 1500,
        window: 8192,
        kind: HandshakeType::Conclusion,
        socket_id: 0x0102_0304,
        cookie: 0x0506_0708,
        peer_ip: Handshake::ip_field([127, 0, 0, 1].into()),
        extensions: vec![
            Extension::HsReq(HsCaps { version: 0x01_03_00, flags: 0x3F, receiver_delay: 130, sender_delay: 90 }),
            Extension::KmReq(KeyMaterial { slots: KeySlots::Even, salt: [7; 16], key_bytes: 16, wrapped: vec![9; 24] }.to_bytes()),
            Extension::StreamId("#!::r=finish-tower,m=publish".into()),
            Extension::Congestion("live".into()),
        ],
    }
}

fn samples() -> Vec<Control> {
    let link = Some(AckLink { rtt_us: 40_000, rtt_var_us: 900, free_packets: 8000 });
    let rates = Some(AckRates { packets_per_s: 760, capacity_packets_per_s: 900, bytes_per_s: 1_000_000 });
    let mut bare = handshake();
    (bare.kind, bare.extensions) = (HandshakeType::Induction, Vec::new());
    let mut refused = bare.clone();
    refused.kind = HandshakeType::Rejection(RejectReason::BadSecret);
    let mut km = KeyMaterial { slots: KeySlots::Both, salt: [7; 16], key_bytes: 32, wrapped: vec![9; 72] }.to_bytes();
    let both = km.clone();
    km.truncate(4);
    vec![
        Control::Handshake(Box::new(handshake())),
        Control::Handshake(Box::new(bare)),
        Control::Handshake(Box::new(refused)),
        Control::KeepAlive,
        Control::Ack(Ack { number: 9, next: Seq::new(77), link, rates }),
        Control::Ack(Ack { number: 0, next: Seq::new(77), link, rates: None }),
        Control::Ack(Ack { number: 0, next: Seq::new(77), link: None, rates: None }),
        Control::Nak(LossList(vec![(Seq::new(5), Seq::new(5)), (Seq::new(0x7FFF_FFFE), Seq::new(1))])),
        Control::CongestionWarning,
        Control::Shutdown,
        Control::AckAck(9),
        Control::DropRequest { message: 3, first: Seq::new(5), last: Seq::new(9) },
        Control::PeerError(4000),
        Control::KeyRequest(both.clone()),
        Control::KeyResponse(both),
        Control::KeyResponse(km),
    ]
}

#[test]
fn every_control_packet_survives_the_round_trip() {
    for control in samples() {
        let data = encode(&control);
        match Packet::parse(&data) {
            Ok(Packet::Control { control: again, timestamp, destination }) => {
                assert_eq!(again, control);
                assert_eq!((timestamp, destination), (0x0A0B_0C0D, 0x1122_3344));
            }
            other => panic!("{control:?} became {other:?}"),
        }
    }
}

#[test]
fn every_control_packet_cut_at_any_length_is_an_error_or_a_shorter_message() {
    for control in samples() {
        let data = encode(&control);
        for end in 0..data.len() {
            match Packet::parse(&data[..end]) {
                Err(_) => {}
                Ok(packet) => {
                    assert!(end >= 16, "{control:?} cut to {end} bytes parsed as {packet}");
                    // What still parses says less, never the same.
                    if let Packet::Control { control: shorter, .. } = packet {
                        let one_word_is_optional = matches!(
                            control,
                            Control::KeepAlive
                                | Control::Shutdown
                                | Control::AckAck(_)
                                | Control::CongestionWarning
                                | Control::PeerError(_)
                        );
                        assert!(shorter != control || one_word_is_optional || matches!(control, Control::Ack(_)));
                    }
                }
            }
        }
    }
}

#[test]
fn bytes_are_as_published() {
    let mut data = Vec::new();
    let header = DataHeader {
        seq: Seq::new(0x0102_0304),
        in_order: false,
        position: 3,
        key: KeyFlag::Even,
        resent: true,
        message: 5,
        timestamp: 0x0A0B_0C0D,
        destination: 0x1122_3344,
    };
    header.encode(&mut data);
    assert_eq!(data, hex("01020304 cc000005 0a0b0c0d 11223344"));
    let Ok(Packet::Data(again, payload)) = Packet::parse(&data) else { panic!("not data") };
    assert_eq!((again, payload.len()), (header, 0));
    let nak = encode(&Control::Nak(LossList(vec![(Seq::new(5), Seq::new(5)), (Seq::new(0x7FFF_FFFE), Seq::new(1))])));
    assert_eq!(&nak[16..], hex("00000005 fffffffe 00000001"));
    let h = encode(&Control::Handshake(Box::new(handshake())));
    assert_eq!(
        &h[16..64],
        hex("00000005 0002 0007 12345678 000005dc 00002000 ffffffff 01020304 05060708 0100007f 000000000000000000000000")
    );
    assert_eq!(&h[64..80], hex("0001 0003 00010300 0000003f 0082005a"));
}

#[test]
fn reject_reasons_keep_their_codes() {
    for code in (1000..1020).chain([2000, 3000, 3001, 3002, 3003, 9999]) {
        assert_eq!(RejectReason::from_code(code).code(), code);
        assert!(!RejectReason::from_code(code).to_string().is_empty());
    }
}

#[test]
fn unknown_control_types_are_kept_for_ignoring() {
    let data = hex("80630007 00000000 00000001 00000002 deadbeef");
    assert!(matches!(Packet::parse(&data), Ok(Packet::Control { control: Control::Unknown { kind: 0x63, subtype: 7 }, .. })));
}

#[test]
fn impossible_fields_are_refused() {
    for (what, data) in [
        ("both keys", "00000001 18000001 00000000 00000000"),
        ("loss range without end", "80030000 00000000 00000000 00000000 80000001"),
        ("loss range backwards", "80030000 00000000 00000000 00000000 80000009 00000003"),
        ("empty loss list", "80030000 00000000 00000000 00000000"),
    ] {
        assert!(Packet::parse(&hex(data)).is_err(), "{what}");
    }
    let mut long = handshake();
    long.extensions = vec![Extension::StreamId("x".repeat(512))];
    let mut data = encode(&Control::Handshake(Box::new(long)));
    assert!(Packet::parse(&data).is_ok());
    data[64 + 3] += 1;
    data.extend_from_slice(&[1; 4]);
    assert!(Packet::parse(&data).is_err(), "a stream ID of 516 bytes");
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_bytes_parse_or_fail_without_panic(data in prop::collection::vec(any::<u8>(), 0..300), kind in 0u8..10) {
        let _ = Packet::parse(&data).map(|p| p.to_string());
        let mut aimed = vec![0x80, kind, 0, 0, 0, 0, 0, 1, 0, 0, 0, 2, 0, 0, 0, 3];
        aimed.extend_from_slice(&data);
        let _ = Packet::parse(&aimed).map(|p| p.to_string());
        let _ = KeyMaterial::parse(&data);
    }

    #[test]
    fn any_extension_list_survives(id in "[a-z0-9=,#!:]{0,200}", rcv: u16, snd: u16) {
        let mut h = handshake();
        h.extensions = vec![
            Extension::HsRsp(HsCaps { version: 0x01_03_00, flags: 0x3F, receiver_delay: rcv, sender_delay: snd }),
            Extension::StreamId(id),
        ];
        let data = encode(&Control::Handshake(Box::new(h.clone())));
        let Ok(Packet::Control { control: Control::Handshake(again), .. }) = Packet::parse(&data) else { panic!("lost") };
        prop_assert_eq!(*again, h);
    }

    #[test]
    fn loss_lists_survive(pairs in prop::collection::vec((0u32..0x8000_0000, 0u32..1000), 1..50)) {
        let list = LossList(pairs.into_iter().map(|(a, n)| (Seq::new(a), Seq::new(a).add(n))).collect());
        let data = encode(&Control::Nak(list.clone()));
        let Ok(Packet::Control { control: Control::Nak(again), .. }) = Packet::parse(&data) else { panic!("lost") };
        prop_assert_eq!(again, list);
    }

    #[test]
    fn stream_ids_survive(text in ".{0,60}", pairs in prop::collection::vec(("[a-z]{1,8}", "[^,=]{0,20}"), 1..6)) {
        prop_assert_eq!(StreamId::parse(&text).to_string(), StreamId::parse(&StreamId::parse(&text).to_string()).to_string());
        // Blanks around values are no part of them.
        let id = StreamId::Pairs(pairs.into_iter().map(|(k, v)| (k, v.trim().to_owned())).collect());
        prop_assert_eq!(StreamId::parse(&id.to_string()), id);
    }
}
