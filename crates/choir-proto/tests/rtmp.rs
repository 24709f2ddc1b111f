//! RTMP from one end to the other without a socket: publishers and players against our own server,
//! in any pieces, and broken off anywhere.

use bytes::Bytes;
use choir_proto::{
    audio::aac_silence,
    rtmp::{
        Amf, Client, ClientEvent, ClientPlan, HANDSHAKE_BLOCK, Handshake, Message, OutTag, Server, ServerEvent, Tag, TagReader, TagWriter,
        kind, write_values,
    },
    ts::{AccessUnit, StreamKind, UnitFormat},
};
use proptest::prelude::*;
use std::sync::Arc;

const SETS: &[u8] = &[
    0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
    0x80, 0x00, 0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
];

fn random(seed: u8) -> [u8; HANDSHAKE_BLOCK] {
    std::array::from_fn(|i| (i as u8).wrapping_mul(37).wrapping_add(seed))
}

fn plan(publishes: bool) -> ClientPlan {
    ClientPlan { app: "in/regatta".into(), url: "rtmp://127.20.0.1/in/regatta".into(), name: "bow & stern".into(), publishes, answer: None }
}

/// Both ends, and all that either has been told.
struct Pair {
    client: Client,
    server: Server,
    of_client: Vec<ClientEvent>,
    of_server: Vec<ServerEvent>,
    /// Bytes that pass at once.
    piece: usize,
}

impl Pair {
    fn new(publishes: bool, piece: usize) -> Self {
        let (client, server) = (Client::new(plan(publishes), random(1)), Server::new(random(2)));
        Self { client, server, of_client: Vec::new(), of_server: Vec::new(), piece }
    }

    /// Lets everything pass, and answers what is asked.
    fn pass(&mut self) {
        loop {
            let (up, down) = (self.client.poll_output(), self.server.poll_output());
            for part in up.iter().flat_map(|b| b.chunks(self.piece)) {
                self.server.handle(part).expect("RTMP");
                while let Some(event) = self.server.poll_event() {
                    if matches!(event, ServerEvent::Publish { .. } | ServerEvent::Play { .. }) {
                        self.server.accept();
                    }
                    self.of_server.push(event);
                }
            }
            for part in down.iter().flat_map(|b| b.chunks(self.piece)) {
                self.client.handle(part).expect("RTMP");
                self.of_client.extend(std::iter::from_fn(|| self.client.poll_event()));
            }
            if up.is_none() && down.is_none() {
                return;
            }
        }
    }
}

fn unit(kind: StreamKind, n: u64, keyframe: bool, data: Vec<u8>) -> AccessUnit {
    let format = Arc::new(UnitFormat { streams: vec![StreamKind::H264, StreamKind::AacAdts] });
    AccessUnit { pid: 256, kind, pts: Some(900_000 + n * 3600), dts: None, keyframe, arrived: 0, data: data.into(), format }
}

/// Two seconds of pictures and sound as tags.
fn tags() -> Vec<OutTag> {
    let (mut writer, mut out) = (TagWriter::default(), Vec::new());
    for n in 0..50 {
        let keyframe = n % 25 == 0;
        let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88, n as u8];
        let picture = [if keyframe { SETS } else { &[] }, &head, &vec![0xA5; if keyframe { 20_000 } else { 3000 }]].concat();
        writer.push(&unit(StreamKind::H264, n, keyframe, picture), &mut out);
        writer.push(&unit(StreamKind::AacAdts, n, true, aac_silence(48_000, 2)), &mut out);
    }
    out
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 24, ..ProptestConfig::default() })]

    #[test]
    fn what_is_published_arrives_whole_in_any_pieces(piece in prop_oneof![1usize..4, 100usize..9000]) {
        let mut pair = Pair::new(true, piece);
        pair.pass();
        prop_assert_eq!(&pair.of_client, &[ClientEvent::Started]);
        prop_assert_eq!(&pair.of_server, &[ServerEvent::Publish { app: "in/regatta".into(), key: "bow & stern".into() }]);
        prop_assert_eq!(pair.server.agent(), Some("choir"));
        pair.of_server.clear();
        pair.client.tell(vec![("width".into(), Amf::Number(1280.0))]);
        let sent = tags();
        for tag in &sent {
            pair.client.send(tag);
        }
        pair.client.end();
        pair.pass();
        let mut came = pair.of_server.into_iter();
        prop_assert_eq!(came.next(), Some(ServerEvent::About(vec![("width".into(), Amf::Number(1280.0))])));
        let media = |t: &OutTag| ServerEvent::Media { kind: t.kind, time: t.time, body: t.body.clone() };
        let wanted: Vec<ServerEvent> = sent.iter().map(media).chain([ServerEvent::Ended]).collect();
        prop_assert_eq!(came.collect::<Vec<_>>(), wanted);
    }
}

