//! See `fuzz/run`.

#![no_main]

use libfuzzer_sys::fuzz_target;
use choir_core::{link::parse_url, sheet::read_sheet};

fuzz_target!(|data: &[u8]| {
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = parse_url(text);
        let _ = read_sheet(text);
    }
});
