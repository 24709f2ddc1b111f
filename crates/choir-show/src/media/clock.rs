//! The clock of a transport stream whose units are put together here: it runs on by itself, ahead
//! of decoding, and is set anew where times have jumped.

use choir_proto::ts::{PTS_WRAP, wrapped_distance};

/// Clock before decoding (200 ms, 90 kHz), and the least and most before it is set anew.
const AHEAD: u64 = 18_000;
const AHEAD_LEAST: i64 = 1800;
const AHEAD_MOST: i64 = 180_000;

/// When it was set, µs, and to what, 27 MHz.
#[derive(Debug, Default)]
pub(crate) struct OwnClock(Option<(i64, u64)>);

impl OwnClock {
    /// The clock (27 MHz) as a unit goes out at `now` that is decoded at `time`, and whether it has
    /// jumped. Pictures alone can set it anew.
    pub fn tick(&mut self, now: i64, time: u64, is_video: bool) -> (u64, bool) {
        let ahead = |clock: u64| wrapped_distance(time, clock / 300 % PTS_WRAP, PTS_WRAP);
        let running = self.0.map(|(since, clock)| clock + ((now - since).max(0) * 27) as u64);
        let jump = running.is_some_and(|clock| !(AHEAD_LEAST..=AHEAD_MOST).contains(&ahead(clock)) && is_video);
        let clock = match running.filter(|_| !jump) {
            Some(clock) => clock,
            None => {
                let clock = (time + PTS_WRAP - AHEAD) % PTS_WRAP * 300;
                self.0 = Some((now, clock));
                clock
            }
        };
        (clock, jump)
    }
}
