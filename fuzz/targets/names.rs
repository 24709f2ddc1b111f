//! See `fuzz/run`.

#![no_main]

use choir_fuzz::*;
use libfuzzer_sys::fuzz_target;
use choir_host::mdns;

fuzz_target!(|data: &[u8]| {
    let _ = mdns::asked(data);
    bounded(mdns::services(data).len(), data.len());
});
