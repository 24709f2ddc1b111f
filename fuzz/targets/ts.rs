//! See `fuzz/run`.

#![no_main]

use choir_fuzz::*;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| ts::streams(data));
