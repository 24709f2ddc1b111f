//! See `fuzz/run`.

#![no_main]

use choir_fuzz::*;
use choir_show::control::{Answer, PictureAnswer, read_answer, read_request};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|data: &[u8]| {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Err(why) = read_request(text) {
        bounded(why.len(), 1300);
    }
    if let Some(Answer::Pictures { pictures }) = read_answer(text) {
        bounded(pictures.iter().filter_map(PictureAnswer::still).map(|s| s.rgb.len()).sum(), text.len());
    }
});
