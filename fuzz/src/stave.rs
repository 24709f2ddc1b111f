//! Stave behind what only members have: a greeting, and packets that are sealed.

use super::{bounded, pieces, start};
use choir_proto::stave::{GroupReader, GroupWriter, Hello, Message, OPEN_GROUP, UnitHead, VERSION, frame, fuzz};
use std::time::Duration;

/// The first word of somebody who may come in.
pub fn greeting() -> Vec<u8> {
    let hello = Hello { versions: vec![VERSION], machine: "jury".into(), group: OPEN_GROUP.into(), ..Hello::default() };
    frame(&Message::Hello(hello)).to_vec()
}

/// A unit with any head and payload, sealed as its source would; some packets of it come twice, one
/// not at all.
pub fn sealed(data: &[u8]) {
    let now = start();
    let mut writer = GroupWriter::new([7; 32]);
    let offer = writer.offer(([239, 20, 0, 9], 7350).into(), 0);
    let Some(mut reader) = GroupReader::new(&offer, Duration::from_millis(100)) else { return };
    let (head, payload) = data.split_at(data.len() / 8);
    for (n, packet) in writer.write(head, payload, 77).iter().enumerate() {
        for _ in 0..[1, 2, 1, 0][n % 4] {
            reader.handle_packet(now, packet);
        }
    }
    let _ = reader.poll_repair(now + Duration::from_millis(20));
    reader.handle_timeout(now + Duration::from_secs(1));
    while let Some(unit) = reader.poll_unit() {
        bounded(unit.len(), data.len() + 64);
        let _ = UnitHead::read(&unit);
    }
}

/// All of it.
pub fn entry(data: &[u8]) {
    let now = start();
    fuzz::control(now, &pieces(data));
    // Also behind a greeting that is right.
    let greeting = greeting();
    let with = std::iter::once(greeting.as_slice()).chain(pieces(data)).collect::<Vec<_>>();
    fuzz::control(now, &with);
    fuzz::unit(data);
    fuzz::packet(now, data);
    sealed(data);
}
