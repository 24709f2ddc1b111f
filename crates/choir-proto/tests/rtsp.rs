//! The client against the server, without a socket: every transport and codec, packets through a
//! bad path, and whatever can go wrong between two requests.

#![allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]
#![allow(clippy::panic, reason = "a helper that fails its test")]

use bytes::Bytes;
use choir_path::{Faults, Path};
use choir_proto::{
    audio::AacConfig,
    media::Codec,
    rtp::{Damage, Packetizer, ParameterSets, Received, ReceiverConfig, RtpReceiver, SyncGroup},
    rtsp::{
        Action, Catalog, Client, ClientConfig, ClientEnd, ClientEvent, Credentials, Inbox, Incoming, Lane, Lower, Method, Mount, Response,
        RtspUrl, Scheme, Server, ServerConfig, SessionId, TrackPorts, describe, rtp_info,
    },
};
use std::{
    net::SocketAddr,
    time::{Duration, Instant},
};

const SPS: &[u8] = &[0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb];
const PPS: &[u8] = &[0x68, 0xEE, 0x3C, 0x80];
const VPS265: &[u8] = &[0x40, 0x01, 0x0c, 0x01, 0xff, 0xff];
const SPS265: &[u8] = &[0x42, 1, 1, 1, 0x60, 0, 0, 3, 0, 0x90, 0, 0, 3, 0, 0, 3, 0, 0x5D, 0xA0, 0x02, 0x80, 0x80, 0x2D, 0x16];
const PPS265: &[u8] = &[0x44, 0x01, 0xc1, 0x73];

fn aac() -> AacConfig {
    AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 }
}

/// A server with one feed of picture and sound.
struct House {
    video: Codec,
    user: Option<Credentials>,
    packers: Vec<Packetizer>,
}

impl House {
    fn new(video: Codec, user: Option<Credentials>) -> Self {
        let packers =
            vec![Packetizer::new(video.clone(), 96, 90_000, (11, 65_000, 5)), Packetizer::new(Codec::Aac(aac()), 97, 48_000, (12, 9, 7))];
        Self { video, user, packers }
    }

    fn sets(&self) -> ParameterSets {
        let nals: &[&[u8]] = if self.video == Codec::H265 { &[VPS265, SPS265, PPS265] } else { &[SPS, PPS] };
        ParameterSets::from_description(self.video == Codec::H265, nals.iter().copied())
    }

    /// A picture without its parameter sets: those are in the description.
    fn picture(&self, n: u64) -> (Vec<u8>, bool) {
        let keyframe = n.is_multiple_of(10);
        let head: &[u8] = match (&self.video, keyframe) {
            (Codec::H265, true) => &[0x26, 1, 0xAF],
            (Codec::H265, false) => &[0x02, 1, 0xD0],
            (_, true) => &[0x65, 0x88],
            _ => &[0x41, 0x9A],
        };
        let body = (0..4000u64).map(|i| (i * 7 + n) as u8 | 0x80);
        ([&[0, 0, 0, 1], head].concat().into_iter().chain(body).collect(), keyframe)
    }
}

impl Catalog for House {
    fn find(&self, path: &str) -> Option<usize> {
        (path == "finish").then_some(0)
    }
    fn mount(&self, _: usize) -> Mount {
        let (sound, sets) = (Codec::Aac(aac()), self.sets());
        let group = Some(([239, 20, 0, 9].into(), 6000, 1));
        Mount {
            description: Some(describe("finish", [127, 20, 0, 1].into(), &[(&self.video, 96, Some(&sets)), (&sound, 97, None)], group)),
            tracks: self.packers.iter().map(Packetizer::ssrc).collect(),
            credentials: self.user.clone(),
            group,
        }
    }
}

fn server(now: Instant) -> Server {
    let (realm, software) = ("boathouse".to_owned(), "test".to_owned());
    Server::new(ServerConfig { realm, scheme: Scheme::Sha256, better: false, software, ports: Some((8000, 8001)), seed: 3 }, now)
}

fn client(user: Option<Credentials>, now: Instant) -> Client {
    let url = RtspUrl::parse("rtsp://127.20.0.1:8554/finish").expect("a URL");
    Client::new(ClientConfig { url, credentials: user, skip_schemes: 0, no_basic: false, software: "test".into(), seed: 9 }, now)
}

