//! An SRT port among strangers, and a link whose peer sends anything.

use super::{bounded, pieces, start};
use bytes::Bytes;
use choir_proto::srt::{AcceptRule, ConnId, Endpoint, LinkConfig, Passphrase, RuleId, StreamMatch};
use std::{
    net::SocketAddr,
    time::{Duration, Instant},
};

const STEP: Duration = Duration::from_millis(7);

fn addr(n: u8) -> SocketAddr {
    ([127, 20, 0, n], 7001).into()
}

fn config() -> LinkConfig {
    LinkConfig { passphrase: Passphrase::new("four oars and a cox").ok(), ..LinkConfig::default() }
}

fn listener(now: Instant, config: LinkConfig) -> Endpoint {
    let mut end = Endpoint::new(addr(1).ip(), now, [3; 32]);
    end.listen(AcceptRule { id: RuleId(1), stream: StreamMatch::Any, config, max_callers: 2, held: false, callers_send: true });
    end
}

/// All that an end wants out.
fn drain(end: &mut Endpoint, now: Instant) -> Vec<Vec<u8>> {
    while let Some(check) = end.poll_key_check(now) {
        end.handle_key_check(now, check.run());
    }
    end.handle_timeout(now);
    while end.poll_event().is_some() {}
    while end.poll_delivery().is_some() {}
    let (mut all, mut buf) = (Vec::new(), Vec::new());
    while let Some(t) = end.poll_transmit(now, 4, &mut buf) {
        all.extend(buf.chunks(t.segment.unwrap_or(t.size)).map(<[u8]>::to_vec));
        buf.clear();
        bounded(all.len(), 10_000);
    }
    all
}

/// To a port that listens.
pub fn strangers(data: &[u8]) {
    let mut now = start();
    let mut end = listener(now, config());
    for (n, piece) in pieces(data).into_iter().enumerate() {
        end.handle_datagram(now, addr(n as u8 % 4 + 2), piece);
        drain(&mut end, now);
        now += STEP;
    }
    bounded(end.connections().count(), 2);
}

/// To both ends of a link that is up, each piece with the number of its connection put in.
pub fn joined(data: &[u8]) {
    for encrypted in [false, true] {
        let config = if encrypted { config() } else { LinkConfig::default() };
        let mut now = start();
        let (mut b, mut a) = (listener(now, config.clone()), Endpoint::new(addr(2).ip(), now, [4; 32]));
        a.call(now, addr(1), config);
        for _ in 0..12 {
            for data in drain(&mut a, now) {
                b.handle_datagram(now, addr(2), &data);
            }
            for data in drain(&mut b, now) {
                a.handle_datagram(now, addr(1), &data);
            }
            now += Duration::from_millis(20);
        }
        let up = |end: &Endpoint| end.connections().next();
        let (Some(at_a), Some(at_b)) = (up(&a), up(&b)) else { panic!("they have not joined") };
        for (n, piece) in pieces(data).into_iter().enumerate() {
            hostile(&mut a, now, addr(1), at_a, piece);
            hostile(&mut b, now, addr(2), at_b, piece);
            if n % 3 == 0 {
                let _ = a.send(now, at_a, Bytes::from_static(&[0x47; 188]));
                let _ = b.send(now, at_b, Bytes::from_static(&[0x47; 188]));
            }
            drain(&mut a, now);
            drain(&mut b, now);
            now += STEP;
        }
        for (end, conn) in [(&a, at_a), (&b, at_b)] {
            if let Some(stats) = end.link_stats(conn) {
                bounded(stats.receive_buffer as usize, 65_536);
                bounded(stats.in_flight as usize, 65_536);
            }
        }
    }
}

fn hostile(end: &mut Endpoint, now: Instant, from: SocketAddr, conn: ConnId, piece: &[u8]) {
    let mut data = piece.to_vec();
    if let Some(id) = data.get_mut(12..16) {
        id.copy_from_slice(&conn.0.to_be_bytes());
    }
    end.handle_datagram(now, from, &data);
}

/// All of it.
pub fn entry(data: &[u8]) {
    let _ = choir_proto::srt::wire::Packet::parse(data);
    strangers(data);
    joined(data);
}
