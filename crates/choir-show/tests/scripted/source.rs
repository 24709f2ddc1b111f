//! A line of the scripted show: a camera behind a bad SRT path, or a clip that repeats.

use bytes::Bytes;
use choir_core::id::LineId;
use choir_path::{Faults, Path};
use choir_proto::{
    audio::aac_silence,
    srt::{ConnId, LinkConfig},
    ts::{TS_PACKET, TsWriter, Unit, WriterConfig},
};
use choir_rig::pair::{A, B, Pair, ms};
use choir_show::media::LineMedia;
use std::{sync::Arc, time::Duration};

/// From picture to picture.
pub const FRAME: Duration = ms(40);
/// Pictures from keyframe to keyframe.
pub const GOP: u64 = 10;
/// A payload of SRT: seven packets.
const PAYLOAD: usize = 7 * TS_PACKET;
/// A caller whom nobody answers tries again.
const RETRY: Duration = ms(1000);
const SETS: &[u8] = &[0, 0, 0, 1, 0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb, 0, 0, 0, 1, 0x68, 0xEE, 0x3C, 0x80];

/// What is done to a camera.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Trouble {
    /// Nothing passes on its path.
    Cut(Duration),
    /// Its path loses this share of all packets, of a hundred.
    Loss(Duration, u32),
    /// Its path takes longer.
    Delay(Duration, Duration),
    /// It is without power, and starts anew.
    Restart(Duration),
}

/// What came of it: when, session and bytes.
pub type Came = (Duration, u32, Bytes);

/// Where its pictures go.
enum Way {
    Srt(Box<Pair>),
    File,
}

pub struct Source {
    pub id: LineId,
    pub media: Arc<LineMedia>,
    way: Way,
    /// When its present connection's time began.
    zero: Duration,
    session: u32,
    conn: Option<ConnId>,
    called: Duration,
    writer: TsWriter,
    picture: u64,
    /// Ticks of sound that were written, 90 kHz.
    sound: u64,
    next: Duration,
    /// What is wrong with it, and until when.
    trouble: Option<(Duration, Trouble)>,
    seed: u64,
    /// When something came last.
    pub last: Option<Duration>,
    /// Packets that did not come in time.
    pub skipped: u64,
}

fn faults(loss: f64, delay: Duration) -> Faults {
    Faults { delay, jitter: ms(4), loss, burst: 2.0, ..Faults::default() }
}

impl Source {
    pub fn camera(id: u32, seed: u64) -> Self {
        let mut camera = Self::clip(id);
        camera.seed = seed;
        camera.power_on(Duration::ZERO);
        camera
    }

    pub fn clip(id: u32) -> Self {
        let id = LineId(id);
        Self {
            id,
            media: LineMedia::new(id),
            way: Way::File,
            zero: Duration::ZERO,
            session: 1,
            conn: None,
            called: Duration::ZERO,
            writer: TsWriter::new(WriterConfig::default()),
            picture: 0,
            sound: 0,
            next: ms(u64::from(id.0) * 13),
            trouble: None,
            seed: 0,
            last: None,
            skipped: 0,
        }
    }

    fn power_on(&mut self, now: Duration) {
        self.seed += 7919;
        let mut pair = Pair::with_clocks(self.seed, faults(0.002, ms(10)), faults(0.002, ms(10)), [self.seed << 20, 5]);
        pair.call(LinkConfig::default(), LinkConfig::default());
        (self.way, self.zero, self.called, self.conn) = (Way::Srt(Box::new(pair)), now, now, None);
        self.writer = TsWriter::new(WriterConfig::default());
        (self.picture, self.sound, self.next) = (0, 0, now + FRAME);
    }

    pub fn is_clip(&self) -> bool {
        matches!(self.way, Way::File)
    }

    pub fn is_troubled(&self) -> bool {
        self.trouble.is_some()
    }

    pub fn trouble(&mut self, now: Duration, trouble: Trouble) {
        let Way::Srt(pair) = &mut self.way else { return };
        let path = |loss, delay| [1, 2].map(|n| Path::new(faults(loss, delay), self.seed + n));
        let lasts = match trouble {
            Trouble::Cut(lasts) => {
                pair.cut = true;
                lasts
            }
            Trouble::Loss(lasts, percent) => {
                pair.paths = path(f64::from(percent) / 100.0, ms(10));
                lasts
            }
            Trouble::Delay(lasts, delay) => {
                pair.paths = path(0.002, delay);
                lasts
            }
            Trouble::Restart(lasts) => {
                pair.dead[A] = true;
                lasts
            }
        };
        self.trouble = Some((now + lasts, trouble));
    }

    /// Goes on to this time; gives what came.
    pub fn run(&mut self, now: Duration, came: &mut Vec<(usize, Came)>) {
        if let Some((_, trouble)) = self.trouble.take_if(|(until, _)| *until <= now) {
            self.mend(now, trouble);
        }
        let number = self.id.0 as usize;
        while self.next <= now {
            let (at, picture) = (self.next, self.encode());
            self.next += FRAME;
            match &mut self.way {
                Way::File => came.push((number, (at, self.session, picture.into()))),
                Way::Srt(pair) => {
                    pair.run_until(at - self.zero);
                    let Some(conn) = pair.up(A).filter(|_| !pair.dead[A]) else { continue };
                    for payload in picture.chunks(PAYLOAD) {
                        pair.send(A, conn, Bytes::copy_from_slice(payload));
                    }
                }
            }
        }
        let Way::Srt(pair) = &mut self.way else { return };
        pair.run_until(now - self.zero);
        if pair.up(A).is_none() && now - self.called >= RETRY {
            self.called = now;
            pair.call_only(LinkConfig::default());
        }
        for (at, delivery) in pair.seen[B].delivered.drain(..) {
            if self.conn.replace(delivery.conn) != Some(delivery.conn) {
                self.session += 1;
            }
            self.skipped += u64::from(delivery.skipped);
            came.push((number, (self.zero + at, self.session, delivery.payload)));
        }
        for seen in &mut pair.seen {
            (seen.events, seen.arrivals) = Default::default();
        }
    }

    fn mend(&mut self, now: Duration, trouble: Trouble) {
        let Way::Srt(pair) = &mut self.way else { return };
        match trouble {
            Trouble::Cut(_) => pair.cut = false,
            Trouble::Loss(..) | Trouble::Delay(..) => pair.paths = [1, 2].map(|n| Path::new(faults(0.002, ms(10)), self.seed + n)),
            Trouble::Restart(_) => self.power_on(now),
        }
    }

    /// The next picture, with the sound beside it.
    fn encode(&mut self) -> Vec<u8> {
        let (n, mut out) = (self.picture, Vec::new());
        self.picture += 1;
        let keyframe = n.is_multiple_of(GOP);
        let head = [0, 0, 0, 1, if keyframe { 0x65 } else { 0x41 }, 0x88];
        let picture = [if keyframe { SETS } else { &[] }, &head, &vec![0xA5; if keyframe { 1800 } else { 500 }]].concat();
        // Times of another line begin elsewhere; those of one that starts anew begin anew.
        let first = 900_000 + u64::from(self.id.0) * 77_777_777;
        let pts = first + n * 3600;
        self.writer.write(&Unit { video: true, pts, dts: Some(pts), keyframe, data: &[&picture] }, &mut out);
        let sound = aac_silence(48_000, 2);
        while self.sound < n * 3600 {
            self.writer.write(&Unit { video: false, pts: first + self.sound, dts: None, keyframe: true, data: &[&sound] }, &mut out);
            self.sound += 1920;
        }
        out
    }
}
