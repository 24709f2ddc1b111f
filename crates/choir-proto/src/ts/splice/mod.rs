//! Joins several transport streams into one that never jumps. While nothing has been cut, bytes
//! pass untouched and uncopied.
//!
//! ```text
//!            wanted                keyframe of the wanted source
//!   on air ───────────► waiting ──────────────────────────────► closing ──► on air
//!     ▲                    │ wanted no longer                      │ units of the old source end,
//!     └────────────────────┘                                       │ or it is silent, or CLOSE_MAX passes
//! ```
//!
//! A take waits for a keyframe as long as it has to; it is never cut in elsewhere. While closing,
//! the old source's open units are completed and the new source is kept back. Its clock goes on
//! from the old one's. Its time stamps keep their distance to that clock, unless pictures would go
//! back in time: then the distance grows by what is missing.

pub(crate) mod limits;
mod output;
mod preroll;
mod sound;
mod track;
mod waiting;

use super::{
    PTS_WRAP, Piece, TS_PACKET, TsPacket,
    index::{Indexed, Raw},
    programme::Programme,
    sound::SoundEnd,
    wrapped_distance,
};
use bytes::{Bytes, BytesMut};
use limits::{CLOSE_MAX_US, SILENT_US};
use output::Output;
pub use preroll::Preroll;
use sound::{Kept, Trim};
use track::Tracks;
use waiting::{Entry, Waiting};

/// Most that time stamps are moved away from the clock (500 ms). Beyond, the clock jumps too, and
/// says so: a decoder need not keep more than a second (ISO 13818-1, 2.4.2.7).
const EXTRA_MAX: i64 = 45_000;

/// Names one source: a line, and which of its sessions (a source that restarts is another one).
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SourceKey {
    /// Which line.
    pub line: u32,
    /// Which connection of it. Later ones have greater numbers.
    pub session: u32,
}

impl SourceKey {
    /// Whether this source may come on after what is on: it is wanted, or a later start of the same
    /// line, which stays on while the wanted one waits for its keyframe.
    pub(crate) fn may_follow(self, on: Self, wanted: Option<u32>) -> bool {
        if self.line == on.line { self.session > on.session } else { Some(self.line) == wanted }
    }
}

/// A cut that was made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cut {
    /// What is on now.
    pub to: SourceKey,
}

/// The source that is on.
#[derive(Debug)]
struct OnAir {
    key: SourceKey,
    programme: Programme,
    tracks: Tracks,
    /// Streams of sound that have not reached the end of the old source's.
    trims: Vec<Trim>,
    last_seen: i64,
}

/// A source that may come on next: of the wanted line, or a new start of the line that is on.
#[derive(Debug)]
struct Next {
    key: SourceKey,
    source: Waiting,
    /// Since when the old source has been closing.
    closing: Option<i64>,
}

/// One output made of one source at a time.
#[derive(Debug, Default)]
pub struct Splicer {
    on: Option<OnAir>,
    /// At most one for each of the two lines, and at most one of them closing.
    next: Vec<Next>,
    out: Output,
    /// Something has been cut: packets are rewritten.
    cut: bool,
}

impl Splicer {
    /// A splicer with nothing on.
    #[must_use]
    pub fn new() -> Self {
        Self::default()
    }

    /// A take that is no longer wanted ends its waiting, unless the old source is already closing
    /// for it.
    fn forget_unwanted(&mut self, wanted: Option<u32>) {
        let on = self.on();
        self.next.retain(|n| n.closing.is_some() || on.is_some_and(|on| n.key.may_follow(on, wanted)));
    }

    fn closing(&mut self) -> Option<&mut Next> {
        self.next.iter_mut().find(|n| n.closing.is_some())
    }

    /// What is on.
    #[must_use]
    pub fn on(&self) -> Option<SourceKey> {
        self.on.as_ref().map(|o| o.key)
    }

    /// This line is on, or kept back until it is: what comes of it must not be left out.
    #[must_use]
    pub fn holds(&self, line: u32) -> bool {
        self.on.iter().map(|o| o.key).chain(self.next.iter().map(|n| n.key)).any(|key| key.line == line)
    }

    /// Takes what came of a source at `now` (µs on a clock that never steps); gives what goes out,
    /// and the cut if one was made in it. `preroll` is what the source sent before.
    ///
    /// The line that is `wanted` comes on at its next keyframe, the first one at once. Sources that
    /// are neither on nor wanted give nothing.
    pub fn push(&mut self, wanted: Option<u32>, key: SourceKey, now: i64, piece: &Piece<'_>, preroll: &Preroll) -> (Bytes, Option<Cut>) {
        if !piece.is_packets() && !self.passes_other(wanted, key) {
            return (Bytes::new(), None);
        }
        self.forget_unwanted(wanted);
        let Some(on) = &mut self.on else {
            if Some(key.line) != wanted {
                return (Bytes::new(), None);
            }
            // Nothing to keep in step with: from the first byte, as it comes.
            let (programme, tracks) = (Programme::default(), Tracks::default());
            self.on = Some(OnAir { key, programme, tracks, trims: Vec::new(), last_seen: now });
            self.watch(now, piece);
            return (piece.bytes().clone(), Some(Cut { to: key }));
        };
        let mut out = BytesMut::new();
        if on.key == key {
            on.last_seen = now;
            if self.next.iter().any(|n| n.closing.is_some()) {
                self.close_with(now, piece, &mut out);
            } else if !self.cut {
                self.watch(now, piece);
                return (piece.bytes().clone(), None);
            } else {
                out.reserve(piece.bytes().len());
                for i in piece.packets() {
                    self.learn(&i);
                    self.write(now, &i.packet, i.raw, &mut out);
                }
            }
        } else if !self.wait(wanted, key, now, piece, preroll) {
            return (Bytes::new(), None);
        }
        let cut = self.cut_if_ready(wanted, now, &mut out);
        (out.freeze(), cut)
    }

