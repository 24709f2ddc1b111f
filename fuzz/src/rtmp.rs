//! RTMP: parts, a server and both kinds of client.

use super::pieces;
use choir_proto::rtmp::{HANDSHAKE_BLOCK, fuzz};

/// Before and behind a handshake.
pub fn entry(data: &[u8]) {
    fuzz::parts(data);
    let shaken = [&[3; 1 + 2 * HANDSHAKE_BLOCK][..], data].concat();
    for all in [pieces(data), shaken.chunks(997).collect()] {
        fuzz::server(&all);
        fuzz::client(true, &all);
        fuzz::client(false, &all);
    }
}
