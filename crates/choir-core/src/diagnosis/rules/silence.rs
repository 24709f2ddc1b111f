//! Nothing comes: the encoder stopped, or the peer is gone, or the path is cut. An SRT end that has
//! nothing to send gives a sign of life each second (draft, 3.2.3).

use crate::{
    facts::{Cause, Contact, Direction, Reading},
    limits,
    units::of_ms,
};
use std::time::Duration;

/// Silence that is told, ms.
const PAUSE: f64 = 500.0;
/// The last answers of an end come so much later than its last media, besides the round trip.
const ANSWERS: f64 = 250.0;

pub(super) fn silence(r: &Reading) -> Option<Cause> {
    if r.contact != Contact::Up {
        return None;
    }
    let (silent, rtt) = (r.tick.silent_ms?, r.tick.rtt_ms.unwrap_or(0.0));
    if r.direction == Direction::Out {
        // Who gets nothing acknowledges nothing, and gives signs of life only.
        return (silent > limits::SIGN_OF_LIFE_MS + rtt).then(|| gone(r, of_ms(silent)));
    }
    let media = r.tick.data_silent_ms?;
    if media < PAUSE + rtt.min(100.0) {
        return None;
    }
    Some(match () {
        () if silent > limits::SIGN_OF_LIFE_MS + rtt => gone(r, of_ms(silent)),
        () if r.around.port_closed => gone(r, of_ms(silent)),
        () if silent + ANSWERS + rtt < media => Cause::EncoderStopped { silent: of_ms(media) },
        () => Cause::Pause { silent: of_ms(media) },
    })
}

fn gone(r: &Reading, silent: Duration) -> Cause {
    if r.around.port_closed { Cause::PeerGone { silent } } else { Cause::NothingHeard { silent } }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{reading, tick};
    use crate::facts::WayTick;

    fn named(direction: Direction, silent: f64, media: f64, closed: bool) -> Option<&'static str> {
        let mut r = reading(direction, WayTick { silent_ms: Some(silent), data_silent_ms: Some(media), ..tick() });
        r.around.port_closed = closed;
        silence(&r).map(|c| c.name())
    }

    #[test]
    fn what_is_silent_says_why() {
        use Direction::{In, Out};
        for (direction, silent, media, closed, wanted) in [
            (In, 1.0, 1.0, false, None),
            (In, 600.0, 600.0, false, Some("pause")),
            (In, 20.0, 900.0, false, Some("encoder-stopped")),
            (In, 1400.0, 1400.0, false, Some("nothing-heard")),
            (In, 700.0, 700.0, true, Some("peer-gone")),
            (Out, 900.0, 0.0, false, None),
            (Out, 1400.0, 0.0, false, Some("nothing-heard")),
            (Out, 1400.0, 0.0, true, Some("peer-gone")),
        ] {
            assert_eq!(named(direction, silent, media, closed), wanted, "{silent} {media} {closed}");
        }
    }
}