#[test]
fn what_is_played_arrives_with_its_settings() {
    let mut pair = Pair::new(false, 1400);
    pair.pass();
    assert_eq!(pair.of_server, [ServerEvent::Play { app: "in/regatta".into(), name: "bow & stern".into() }]);
    assert_eq!(pair.of_client, [ClientEvent::Started]);
    pair.of_client.clear();
    tags().iter().for_each(|t| pair.server.send(t));
    pair.pass();
    let mut reader = TagReader::default();
    let read: Vec<Tag> = pair
        .of_client
        .iter()
        .map(|e| if let ClientEvent::Media { kind, time, body } = e { reader.push(*kind, *time, body) } else { Tag::Nothing })
        .collect();
    assert_eq!(read.iter().filter(|t| matches!(t, Tag::Unit(u) if u.video)).count(), 50);
    assert_eq!(read.iter().filter(|t| **t == Tag::Settings).count(), 2);
}

#[test]
fn a_connection_that_is_lost_at_any_byte_is_no_fault_of_anybody() {
    // All that a publisher says up to its first pictures.
    let mut pair = Pair::new(true, 4096);
    let mut said = Vec::new();
    for turn in 0..12 {
        let (up, down) = (pair.client.poll_output().unwrap_or_default(), pair.server.poll_output().unwrap_or_default());
        said.extend_from_slice(&up);
        pair.server.handle(&up).expect("RTMP");
        if let Some(ServerEvent::Publish { .. }) = pair.server.poll_event() {
            pair.server.accept();
        }
        pair.client.handle(&down).expect("RTMP");
        if turn == 10 {
            tags()[..3].iter().for_each(|t| pair.client.send(t));
        }
    }
    assert!(said.len() > 2 * HANDSHAKE_BLOCK + 20_000, "{}", said.len());
    let mut asked = 0;
    for cut in (0..3600).chain((3600..said.len()).step_by(997)) {
        let mut server = Server::new(random(3));
        server.handle(&said[..cut]).expect("nothing is wrong with what came");
        asked += usize::from(std::iter::from_fn(|| server.poll_event()).any(|e| matches!(e, ServerEvent::Publish { .. })));
    }
    assert!(asked > 10);
}

/// A command: its name, number and values, and whether in AMF 0 or 3.
type Said<'a> = (&'a str, f64, Vec<Amf>, u8);