/// Answers all that the client asks. `spoil` has the last word.
fn answer(
    client: &mut Client,
    server: &mut Server,
    house: &House,
    now: Instant,
    spoil: &mut dyn FnMut(&Method, &mut Response),
) -> Vec<Action> {
    let mut inbox = Inbox::default();
    let mut actions = Vec::new();
    while let Some(bytes) = client.poll_transmit() {
        inbox.buffer().extend_from_slice(&bytes);
        while let Some(incoming) = inbox.take().expect("requests") {
            let Incoming::Request(request) = incoming else { continue };
            let ends: (SocketAddr, SocketAddr) = (([127, 20, 0, 31], 40_000).into(), ([127, 20, 0, 1], 8554).into());
            let (mut response, more) = server.answer(now, (1, ends.0, ends.1), &request, house);
            if more.iter().any(|a| matches!(a, Action::Start(_))) {
                let first: Vec<_> = house.packers.iter().enumerate().map(|(n, p)| (n, p.next_sequence(), p.timestamp(0))).collect();
                response.headers.add("RTP-Info", rtp_info("rtsp://127.20.0.1:8554/finish", &first));
            }
            spoil(&request.method, &mut response);
            actions.extend(more);
            client.buffer().extend_from_slice(&response.to_bytes());
            client.handle_input(now);
        }
    }
    actions
}

/// Lanes, how to receive each track, and where each starts.
type Playing = (Vec<Lane>, Vec<ReceiverConfig>, Vec<(usize, u32)>);

/// Asks until it plays or ends; gives the lanes and the tracks' formats, or why it ended.
fn play(
    client: &mut Client,
    server: &mut Server,
    house: &House,
    lower: Lower,
    now: Instant,
    spoil: &mut dyn FnMut(&Method, &mut Response),
) -> Result<Playing, ClientEnd> {
    let mut configs = Vec::new();
    let mut lanes = Vec::new();
    loop {
        for action in answer(client, server, house, now, spoil) {
            if let Action::Start(id) = action {
                lanes = server.session(id).expect("a session").lanes.values().copied().collect();
            }
        }
        match client.poll_event().expect("something happens") {
            ClientEvent::Described(sdp) => {
                configs = sdp
                    .tracks
                    .iter()
                    .map(|t| ReceiverConfig {
                        format: t.format.clone().expect("carried"),
                        payload_type: t.payload_type,
                        clock_rate: t.clock_rate,
                        depth: Duration::from_millis(60),
                        damage: Damage::Wait,
                        own_ssrc: 1,
                    })
                    .collect();
                let ports = |track: usize| (lower == Lower::Udp).then_some((5000 + 2 * track as u16, 5001 + 2 * track as u16));
                client.set_up(now, (0..configs.len()).map(|track| TrackPorts { track, lower, ports: ports(track) }).collect());
            }
            ClientEvent::SetUp(set) => {
                assert_eq!(set.len(), 2);
                client.play(now);
            }
            ClientEvent::Playing(starts) => return Ok((lanes, configs, starts)),
            ClientEvent::Ended(why) => return Err(why),
            ClientEvent::Frame(..) => {}
        }
    }
}

#[test]
fn every_transport_and_codec_brings_what_the_path_lets_through() {
    let start = Instant::now();
    let ms = Duration::from_millis;
    for video in [Codec::H264, Codec::H265] {
        for (lower, loss) in [(Lower::Udp, 0.0), (Lower::Udp, 0.02), (Lower::Tcp, 0.0), (Lower::Multicast, 0.0)] {
            let (mut house, mut server, mut client) = (House::new(video.clone(), None), server(start), client(None, start));
            let (lanes, configs, starts) = play(&mut client, &mut server, &house, lower, start, &mut |_, _| {}).expect("plays");
            assert_eq!(lanes.len(), 2);
            assert_eq!(starts.iter().map(|s| s.0).collect::<Vec<_>>(), [0, 1], "both tracks say where they start");
            let rates: Vec<u32> = configs.iter().map(|c| c.clock_rate).collect();
            let mut group = SyncGroup::new(&rates, 0);
            starts.iter().for_each(|(n, t)| group.starts_at(*n, *t));
            let mut receivers: Vec<_> = configs.into_iter().enumerate().map(|(n, c)| RtpReceiver::new(n, c)).collect();
            // UDP meets a bad path, the connection keeps order.
            let faults = match lower {
                Lower::Tcp => Faults { delay: ms(3), ..Faults::default() },
                _ => Faults { delay: ms(3), jitter: ms(2), loss, reorder: 0.02, duplicate: 0.01, ..Faults::default() },
            };
            let mut path = Path::new(faults, 7);
            let mut arrivals: Vec<(Duration, usize, Bytes)> = Vec::new();
            let frame = aac().adts_header(200).expect("fits").into_iter().chain([9; 200]).collect::<Vec<u8>>();
            for n in 0..200u64 {
                let (data, keyframe) = house.picture(n);
                let picture = house.packers[0].pack(n * 3600, keyframe, &data);
                let sound = house.packers[1].pack(n * 3600, true, &frame);
                for (track, unit) in [(0, picture), (1, sound)] {
                    for packet in unit.packets() {
                        let fate = path.pass(ms(40 * n), packet.len());
                        arrivals.extend(fate.first.into_iter().chain(fate.second).map(|at| (at, track, packet.clone())));
                    }
                }
            }
            arrivals.sort_by_key(|(at, ..)| *at);
            let mut got = Vec::new();
            for (at, track, packet) in arrivals {
                let now = start + at;
                receivers.iter_mut().for_each(|r| r.handle_timeout(now));
                receivers[track].handle_rtp(now, &packet, &mut group).expect("a packet");
                receivers.iter_mut().for_each(|r| r.poll(&mut group, &mut got));
            }
            let (mut pictures, mut sounds) = (Vec::new(), 0);
            for received in got {
                let Received::Unit(unit) = received else { panic!("a restart") };
                if unit.track == 0 { pictures.push(unit) } else { sounds += u32::from(unit.joined() == frame) }
            }
            let first = pictures[0].pts;
            for p in &pictures {
                let (data, keyframe) = house.picture((p.pts - first) / 3600);
                assert_eq!(p.keyframe, keyframe);
                assert!(p.joined().ends_with(&data), "whole");
                if keyframe {
                    let sets: Vec<u8> = house.sets().iter().flat_map(|s| [&[0, 0, 0, 1], s.as_ref()].concat()).collect();
                    assert!(p.joined().starts_with(&sets), "the description's parameter sets go with it");
                }
            }
            if loss == 0.0 {
                assert_eq!((pictures.len(), sounds), (200, 200), "{video:?} {lower}");
            } else {
                assert!((60..200).contains(&pictures.len()) && (180..200).contains(&sounds), "{} {sounds}", pictures.len());
            }
        }
    }
}

