//! See `fuzz/run`.

#![no_main]

use choir_fuzz::*;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let _ = choir_proto::srt::wire::Packet::parse(data);
    srt::strangers(data);
    srt::joined(data);
});
