//! A survey of a path, asked and answered, among strangers and with a peer that has the token.

use super::pieces;
use choir_proto::survey::{Answerer, Asker, Plan, fuzz};
use std::net::SocketAddr;

/// Datagrams to both ends.
pub fn both(data: &[u8]) {
    let (here, there): (SocketAddr, SocketAddr) = (([127, 20, 0, 1], 7370).into(), ([127, 20, 0, 2], 7370).into());
    let token = "boat-house-9-oars";
    let mut asker = Asker::new(token, there, 42, Plan { rate_bps: 8_000_000, lasts_ms: 1000 }, 0);
    let mut answerer = Answerer::new(token, 20_000_000, 10_000, [7; 32]);
    for (n, piece) in pieces(data).into_iter().enumerate() {
        let now = n as i64 * 5000;
        asker.handle_datagram(now, there, piece);
        answerer.handle_datagram(now, here, piece);
        asker.handle_datagram(now, there, &fuzz::proved(token, false, 42, piece));
        answerer.handle_datagram(now, here, &fuzz::proved(token, true, 42, piece));
        asker.handle_timeout(now);
        answerer.handle_timeout(now);
        while asker.poll_transmit().is_some() {}
        while answerer.poll_transmit().is_some() {}
        let _ = (asker.survey(), asker.so_far());
    }
}

/// All of it.
pub fn entry(data: &[u8]) {
    both(data);
}