    /// Other bytes than packets go through as they come, as long as nothing is put in their place.
    fn passes_other(&self, wanted: Option<u32>, key: SourceKey) -> bool {
        !self.cut && self.on().map_or(Some(key.line) == wanted, |on| on == key)
    }

    /// Takes packets of a source that is not on; false when they move nothing on.
    fn wait(&mut self, wanted: Option<u32>, key: SourceKey, now: i64, piece: &Piece<'_>, preroll: &Preroll) -> bool {
        let Some(on) = self.on() else { return false };
        let place = self.next.iter().position(|n| n.key == key);
        let place = match place {
            Some(place) => place,
            None if key.may_follow(on, wanted) && self.closing().is_none_or(|n| n.key.line != key.line) => {
                self.next.retain(|n| n.key.line != key.line);
                self.next.push(Next { key, source: Waiting::after(preroll.clone()), closing: None });
                self.next.len() - 1
            }
            // A closing source may be silent: whoever comes moves the time on.
            None => return self.closing().is_some(),
        };
        for i in piece.packets() {
            self.next[place].source.push(now, &i);
        }
        self.close_for_next(now);
        true
    }

    /// Once a source has its keyframe, what is on is closed for it.
    fn close_for_next(&mut self, now: i64) {
        if self.closing().is_some() {
            return;
        }
        let (Some(on), Some(next)) = (&mut self.on, self.next.iter_mut().find(|n| n.source.entry.is_some())) else { return };
        let Some(entry) = next.source.entry else { return };
        let follows = next.key.line == on.key.line;
        let (ticks, extra) = self.out.place(&on.tracks, &entry, follows);
        let shift = (ticks + extra.max(0) as u64) % PTS_WRAP;
        let dead = follows || now - on.last_seen > SILENT_US;
        if dead || next.source.sound_reaches(&on.tracks, shift) || !next.source.refuse(now) {
            next.closing = Some(now);
            self.out.close();
            on.tracks.begin_close();
        }
    }

    /// Packets of the old source while it closes: what is open is completed.
    fn close_with(&mut self, now: i64, piece: &Piece<'_>, out: &mut BytesMut) {
        let shift = self.out.shift();
        for i in piece.packets() {
            self.learn(&i);
            let Some(on) = &mut self.on else { return };
            let p = &i.packet;
            let clock_only = p.payload.is_none() && on.programme.has_clock(p.pid);
            if clock_only || on.programme.is_table(p.pid) || on.tracks.still_open(p, shift) {
                self.write(now, p, i.raw, out);
            }
        }
    }

    fn cut_if_ready(&mut self, wanted: Option<u32>, now: i64, out: &mut BytesMut) -> Option<Cut> {
        let on = self.on.as_mut()?;
        let place = self.next.iter().position(|n| n.closing.is_some())?;
        let next = &self.next[place];
        let (since, entry) = (next.closing?, next.source.entry?);
        // An earlier session of the same line has ended.
        let over = on.key.line == next.key.line || now - on.last_seen > SILENT_US || now - since > CLOSE_MAX_US;
        if !over && !next.source.is_full() && !on.tracks.all_closed() {
            return None;
        }
        let Next { key, source, .. } = self.next.swap_remove(place);
        let old = self.on.take()?;
        // A source that died within a unit: zeros are what may follow a picture (H.264, B.1), and
        // the length becomes true.
        old.tracks.unfinished().for_each(|(pid, left)| self.out.fill(pid, left, out));
        self.begin(&old.tracks, &entry, old.key.line == key.line);
        let mut tracks = Tracks::default();
        if let Some(pmt) = &source.preroll.programme.pmt {
            tracks.set(pmt);
        }
        tracks.inherit(&old.tracks);
        tracks.expect_step(source.preroll.pictures.step);
        let trims = self.trims(now, &old.tracks, &tracks);
        let tables = source.preroll.tables();
        if let Some(pmt) = &source.preroll.programme.pmt {
            self.out.write_reference(now, pmt.pcr_pid, entry.clock, out);
        }
        self.on = Some(OnAir { key, programme: source.preroll.programme, tracks, trims, last_seen: now });
        let sound = source.preroll.sound.iter().map(|(_, raw)| raw);
        for raw in tables.iter().flatten().chain(sound).chain(&source.held) {
            if let Some(p) = TsPacket::parse(raw) {
                self.write(now, &p, raw, out);
            }
        }
        self.forget_unwanted(wanted);
        self.close_for_next(now);
        Some(Cut { to: key })
    }

