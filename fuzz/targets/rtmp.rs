//! See `fuzz/run`.

#![no_main]

use choir_fuzz::*;
use libfuzzer_sys::fuzz_target;
use choir_proto::rtmp::{HANDSHAKE_BLOCK, fuzz};

fuzz_target!(|data: &[u8]| {
    fuzz::parts(data);
    let shaken = [&[3; 1 + 2 * HANDSHAKE_BLOCK][..], data].concat();
    for all in [pieces(data), shaken.chunks(997).collect()] {
        fuzz::server(&all);
        fuzz::client(true, &all);
        fuzz::client(false, &all);
    }
});
