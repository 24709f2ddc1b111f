//! What is wrong with a picture or sound, and what to do.

use crate::content::ContentFault;

/// What is wrong, and what to check.
pub(super) fn parts(fault: ContentFault) -> (String, &'static str) {
    let (what, remedy) = match fault {
        ContentFault::Black => ("picture black", "check the lens cap, the iris and the encoder's input"),
        ContentFault::Flat => ("picture one colour", "check the encoder's input"),
        ContentFault::Bars => ("colour bars", "switch off the test picture of the camera or encoder"),
        ContentFault::Frozen => ("picture frozen", "check the camera and the encoder's input"),
        ContentFault::Silent => ("no sound", "check the audio input and its mute"),
        ContentFault::ChannelSilent(n) => return (format!("channel {n} silent"), "check the channel's cable and input"),
        ContentFault::Clipped => ("sound clipped", "lower the gain of the audio input"),
        ContentFault::OutOfPhase => ("sound out of phase", "check the polarity of the audio wiring"),
        ContentFault::Apart(ms) => {
            let what = if ms > 0 { format!("sound {ms} ms behind the picture") } else { format!("sound {} ms ahead of the picture", -ms) };
            return (what, "correct the audio delay of the encoder");
        }
    };
    (what.to_owned(), remedy)
}

/// What is wrong.
#[must_use]
pub fn content_words(fault: ContentFault) -> String {
    parts(fault).0
}