    /// Sets clock and time stamps of the output for a source that begins at `entry`.
    fn begin(&mut self, old: &Tracks, entry: &Entry, follows: bool) {
        let (ticks, extra) = self.out.place(old, entry, follows);
        let (ticks, extra, jumps) = match extra.max(0) {
            far if far > EXTRA_MAX => ((ticks + far as u64) % PTS_WRAP, 0, true),
            near => (ticks, near as u64, false),
        };
        self.out.begin(ticks * 300, extra, jumps);
        self.cut = true;
    }

    /// Each stream of sound goes on where the old source's stream at its place ends, if that is
    /// still to be heard.
    fn trims(&self, now: i64, old: &Tracks, new: &Tracks) -> Vec<Trim> {
        let clock = self.out.clock_at(now).map(|c| c / 300);
        let now = clock.map(|at| SoundEnd { at, ..SoundEnd::default() });
        // What has ended long ago is followed by what is heard now.
        let floor = |end: Option<&SoundEnd>| {
            let heard = end.filter(|end| clock.is_none_or(|now| wrapped_distance(end.at, now, PTS_WRAP) >= 0));
            heard.or(now.as_ref()).cloned()
        };
        let ends = old.sounds().map(|t| t.end.as_ref()).chain(std::iter::repeat(None));
        new.sounds().zip(ends).filter_map(|(t, end)| Some(Trim::new(t.pid, t.kind, floor(end)?))).collect()
    }

    /// Passing untouched: only what a later cut needs is noted.
    fn watch(&mut self, now: i64, piece: &Piece<'_>) {
        for i in piece.runs() {
            self.learn(i);
            let Some(on) = &mut self.on else { return };
            self.out.watch(now, &i.packet, i.clock.is_some(), on.programme.is_table(i.packet.pid));
            self.out.watch_plain(i.packet.pid, i.more);
            on.tracks.follow(&i.packet, i.header.as_ref(), i.more);
        }
    }

    /// Takes over what a table of what is on says.
    fn learn(&mut self, i: &Indexed<'_>) {
        let (Some(on), Some(programme)) = (&mut self.on, &i.programme) else { return };
        on.programme = programme.clone();
        if let Some(pmt) = &on.programme.pmt {
            on.tracks.set(pmt);
        }
    }

    /// Writes one packet of what is on.
    fn write(&mut self, now: i64, p: &TsPacket<'_>, raw: &Raw, out: &mut BytesMut) {
        let Some(on) = &mut self.on else { return };
        let Some(place) = on.trims.iter().position(|t| t.pid == p.pid) else { return self.write_now(now, p, raw, out) };
        let clock = self.out.clock_at(now).map(|c| c / 300);
        match on.trims[place].push(p, raw, self.out.shift(), clock) {
            Kept::Nothing => {}
            Kept::All { silence, packets } => {
                on.trims.swap_remove(place);
                if let Some(first) = packets.first().and_then(|raw| TsPacket::parse(raw)) {
                    let counter = first.continuity.wrapping_sub(1) & 15;
                    silence.iter().for_each(|pes| self.write_pes(p.pid, pes, counter, out));
                }
                for raw in &packets {
                    if let Some(p) = TsPacket::parse(raw) {
                        self.write_now(now, &p, raw, out);
                    }
                }
            }
            Kept::Rest { made, counter, then } => {
                on.trims.swap_remove(place);
                made.iter().for_each(|pes| self.write_pes(p.pid, pes, counter, out));
                if let Some((p, raw)) = then.as_ref().and_then(|raw| Some((TsPacket::parse(raw)?, raw))) {
                    self.write_now(now, &p, raw, out);
                }
            }
        }
    }

    /// Writes a PES packet of what is on; the source goes on behind `counter`.
    fn write_pes(&mut self, pid: u16, pes: &[u8], counter: u8, out: &mut BytesMut) {
        let Some(on) = &mut self.on else { return };
        let from = out.len();
        self.out.write_pes(pid, pes, counter, out);
        packets(&out[from..]).for_each(|p| on.tracks.follow_written(&p));
    }

    fn write_now(&mut self, now: i64, p: &TsPacket<'_>, raw: &Raw, out: &mut BytesMut) {
        let Some(on) = &mut self.on else { return };
        if !self.out.begins(p) {
            return;
        }
        let from = out.len();
        self.out.write(now, raw, p, on.programme.has_clock(p.pid), on.programme.is_table(p.pid), out);
        if let Some(written) = out.get(from..).and_then(TsPacket::parse) {
            on.tracks.follow_written(&written);
        }
    }
}

/// The packets in whole packets' bytes, without damaged ones.
fn packets(data: &[u8]) -> impl Iterator<Item = TsPacket<'_>> {
    data.as_chunks::<TS_PACKET>().0.iter().filter_map(|raw| TsPacket::parse(raw))
}
