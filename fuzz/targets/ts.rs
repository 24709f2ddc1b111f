//! See `fuzz/run`.

#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| choir_fuzz::ts::entry(data));
