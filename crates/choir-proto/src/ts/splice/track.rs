//! Which units of the outgoing streams are open, and up to which time each stream reaches.

use super::limits::BACK_MAX;
use crate::ts::{
    PTS_WRAP, TsPacket,
    index::Raw,
    packet::HEADER,
    pes::PesHeader,
    psi::{Pmt, StreamKind},
    sound::SoundEnd,
    wrapped_distance,
};

/// Bytes of a PES packet of sound that are looked at for its length in time.
const SOUND_MAX: usize = 64 << 10;

/// One stream on its way out. All times are those of the output, 90 kHz.
#[derive(Debug)]
pub(super) struct Track {
    pub pid: u16,
    pub kind: StreamKind,
    open: Option<Open>,
    /// Stuffing has been seen inside a unit, so it does not mark the end of one.
    stuffs_anywhere: bool,
    pub decoded: Decoded,
    /// Latest presentation time so far.
    pub last_pts: Option<u64>,
    /// Pictures are shown in another order than they come.
    reorders: bool,
    /// Where its sound ends.
    pub end: Option<SoundEnd>,
    /// Nothing more of it goes out: another source is about to come on.
    closed: bool,
}

#[derive(Debug)]
struct Open {
    /// Payload bytes still to come, where the PES packet gives its length.
    left: Option<usize>,
    pts: Option<u64>,
    sound: Vec<u8>,
}

impl Track {
    fn new(pid: u16, kind: StreamKind) -> Self {
        Self {
            pid,
            kind,
            open: None,
            stuffs_anywhere: false,
            decoded: Decoded::default(),
            last_pts: None,
            reorders: false,
            end: None,
            closed: false,
        }
    }

    fn follow(&mut self, p: &TsPacket<'_>, header: Option<&PesHeader>) {
        let Some(payload) = p.payload else { return };
        if p.unit_start {
            self.finish();
            let Some(header) = header else { return };
            self.note_times(header);
            self.open = Some(Open { left: header.payload_bytes, pts: header.pts, sound: Vec::new() });
            self.add(payload.get(header.header_bytes..).unwrap_or_default());
        } else {
            self.follow_payload(payload);
        }
        let stuffed = p.stuffed() && !self.stuffs_anywhere;
        if self.open.as_ref().is_some_and(|o| o.left.map_or(stuffed, |left| left == 0)) {
            self.finish();
        }
    }

    /// The payloads of plain packets.
    fn follow_plain(&mut self, packets: &[Raw]) {
        // Of pictures that do not say how long they are there is nothing to be followed.
        let counts = |open: &Open| open.left.is_some() || self.kind.is_audio();
        if self.open.as_ref().is_none_or(counts) {
            packets.iter().for_each(|raw| self.follow_payload(&raw[HEADER..]));
        }
    }

    /// More of a unit.
    fn follow_payload(&mut self, payload: &[u8]) {
        if self.open.is_none() {
            self.stuffs_anywhere |= !payload.is_empty();
            return;
        }
        self.add(payload);
        if self.open.as_ref().is_some_and(|o| o.left == Some(0)) {
            self.finish();
        }
    }

    fn add(&mut self, payload: &[u8]) {
        let is_sound = self.kind.is_audio();
        let Some(open) = &mut self.open else { return };
        open.left = open.left.map(|left| left.saturating_sub(payload.len()));
        if is_sound && open.sound.len() + payload.len() <= SOUND_MAX {
            open.sound.extend_from_slice(payload);
        }
    }

    fn note_times(&mut self, header: &PesHeader) {
        let Some(pts) = header.pts else { return };
        match self.last_pts {
            Some(last) if (-BACK_MAX..0).contains(&wrapped_distance(pts, last, PTS_WRAP)) => self.reorders = true,
            _ => {
                if self.kind.is_audio() {
                    // For sound whose length its bytes do not tell: as long as the last unit.
                    let at = |last| (pts + step(pts, last)) % PTS_WRAP;
                    self.end = self.last_pts.map(|last| SoundEnd { at: at(last), ..SoundEnd::default() });
                }
                self.last_pts = Some(pts);
            }
        }
        self.decoded.note(header.dts.unwrap_or(pts));
    }

    fn finish(&mut self) {
        let Some(open) = self.open.take() else { return };
        if let Some(end) = open.pts.and_then(|pts| SoundEnd::of(self.kind, pts, &open.sound)) {
            self.end = Some(end);
        }
    }

    /// Whether this packet, whose time stamps will be shifted by `shift`, still belongs to what was
    /// open when another source asked to come on.
    fn still_open(&mut self, p: &TsPacket<'_>, shift: u64) -> bool {
        if !self.closed && p.unit_start && p.payload.is_some() {
            let pts = p.payload.and_then(PesHeader::parse).and_then(|h| h.pts);
            let ahead = pts.zip(self.last_pts).is_none_or(|(pts, last)| wrapped_distance(pts + shift, last, PTS_WRAP) > 0);
            // A picture that is shown before one that has gone out belongs to it.
            self.closed = !self.reorders || ahead;
        }
        !self.closed
    }

