//! See `fuzz/run`.

#![no_main]

use choir_fuzz::*;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    rtsp::messages(data);
    rtsp::server(data);
    rtsp::client(data);
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = choir_proto::rtsp::parse_sdp(text);
        let _ = choir_proto::rtsp::parse_transports(text);
        let _ = choir_proto::rtsp::RtspUrl::parse(text);
        let _ = choir_proto::auth::challenges(std::iter::once(text));
    }
});
