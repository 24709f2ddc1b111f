//! Entry points for fuzzers: whatever a peer can hand in. None of them may panic or keep more than
//! its limits.

use super::{
    Catalogue, GroupReader, GroupWriter, Hello, Listener, ListenerConfig, OPEN_GROUP, Speaker, SpeakerConfig, UnitHead, VERSION, Wish,
    proof::EXPORTER_LEN,
};
use std::time::{Duration, Instant};

fn hello() -> Hello {
    Hello { versions: vec![VERSION], machine: "boathouse".into(), group: OPEN_GROUP.into(), ..Hello::default() }
}

/// Control bytes to both sides, in the pieces given.
pub fn control(now: Instant, pieces: &[&[u8]]) {
    let exported = [0; EXPORTER_LEN];
    let mut speaker = Speaker::new(SpeakerConfig { hello: hello(), key: None, exported, known: true }, now);
    let mut listener = Listener::new(ListenerConfig { hello: hello(), key: None, exported }, now);
    speaker.set_catalogue(now, &Catalogue::default());
    listener.wish(Wish {
        source: "Finish Tower".into(),
        grade: None,
        patience: Duration::from_millis(100),
        codecs: Vec::new(),
        carriage: super::Carriage::Streams,
    });
    for (n, piece) in pieces.iter().enumerate() {
        let at = now + Duration::from_millis(n as u64);
        if speaker.handle_control(at, piece).and_then(|()| speaker.handle_timeout(at)).is_err() {
            break;
        }
        while speaker.poll_control().is_some() {}
        while speaker.poll_event().is_some() {}
    }
    for (n, piece) in pieces.iter().enumerate() {
        let at = now + Duration::from_millis(n as u64);
        if listener.handle_control(piece).and_then(|()| listener.handle_timeout(at)).is_err() {
            break;
        }
        while listener.poll_control().is_some() {}
        while listener.poll_event().is_some() {}
    }
}

/// The bytes of a unit's stream.
pub fn unit(data: &[u8]) {
    if let Ok((head, at)) = UnitHead::read(data) {
        assert!(at <= data.len(), "{head:?}");
    }
}

/// A packet to a group, and a request for packets.
pub fn packet(now: Instant, data: &[u8]) {
    let writer = GroupWriter::new([7; 32]);
    let offer = writer.offer(([239, 20, 0, 9], 7350).into(), 0);
    let Some(mut reader) = GroupReader::new(&offer, Duration::from_millis(100)) else { return };
    reader.handle_packet(now, data);
    reader.handle_timeout(now + Duration::from_secs(1));
    if let Ok(repair) = serde_json::from_slice(data) {
        let _ = writer.again(&repair);
    }
}
