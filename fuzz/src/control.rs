//! The control socket: what is asked and answered.

use super::bounded;
use choir_show::control::{Answer, PictureAnswer, read_answer, read_request};

/// A request and an answer.
pub fn entry(data: &[u8]) {
    let Ok(text) = std::str::from_utf8(data) else { return };
    if let Err(why) = read_request(text) {
        bounded(why.len(), 1300);
    }
    if let Some(Answer::Pictures { pictures }) = read_answer(text) {
        bounded(pictures.iter().filter_map(PictureAnswer::still).map(|s| s.rgb.len()).sum(), text.len());
    }
}
