//! Entry points for fuzzers: whatever a peer can send. None of them may panic or keep more than its
//! limits.

use super::{ChunkReader, Client, ClientPlan, HANDSHAKE_BLOCK, Server, ServerEvent, TagReader, kind, read_values};

/// To a server, in the pieces given; whoever asks is let in.
pub fn server(pieces: &[&[u8]]) {
    let mut server = Server::new([7; HANDSHAKE_BLOCK]);
    let mut tags = TagReader::default();
    for piece in pieces {
        if server.handle(piece).is_err() {
            return;
        }
        while let Some(event) = server.poll_event() {
            match event {
                ServerEvent::Publish { .. } | ServerEvent::Play { .. } => server.accept(),
                ServerEvent::Media { kind, time, body } => drop(tags.push(kind, time, &body)),
                _ => {}
            }
        }
        while server.poll_output().is_some() {}
    }
}

/// To a client that publishes or plays.
pub fn client(publishes: bool, pieces: &[&[u8]]) {
    let plan = ClientPlan { app: "in".into(), url: "rtmp://127.20.0.1/in".into(), name: "k".into(), publishes, answer: None };
    let mut client = Client::new(plan, [7; HANDSHAKE_BLOCK]);
    for piece in pieces {
        if client.handle(piece).is_err() {
            return;
        }
        while client.poll_event().is_some() {}
        while client.poll_output().is_some() {}
    }
}

/// The parts: chunks, values, tags.
pub fn parts(data: &[u8]) {
    let mut chunks = ChunkReader::default();
    chunks.allow_pictures();
    chunks.push(data);
    while let Ok(Some(_)) = chunks.poll() {}
    let _ = read_values(data);
    let mut tags = TagReader::default();
    for part in data.chunks(64) {
        let _ = tags.push(kind::VIDEO, 0, part);
        let _ = tags.push(kind::AUDIO, 0, part);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn anything_is_taken(data in prop::collection::vec(any::<u8>(), 0..3000), publishes in any::<bool>()) {
            // Behind a handshake as well.
            let whole = [&[3; 1 + 2 * HANDSHAKE_BLOCK][..], &data].concat();
            for pieces in [vec![&data[..]], whole.chunks(997).collect()] {
                server(&pieces);
                client(publishes, &pieces);
            }
            parts(&data);
        }
    }
}