#[test]
fn refusals_and_odd_answers_end_in_a_sentence() {
    let now = Instant::now();
    let user = || Some(Credentials::new("desk", "three strokes"));
    let end = |asked: Option<Credentials>, wanted: Option<Credentials>, lower, spoil: &mut dyn FnMut(&Method, &mut Response)| {
        let (house, mut server, mut client) = (House::new(Codec::H264, wanted), server(now), client(asked, now));
        play(&mut client, &mut server, &house, lower, now, spoil).map(|_| ()).map_err(|e| e.to_string())
    };
    let plain = &mut |_: &Method, _: &mut Response| {};
    assert_eq!(end(user(), user(), Lower::Udp, plain), Ok(()));
    assert!(end(None, user(), Lower::Udp, plain).is_err_and(|e| e.contains("requires a user and a password")));
    let wrong = Some(Credentials::new("desk", "oops"));
    assert!(end(wrong, user(), Lower::Udp, plain).is_err_and(|e| e.contains("does not take this user") && e.contains("SHA-256")));
    let spoiled = |status: u16, of: Method| {
        move |m: &Method, r: &mut Response| {
            if *m == of {
                r.status = status;
            }
        }
    };
    for (status, of, says) in [
        (404, Method::Describe, "nothing under this path"),
        (461, Method::Setup, "does not send this way"),
        (453, Method::Play, "no room"),
        (500, Method::Play, "answers PLAY with 500"),
        (302, Method::Describe, "does not say where"),
    ] {
        let told = end(None, None, Lower::Tcp, &mut spoiled(status, of)).expect_err("ends");
        assert!(told.contains(says), "{told}");
    }
    let told = end(None, None, Lower::Udp, &mut |m, r| {
        if *m == Method::Describe {
            r.body = Bytes::from_static(b"hello");
            r.headers.remove("Content-Length");
        }
    });
    assert!(told.is_err_and(|e| e.contains("not a session description")));
    // A device that answers UDP with channels has not understood.
    let told = end(None, None, Lower::Udp, &mut |m, r| {
        if *m == Method::Setup {
            r.headers.set("Transport", "RTP/AVP/TCP;interleaved=0-1");
        }
    });
    assert!(told.is_err_and(|e| e.contains("does not send this way")));
}

#[test]
fn an_answer_that_waits_for_a_picture_is_no_round_trip() {
    let start = Instant::now();
    let ms = Duration::from_millis;
    let (house, mut server, mut client) = (House::new(Codec::H264, None), server(start), client(None, start));
    answer(&mut client, &mut server, &house, start + ms(3), &mut |_, _| {});
    let ports = |track: usize| TrackPorts { track, lower: Lower::Tcp, ports: None };
    client.set_up(start + ms(3), vec![ports(0)]);
    answer(&mut client, &mut server, &house, start + ms(5), &mut |_, _| {});
    assert_eq!(client.rtt(), Some(ms(2)));
    client.play(start + ms(5));
    answer(&mut client, &mut server, &house, start + ms(1005), &mut |_, _| {});
    assert_eq!(client.rtt(), Some(ms(2)), "PLAY is answered with the first keyframe");
}

