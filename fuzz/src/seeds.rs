//! Seeds: real messages, small.

use super::{joined, start, stave};
use bytes::Bytes;
use choir_proto::{
    audio::{aac_silence, st302_frame},
    onvif,
    rtmp::{Client, ClientPlan, HANDSHAKE_BLOCK},
    rtsp::{Method, Request, Response},
    srt::{Endpoint, LinkConfig, Passphrase},
    stave::{Message, TallyNote, TallyWord, frame},
    ts::{TsWriter, Unit, WriterConfig},
    visca::Ask,
};

const SETS: &[u8] = &[
    0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0x01, 0x6a, 0x02, 0x02, 0x02, 0x80, 0x00, 0x00, 0x03, 0x00,
    0x80, 0x00, 0x00, 0x1e, 0x07, 0x8c, 0x18, 0xcb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80,
];

/// Of all entries: the entry, a name, and the data.
pub fn seeds() -> Vec<(&'static str, String, Vec<u8>)> {
    let mut all = Vec::new();
    let mut seed = |entry: &'static str, name: &str, data: &[u8]| all.push((entry, name.to_owned(), data.to_vec()));
    seed("srt", "greeting", &joined(greeting()));
    seed("srt", "data", &joined([[&[0, 0, 0, 9, 0xC0, 0, 0, 1, 0, 0, 0, 5, 0, 0, 0, 0][..], &[0x47; 188]].concat()]));
    let describe = {
        let mut r = Request::new(Method::Describe, "rtsp://127.20.0.1:8554/boathouse-1");
        r.headers.add("CSeq", "1");
        r.headers.add("Accept", "application/sdp");
        r.to_bytes()
    };
    let setup = {
        let mut r = Request::new(Method::Setup, "rtsp://127.20.0.1:8554/boathouse-1/track1");
        r.headers.add("CSeq", "2");
        r.headers.add("Transport", "RTP/AVP/TCP;unicast;interleaved=0-1");
        r.to_bytes()
    };
    seed("rtsp", "requests", &joined([describe, setup]));
    let sdp = "v=0\r\no=- 1 1 IN IP4 127.20.0.1\r\ns=finish\r\nt=0 0\r\nm=video 0 RTP/AVP 96\r\na=rtpmap:96 H264/90000\r\n\
               a=fmtp:96 packetization-mode=1;sprop-parameter-sets=Z2QAH6zZQFAFuwFqAgICgAAAAwCAAAAeB4wYyw==,aO48gA==\r\na=control:track1\r\n";
    let mut described = Response::new(200);
    described.headers.add("CSeq", "1");
    described.headers.add("Content-Type", "application/sdp");
    described.body = Bytes::from_static(sdp.as_bytes());
    seed("rtsp", "described", &joined([Response::new(200).to_bytes(), described.to_bytes()]));
    seed("rtsp", "sdp", sdp.as_bytes());
    let packet = |payload: &[u8]| [&[0x80, 96, 0, 1, 0, 0, 3, 232, 0, 0, 0, 7][..], payload].concat();
    for (n, payload) in
        [&SETS[4..32], &[0x7C, 0x85, 1, 2, 3, 4][..], &[0x62, 0x01, 0x93, 1, 2, 3], &[0, 16, 0, 80, 1, 2, 3]].into_iter().enumerate()
    {
        seed("rtp", &format!("format-{n}"), &[&[n as u8][..], &joined([packet(payload)])].concat());
    }
    seed("ts", "pictures", &joined(stream().chunks(188)));
    seed("units", "h264", &[SETS, &[0, 0, 0, 1, 0x65, 0x88, 0x84]].concat());
    seed("units", "aac", &aac_silence(48_000, 2));
    seed("units", "pcm", &st302_frame(&[1, 2, 3, 4, 5, 6], 2, &mut 0));
    seed("devices", "services", onvif::device::get_services().message(None).as_bytes());
    seed("devices", "probe", onvif::discovery::probe(&onvif::discovery::message_id([7; 16])).as_bytes());
    seed("devices", "visca", &joined([Ask::Store(3).message(1)]));
    seed("names", "question", &choir_host::mdns::question(&["_stave._udp.local."]));
    let tally = Message::Tally(TallyNote { source: "Finish Tower".into(), tally: TallyWord::OnAir });
    seed("stave", "tally", &joined([stave::greeting(), frame(&tally).to_vec()]));
    seed("survey", "hello", &joined([[1_u8], [3], [4]]));
    let plan = ClientPlan { app: "in".into(), url: "rtmp://127.20.0.1/in".into(), name: "k".into(), publishes: true, answer: None };
    let mut client = Client::new(plan, [7; HANDSHAKE_BLOCK]);
    seed("rtmp", "hello", &joined(std::iter::from_fn(|| client.poll_output()).map(|b| b.to_vec())));
    seed("files", "playlist", b"#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXT-X-MAP:URI=\"i.mp4\",BYTERANGE=\"7@0\"\n#EXTINF:4,\na.m4s\n");
    seed("control", "take", br#"{"version":1,"ask":"take","feed":"programme","line":"finish-tower"}"#);
    seed(
        "control",
        "pictures",
        br#"{"version":1,"answer":"pictures","pictures":[{"line":"a","at_ms":1,"size":[1,1],"source":[1,1],"rgb":"AAAA"}]}"#,
    );
    seed("sheet", "small", include_bytes!("../../demo/regatta.toml"));
    all
}

/// What a caller sends first.
fn greeting() -> Vec<Vec<u8>> {
    let config =
        LinkConfig { passphrase: Passphrase::new("four oars and a cox").ok(), stream_id: Some("finish".into()), ..LinkConfig::default() };
    let mut end = Endpoint::new([127, 20, 0, 2].into(), start(), [4; 32]);
    end.call(start(), ([127, 20, 0, 1], 7001).into(), config);
    let (mut all, mut buf) = (Vec::new(), Vec::new());
    while end.poll_transmit(start(), 1, &mut buf).is_some() {
        all.push(std::mem::take(&mut buf));
    }
    all
}

/// A picture and its sound.
fn stream() -> Vec<u8> {
    let (mut writer, mut out) = (TsWriter::new(WriterConfig::default()), Vec::new());
    for n in 0..3 {
        let data = [if n == 0 { SETS } else { &[] }, &[0, 0, 0, 1, if n == 0 { 0x65 } else { 0x41 }, 0x88], &[0xA5; 400]].concat();
        writer.write(&Unit { video: true, pts: 900_000 + n * 3600, dts: None, keyframe: n == 0, data: &[&data] }, &mut out);
        writer
            .write(&Unit { video: false, pts: 900_000 + n * 3600, dts: None, keyframe: true, data: &[&aac_silence(48_000, 2)] }, &mut out);
    }
    out
}