/// What a client says that is not ours: after its handshake these commands.
fn says(commands: &[Said<'_>]) -> Vec<u8> {
    let mut out = Vec::new();
    let _ = Handshake::client(random(7), &mut out);
    out.extend_from_slice(&random(8));
    let mut writer = choir_proto::rtmp::ChunkWriter::default();
    for (name, number, values, as_kind) in commands {
        let mut body = if *as_kind == kind::COMMAND_3 { vec![0] } else { Vec::new() };
        write_values([&Amf::text(*name), &Amf::Number(*number)], &mut body);
        write_values(values, &mut body);
        writer.write(3, &Message { kind: *as_kind, stream: 0, time: 0, body: body.into() }, &mut out);
    }
    out
}

fn app() -> Vec<Amf> {
    vec![Amf::Object(vec![
        ("app".into(), Amf::text("in/")),
        ("flashVer".into(), Amf::text("boat cam 2")),
        ("objectEncoding".into(), Amf::Number(3.0)),
    ])]
}

#[test]
fn publishers_of_all_manners_are_understood() {
    let key = || vec![Amf::Null, Amf::text("k")];
    for as_kind in [kind::COMMAND, kind::COMMAND_3] {
        for extra in [false, true] {
            let mut commands = vec![("connect", 1.0, app(), as_kind)];
            if extra {
                commands.extend([
                    ("releaseStream", 2.0, key(), as_kind),
                    ("FCPublish", 3.0, key(), as_kind),
                    ("_checkbw", 0.0, vec![], as_kind),
                ]);
            }
            commands.extend([("createStream", 4.0, vec![Amf::Null], as_kind), ("publish", 5.0, key(), as_kind)]);
            let mut server = Server::new(random(9));
            server.handle(&says(&commands)).expect("understood");
            assert_eq!(server.poll_event(), Some(ServerEvent::Publish { app: "in".into(), key: "k".into() }));
            assert_eq!(server.agent(), Some("boat cam 2"));
            server.refuse("the key is wrong");
            let answer = server.poll_output().expect("an answer");
            let has = |text: &str| answer.windows(text.len()).any(|w| w == text.as_bytes());
            assert!(has("NetConnection.Connect.Success") && has("NetStream.Publish.BadName") && has("the key is wrong"));
        }
    }
}

#[test]
fn what_no_publisher_says_ends_the_connection() {
    let wrong: [(&[Said<'_>], &str); 4] = [
        (&[("publish", 1.0, vec![Amf::Null, Amf::text("k")], kind::COMMAND)], "before the first"),
        (&[("connect", 1.0, vec![], kind::COMMAND)], "without an application"),
        (
            &[
                ("connect", 1.0, app(), kind::COMMAND),
                ("publish", 2.0, vec![Amf::Null, Amf::text("k")], kind::COMMAND),
                ("publish", 3.0, vec![Amf::Null, Amf::text("k")], kind::COMMAND),
            ],
            "twice",
        ),
        (&[("connect", 1.0, vec![Amf::Text("x".repeat(65_000)), Amf::Text("x".repeat(2000))], kind::COMMAND)], "too large"),
    ];
    for (commands, why) in wrong {
        let said = Server::new(random(1)).handle(&says(commands)).expect_err(why);
        assert!(said.to_string().contains(why), "{said}");
    }
    // Media of somebody who was not let in goes nowhere.
    let mut server = Server::new(random(1));
    let mut said = says(&[("connect", 1.0, app(), kind::COMMAND)]);
    choir_proto::rtmp::ChunkWriter::default().write(
        6,
        &Message { kind: kind::VIDEO, stream: 1, time: 0, body: Bytes::from_static(b"\x17\x01\0\0\0") },
        &mut said,
    );
    server.handle(&said).expect("read");
    assert_eq!(server.poll_event(), None);
}

#[test]
fn messages_in_one_come_out_with_their_times() {
    let mut server = Server::new(random(1));
    let mut said = says(&[("connect", 1.0, app(), kind::COMMAND), ("publish", 2.0, vec![Amf::Null, Amf::text("k")], kind::COMMAND)]);
    server.handle(&said).expect("read");
    server.poll_event();
    server.accept();
    said.clear();
    let one = |kind: u8, time: u32, body: &[u8]| {
        let t = time.to_be_bytes();
        let mut sub = vec![kind, 0, 0, body.len() as u8, t[1], t[2], t[3], t[0], 0, 0, 0];
        sub.extend_from_slice(body);
        sub.extend_from_slice(&(body.len() as u32 + 11).to_be_bytes());
        sub
    };
    let body =
        [one(kind::VIDEO, 5000, b"\x27one"), one(kind::AUDIO, 5021, b"\xAFtwo"), one(kind::VIDEO, 5040, b"cut")[..12].to_vec()].concat();
    let mut writer = choir_proto::rtmp::ChunkWriter::default();
    writer.write(6, &Message { kind: kind::AGGREGATE, stream: 1, time: 70_000, body: body.into() }, &mut said);
    server.handle(&said).expect("read");
    let media = |kind, time, body: &'static [u8]| Some(ServerEvent::Media { kind, time, body: Bytes::from_static(body) });
    assert_eq!(server.poll_event(), media(kind::VIDEO, 70_000, b"\x27one"));
    assert_eq!(server.poll_event(), media(kind::AUDIO, 70_021, b"\xAFtwo"));
    assert_eq!(server.poll_event(), None);
}

#[test]
fn acknowledgements_say_how_far_the_other_end_is() {
    let mut pair = Pair::new(true, 60_000);
    pair.pass();
    assert_eq!(pair.client.unacknowledged(), None, "nothing was acknowledged yet");
    let tags = tags();
    for _ in 0..20 {
        tags.iter().for_each(|t| pair.client.send(t));
        pair.pass();
    }
    let behind = pair.client.unacknowledged().expect("5 MB have been sent");
    assert!(behind <= 2_600_000, "{behind}");
}
