//! RTSP: messages, a server with a feed, a client that asks a hostile device.

use super::{bounded, pieces, start};
use choir_proto::rtsp::{
    Catalog, Client, ClientConfig, ClientEvent, Credentials, Inbox, Incoming, Lower, Mount, RtspUrl, Scheme, Server, ServerConfig,
    TrackPorts,
};
use std::time::Duration;

/// Messages as they are taken in.
pub fn messages(data: &[u8]) {
    let mut inbox = Inbox::default();
    for piece in pieces(data) {
        inbox.buffer().extend_from_slice(piece);
        while let Ok(Some(_)) = inbox.take() {}
        bounded(inbox.buffer().len(), 1 << 20);
    }
}

struct One;

impl Catalog for One {
    fn find(&self, path: &str) -> Option<usize> {
        path.contains("boathouse").then_some(0)
    }

    fn mount(&self, _: usize) -> Mount {
        Mount { description: Some("v=0\r\n".into()), tracks: vec![1, 2], credentials: None, group: None }
    }
}

/// Requests to a server.
pub fn server(data: &[u8]) {
    let now = start();
    let config = ServerConfig {
        realm: "boathouse".into(),
        scheme: Scheme::Md5,
        better: true,
        software: "choir".into(),
        ports: Some((8000, 8001)),
        seed: 3,
    };
    let (mut server, mut inbox) = (Server::new(config, now), Inbox::default());
    for piece in pieces(data) {
        inbox.buffer().extend_from_slice(piece);
        while let Ok(Some(incoming)) = inbox.take() {
            if let Incoming::Request(request) = incoming {
                let ends = (([127, 20, 0, 31], 40_000).into(), ([127, 20, 0, 1], 8554).into());
                let (response, _) = server.answer(now, (1, ends.0, ends.1), &request, &One);
                bounded(response.to_bytes().len(), 256 << 10);
            }
        }
    }
    bounded(server.sessions().count(), 512);
}

/// Answers to a client.
pub fn client(data: &[u8]) {
    let mut now = start();
    let Ok(url) = RtspUrl::parse("rtsp://127.20.0.1:8554/finish") else { return };
    let credentials = Some(Credentials::new("desk", "three strokes"));
    let config = ClientConfig { url, credentials, skip_schemes: 0, no_basic: false, software: "choir".into(), seed: 9 };
    let mut client = Client::new(config, now);
    for piece in pieces(data) {
        client.buffer().extend_from_slice(piece);
        client.handle_input(now);
        let mut out = 0;
        while let Some(bytes) = client.poll_transmit() {
            out += bytes.len();
        }
        bounded(out, 256 << 10);
        while let Some(event) = client.poll_event() {
            if matches!(event, ClientEvent::Described(_)) {
                client.set_up(now, vec![TrackPorts { track: 0, lower: Lower::Tcp, ports: None }]);
            }
        }
        now += Duration::from_millis(500);
        client.handle_timeout(now);
    }
}

/// All of it.
pub fn entry(data: &[u8]) {
    messages(data);
    server(data);
    client(data);
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = choir_proto::rtsp::parse_sdp(text);
        let _ = choir_proto::rtsp::parse_transports(text);
        let _ = choir_proto::rtsp::RtspUrl::parse(text);
        let _ = choir_proto::auth::challenges(std::iter::once(text));
    }
}
