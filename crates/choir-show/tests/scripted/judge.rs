//! Looks at what goes out of a feed as a receiver would: is it legal, is it recorded so that it can
//! be played, and how long was nothing there?

use bytes::Bytes;
use choir_proto::ts::{Origin, Part, SegmentLimit, Segments, TsChecker, TsFault};
use std::{collections::BTreeMap, time::Duration};

/// A pause that somebody would notice.
const PAUSE: Duration = Duration::from_millis(100);
/// What a pause or lost packets leave behind in a stream, whoever joined it.
const OF_PAUSES: [TsFault; 5] = [TsFault::PcrInterval, TsFault::PcrJump, TsFault::DtsJump, TsFault::TableInterval, TsFault::SoundGap];
const OF_LOSS: [TsFault; 4] = [TsFault::Continuity, TsFault::PesLength, TsFault::AdtsLength, TsFault::PesHeader];

pub struct Judge {
    whole: TsChecker,
    segments: Segments,
    segment: Option<TsChecker>,
    last: Option<Duration>,
    /// Changes of who is to be on since that line was on.
    moves: u32,
    /// How long each pause was, and how many changes it had.
    pub pauses: Vec<(Duration, u32)>,
    pub segments_read: u64,
    /// Faults that nothing explains, and how often.
    pub faults: BTreeMap<String, u64>,
    pub bytes: u64,
}

impl Judge {
    pub fn new() -> Self {
        let limit = SegmentLimit { time_us: 20_000_000, bytes: u64::MAX };
        Self {
            whole: TsChecker::new(Origin::Joined),
            segments: Segments::new(limit),
            segment: None,
            last: None,
            moves: 0,
            pauses: Vec::new(),
            segments_read: 0,
            faults: BTreeMap::new(),
            bytes: 0,
        }
    }

    /// Another line is to be on.
    pub fn moved(&mut self) {
        self.moves += 1;
    }

    /// Something went out; `settled`: of the line that is to be on.
    pub fn given(&mut self, at: Duration, out: &Bytes, settled: bool) {
        let pause = self.last.map_or(Duration::ZERO, |last| at.saturating_sub(last));
        if pause > PAUSE {
            self.pauses.push((pause, self.moves));
        }
        self.last = Some(at);
        if settled {
            self.moves = 0;
        }
        self.bytes += out.len() as u64;
        self.whole.push(out);
        let mut ended = Vec::new();
        let segment = &mut self.segment;
        self.segments.push(at.as_micros() as i64, out, |part| match part {
            Part::Begin(bytes) => {
                let mut next = TsChecker::new(Origin::Start);
                next.push(&bytes);
                ended.extend(segment.replace(next));
            }
            Part::More(bytes) => segment.iter_mut().for_each(|s| s.push(&bytes)),
        });
        for segment in ended {
            self.segments_read += 1;
            self.note("segment", segment);
        }
    }

    /// Takes in what is wrong with a stream that has ended.
    fn note(&mut self, what: &str, mut checker: TsChecker) {
        checker.finish(false);
        let odd = |f: &TsFault| !OF_PAUSES.contains(f) && !OF_LOSS.contains(f);
        for f in checker.findings().iter().filter(|f| !f.minor && odd(&f.fault)) {
            *self.faults.entry(format!("{what}: {:?}, worst {}", f.fault, f.worst)).or_default() += f.count;
        }
    }

    pub fn end(&mut self) {
        let whole = std::mem::replace(&mut self.whole, TsChecker::new(Origin::Joined));
        self.note("whole", whole);
    }
}
