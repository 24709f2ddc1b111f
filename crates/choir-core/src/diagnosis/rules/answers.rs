//! One direction is blocked: media comes and our answers do not arrive; or the peer is heard and
//! our media does not arrive.

use crate::{
    diagnosis::course::Course,
    facts::{Cause, Contact, Direction, Reading},
    limits,
    units::of_ms,
};
use std::time::Duration;

/// Answers of ours without a word about them, ms.
const UNANSWERED: f64 = 900.0;
/// By then it is told otherwise that nothing has ever arrived.
const NEVER: Duration = Duration::from_secs(3);
/// Within this time media or anything else comes, ms.
const HEARD: f64 = 500.0;

pub(super) fn lost(r: &Reading) -> Option<Cause> {
    if r.contact != Contact::Up {
        return None;
    }
    let t = &r.tick;
    let rtt = t.rtt_ms.unwrap_or(0.0);
    if r.direction == Direction::In {
        let unanswered = t.unanswered_ms.filter(|ms| *ms > UNANSWERED + 3.0 * rtt)?;
        return (t.data_silent_ms? < HEARD).then(|| Cause::AnswersLost { unanswered: of_ms(unanswered) });
    }
    let overdue = t.latency_ms? + rtt + limits::ACK_SPARE_MS;
    let unacknowledged = t.unacknowledged_ms.filter(|ms| *ms > overdue)?;
    // Where nothing ever arrived, it may be that only large packets do not.
    let ever = t.peer_packets.unwrap_or(0) > 0 || r.up_for > NEVER;
    (ever && t.silent_ms? < limits::SIGN_OF_LIFE_MS + rtt).then(|| Cause::NothingArrives { unacknowledged: of_ms(unacknowledged) })
}

/// Answered, as a part of what the loss of media on the way here explains.
const FEW: f64 = 0.4;
const ACKS: u64 = 15;

/// Hardly any of our answers arrive, over the last ticks.
pub(super) fn few(c: &mut Course) -> Option<Cause> {
    let r = c.up()?;
    let (acks, answered) = (c.sum(2, |t| t.acks), c.sum(2, |t| t.answered));
    let media = r.tick.data_silent_ms? < HEARD;
    let few = acks >= ACKS && (answered as f64) < FEW * (1.0 - c.lost_share(2)) * acks as f64;
    let unanswered = of_ms(r.tick.unanswered_ms.unwrap_or(0.0));
    (media && few && c.ticks() > 2).then_some(Cause::AnswersLost { unanswered })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::sample::{course, reading, tick};
    use crate::facts::WayTick;

    #[test]
    fn a_blocked_direction_is_told_from_both_ends() {
        let here = |unanswered, media| {
            lost(&reading(Direction::In, WayTick { unanswered_ms: Some(unanswered), data_silent_ms: Some(media), ..tick() }))
        };
        assert!(matches!(here(1200.0, 2.0), Some(Cause::AnswersLost { .. })));
        assert_eq!((here(100.0, 2.0), here(1200.0, 800.0)), (None, None));
        let there = |ms, silent| lost(&reading(Direction::Out, WayTick { unacknowledged_ms: Some(ms), silent_ms: Some(silent), ..tick() }));
        assert!(matches!(there(900.0, 5.0), Some(Cause::NothingArrives { .. })));
        assert_eq!((there(300.0, 5.0), there(900.0, 2000.0)), (None, None));
    }

    #[test]
    fn a_way_back_that_loses_most_is_told_too() {
        let answered = |answered| few(&mut course(Direction::In, vec![WayTick { answered, ..tick() }; 4])).map(|c| c.name());
        assert_eq!((answered(10), answered(90)), (Some("answers-lost"), None));
    }
}