#[test]
fn a_session_is_kept_alive_and_silence_is_noticed() {
    let start = Instant::now();
    let (house, mut server, mut client) = (House::new(Codec::H264, None), server(start), client(None, start));
    play(&mut client, &mut server, &house, Lower::Udp, start, &mut |_, _| {}).expect("plays");
    let id = SessionId(1);
    // An hour: the client gives signs of life by itself, so the server never lets it go.
    let mut now = start;
    let mut kinds = Vec::new();
    while now < start + Duration::from_secs(3600) {
        now = client.poll_timeout().expect("something is due");
        client.handle_timeout(now);
        answer(&mut client, &mut server, &house, now, &mut |m, _| kinds.push(m.clone()));
        assert!(server.handle_timeout(now).is_empty());
    }
    assert!(server.session(id).is_some() && kinds.len() > 100 && kinds.iter().all(|m| *m == Method::GetParameter));
    // The device falls silent: a forgotten sign of life is no end, but it sends no more answers
    // either.
    let asked = client.poll_timeout().expect("due");
    client.handle_timeout(asked);
    while client.poll_transmit().is_some() {}
    client.handle_timeout(asked + Duration::from_secs(9));
    assert!(client.poll_event().is_none());
    assert_eq!(server.handle_timeout(now + Duration::from_secs(61)), [Action::End(id)]);
    // A request of substance that is never answered ends the session.
    let mut unanswered = self::client(None, start);
    unanswered.handle_timeout(start + Duration::from_secs(9));
    assert!(matches!(unanswered.poll_event(), Some(ClientEvent::Ended(ClientEnd::Silent(Method::Options)))));
    // Junk, and the end of the connection.
    let mut junk = self::client(None, start);
    junk.buffer().extend_from_slice(b"\x16\x03\x01 hello");
    junk.handle_input(start);
    assert!(matches!(junk.poll_event(), Some(ClientEvent::Ended(ClientEnd::Nonsense(_)))));
}

#[test]
fn what_a_device_says_moves_no_terminal() {
    let end = |answer: &str| {
        let start = Instant::now();
        let mut client = client(None, start);
        // The answer to OPTIONS is good, and DESCRIBE fails.
        client.buffer().extend_from_slice(format!("RTSP/1.0 200 OK\r\nCSeq: 1\r\n\r\nRTSP/1.0 {answer}\r\n\r\n").as_bytes());
        client.handle_input(start);
        match client.poll_event() {
            Some(ClientEvent::Ended(end)) => end.to_string(),
            other => panic!("{other:?}"),
        }
    };
    assert_eq!(end("500 \x1b[2JNo\x07 \u{202e}Picture\r\nCSeq: 2"), "the device answers DESCRIBE with 500 [2JNo Picture");
    assert_eq!(
        end("401 No\r\nCSeq: 2\r\nWWW-Authenticate: Digest realm=\"\x1b]0;dock\x07\", nonce=\"n\""),
        "the device requires a user and a password (for \"]0;dock\")"
    );
}

#[test]
fn the_password_itself_is_never_sent_to_who_has_asked_for_a_digest() {
    let now = Instant::now();
    let user = Credentials::new("desk", "three strokes");
    let house = House::new(Codec::H264, Some(Credentials::new("desk", "another")));
    let url = RtspUrl::parse("rtsp://127.20.0.1:8554/finish").expect("a URL");
    // After a refusal the next best proof is tried; and a device that has asked for a digest asks
    // for Basic alone the next time.
    for (skip_schemes, no_basic, digest_too) in [(1, false, true), (0, true, false)] {
        let config =
            ClientConfig { url: url.clone(), credentials: Some(user.clone()), skip_schemes, no_basic, software: "test".into(), seed: 9 };
        let (mut client, mut server) = (Client::new(config, now), server(now));
        let mut sent = Vec::new();
        for _ in 0..6 {
            let mut inbox = Inbox::default();
            while let Some(bytes) = client.poll_transmit() {
                sent.extend_from_slice(&bytes);
                inbox.buffer().extend_from_slice(&bytes);
            }
            while let Some(incoming) = inbox.take().expect("requests") {
                let Incoming::Request(request) = incoming else { continue };
                let ends: (SocketAddr, SocketAddr) = (([127, 20, 0, 31], 40_000).into(), ([127, 20, 0, 1], 8554).into());
                let (mut response, _) = server.answer(now, (1, ends.0, ends.1), &request, &house);
                if response.status == 401 {
                    if !digest_too {
                        response.headers.0.retain(|(name, _)| name != "WWW-Authenticate");
                    }
                    response.headers.add("WWW-Authenticate", "Basic realm=\"boathouse\"");
                }
                client.buffer().extend_from_slice(&response.to_bytes());
                client.handle_input(now);
            }
        }
        let text = String::from_utf8_lossy(&sent);
        assert_eq!(text.contains("Digest username"), digest_too, "{text}");
        assert!(!text.contains("Basic "), "{text}");
    }
}
