//! What whoever takes pictures measures of them: how many come, which are missing by the numbers
//! drawn into them, how late they are.

use choir_core::view::InputView;
use choir_proto::ts::StreamKind;
use std::{
    collections::VecDeque,
    time::{Duration, Instant},
};

/// Delays that the median is taken of: some seconds.
const DELAYS: usize = 200;
/// Frame numbers that jump further than this are another source, not missing frames.
const JUMP: u64 = 1000;

/// What was measured so far.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Measured {
    frames: u64,
    missing: u64,
    keyframes: u64,
    last_frame: Option<u64>,
    delays: VecDeque<f64>,
    bytes: u64,
    rate_bps: u64,
    /// When the rate was last worked out, and the bytes then.
    rate_of: Option<(Instant, u64)>,
}

/// One picture.
pub(crate) struct Picture<'a> {
    pub kind: StreamKind,
    pub keyframe: bool,
    pub data: &'a [u8],
    /// When it came, microseconds since 1970.
    pub at_us: i64,
}

impl Measured {
    /// Its first rate is that since `begin`.
    pub fn since(begin: Instant) -> Self {
        Self { rate_of: Some((begin, 0)), ..Self::default() }
    }

    /// Bytes have come.
    pub fn bytes(&mut self, count: usize) {
        self.bytes += count as u64;
        let (since, from) = *self.rate_of.get_or_insert((Instant::now(), self.bytes));
        let passed = since.elapsed();
        if passed >= Duration::from_secs(1) {
            self.rate_bps = ((self.bytes - from) as f64 * 8.0 / passed.as_secs_f64()) as u64;
            self.rate_of = Some((Instant::now(), self.bytes));
        }
    }

    /// A picture has come. A programme (`mixed`) goes on with another camera's numbers, at a
    /// keyframe.
    pub fn picture(&mut self, picture: &Picture<'_>, mixed: bool) {
        self.frames += 1;
        self.keyframes += u64::from(picture.keyframe);
        let Some(stamp) = picture.kind.find_stamp(picture.data) else { return };
        if let (Some(last), Some(now)) = (self.last_frame, stamp.frame) {
            let gap = now.saturating_sub(last + 1);
            if gap < JUMP && !(mixed && picture.keyframe) {
                self.missing += gap;
            }
        }
        self.last_frame = stamp.frame;
        if self.delays.len() == DELAYS {
            self.delays.pop_front();
        }
        self.delays.push_back((picture.at_us - stamp.unix_us as i64) as f64 / 1000.0);
    }

    /// What comes next begins with a number of its own.
    pub fn begin_anew(&mut self) {
        self.last_frame = None;
    }

    /// As an input of this name.
    pub fn view(&self, name: &str, size: Option<(u32, u32)>) -> InputView {
        let mut delays: Vec<f64> = self.delays.iter().copied().collect();
        delays.sort_by(f64::total_cmp);
        InputView {
            name: name.into(),
            frames: self.frames,
            frames_missing: self.missing,
            keyframes: self.keyframes,
            delay_ms: delays.first().zip(delays.last()).map(|(a, z)| (*a, delays[delays.len() / 2], *z)),
            size,
            rate_bps: self.rate_bps,
            tally: None,
        }
    }
}