    fn close_if_done(&mut self) {
        self.closed |= self.open.is_none() && !self.reorders;
    }
}

/// When the units of a stream are decoded.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Decoded {
    /// The last one.
    pub last: Option<u64>,
    /// From one to the next.
    pub step: Option<u64>,
}

impl Decoded {
    pub fn note(&mut self, dts: u64) {
        if let Some(last) = self.last.replace(dts) {
            self.step = Some(step(dts, last)).filter(|s| *s > 0);
        }
    }
}

/// From one unit to the next; nothing for what cannot be one.
fn step(pts: u64, last: u64) -> u64 {
    let step = wrapped_distance(pts, last, PTS_WRAP);
    if (0..BACK_MAX).contains(&step) { step as u64 } else { 0 }
}

/// The streams of pictures and sound of what is on.
#[derive(Debug, Default)]
pub(super) struct Tracks(Vec<Track>);

impl Tracks {
    /// Takes the streams of a table; known ones are kept.
    pub fn set(&mut self, pmt: &Pmt) {
        let media = |kind: StreamKind| kind.is_video() || kind.is_audio();
        let wanted = pmt.streams.iter().filter(|s| media(s.kind));
        if wanted.clone().map(|s| (s.pid, s.kind)).eq(self.0.iter().map(|t| (t.pid, t.kind))) {
            return;
        }
        let mut old = std::mem::take(&mut self.0);
        let keep = |pid, kind| old.iter().position(|t| t.pid == pid && t.kind == kind).map(|i| old.swap_remove(i));
        let mut keep = keep;
        self.0 = wanted.map(|s| keep(s.pid, s.kind).unwrap_or_else(|| Track::new(s.pid, s.kind))).collect();
    }

    pub fn video(&self) -> Option<&Track> {
        self.0.iter().find(|t| t.kind.is_video())
    }

    /// Pictures are shown in another order than they come.
    pub fn reorders(&self) -> bool {
        self.0.iter().any(|t| t.reorders)
    }

    /// Its streams of sound, in table order.
    pub fn sounds(&self) -> impl Iterator<Item = &Track> {
        self.0.iter().filter(|t| t.kind.is_audio())
    }

    /// Until sound of its own goes out, each stream ends where the one at its place before did.
    pub fn inherit(&mut self, old: &Self) {
        let sounds = self.0.iter_mut().filter(|t| t.kind.is_audio());
        sounds.zip(old.sounds()).for_each(|(new, old)| new.end.clone_from(&old.end));
    }

    /// Takes over how far apart a source's pictures were before it came on.
    pub fn expect_step(&mut self, step: Option<u64>) {
        if let Some(video) = self.0.iter_mut().find(|t| t.kind.is_video()) {
            video.decoded.step = step;
        }
    }

    /// Looks at a packet that goes out as it came, and at the plain ones behind it.
    pub fn follow(&mut self, p: &TsPacket<'_>, header: Option<&PesHeader>, more: &[Raw]) {
        if let Some(track) = self.0.iter_mut().find(|t| t.pid == p.pid) {
            track.follow(p, header);
            track.follow_plain(more);
        }
    }

    /// Looks at a packet that goes out rewritten.
    pub fn follow_written(&mut self, p: &TsPacket<'_>) {
        let header = p.payload.filter(|_| p.unit_start).and_then(PesHeader::parse);
        self.follow(p, header.as_ref(), &[]);
    }

    /// From now on only what is open goes out. Sound goes on until the pictures have ended.
    pub fn begin_close(&mut self) {
        self.0.iter_mut().filter(|t| t.kind.is_video()).for_each(Track::close_if_done);
        if self.pictures_closed() {
            self.0.iter_mut().for_each(Track::close_if_done);
        }
    }

    fn pictures_closed(&self) -> bool {
        self.0.iter().all(|t| t.closed || !t.kind.is_video())
    }

    pub fn still_open(&mut self, p: &TsPacket<'_>, shift: u64) -> bool {
        let pictures_closed = self.pictures_closed();
        let Some(track) = self.0.iter_mut().find(|t| t.pid == p.pid) else { return false };
        (track.kind.is_audio() && !pictures_closed) || track.still_open(p, shift)
    }

    /// PES packets that say how long they are, and are not: PID and bytes to come.
    pub fn unfinished(&self) -> impl Iterator<Item = (u16, usize)> {
        self.0.iter().filter_map(|t| Some((t.pid, t.open.as_ref()?.left.filter(|left| *left > 0)?)))
    }

    /// True when every unit has ended.
    pub fn all_closed(&mut self) -> bool {
        self.begin_close();
        self.0.iter().all(|t| t.closed)
    }
}
