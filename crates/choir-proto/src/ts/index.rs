//! A source's transport stream, parsed once for everybody who needs to know what is in it: tables,
//! clock references, unit starts, keyframes. Meters, splicers and taps read the same [`Piece`].

use super::{
    Aligned, TS_PACKET, TsPacket,
    look::{Look, Picture},
    packet::{NULL_PID, SYNC},
    pes::PesHeader,
    programme::Programme,
    psi::{Pmt, SectionReader, StreamKind, first_program},
};
use bytes::Bytes;
use smallvec::SmallVec;
use std::{iter, sync::Arc};

const PIDS: usize = 8192;
const NONE: u8 = 0xFF;

pub(super) type Raw = [u8; TS_PACKET];

/// Totals since the start.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct TsCounters {
    /// Packets in sync.
    pub packets: u64,
    /// Of those, null packets.
    pub nulls: u64,
    /// Times the sync byte was lost.
    pub sync_losses: u64,
    /// Packets missing or out of order by their counter.
    pub continuity_errors: u64,
    /// Packets marked as damaged.
    pub transport_errors: u64,
    /// Tables with a wrong checksum.
    pub crc_errors: u64,
}

/// One packet, and what it is to its programme.
#[derive(Debug, Clone)]
pub(super) struct Indexed<'a> {
    pub packet: TsPacket<'a>,
    pub raw: &'a Raw,
    /// The plain packets right behind it, of its PID: nothing but payload of a unit that has begun,
    /// all there by their counters. Most packets of a stream are such.
    pub more: &'a [Raw],
    /// Repeats the packet before it on its PID, as is allowed once (ISO 13818-1, 2.4.3.3).
    pub repeat: bool,
    /// Packets are missing before it on its PID.
    pub gap: bool,
    /// The programme's clock, 27 MHz.
    pub clock: Option<u64>,
    /// The programme, when a table is complete with this packet.
    pub programme: Option<Programme>,
    /// Place in the programme map, and kind.
    pub stream: Option<(usize, StreamKind)>,
    /// Of the unit that begins in it.
    pub header: Option<PesHeader>,
    /// That unit is of the stream by whose units a source can come on: the first of pictures, where
    /// it has any.
    pub may_enter: bool,
    /// With this packet it is known what the picture of its unit is.
    pub picture: Option<Picture>,
}

impl<'a> Indexed<'a> {
    fn new(packet: TsPacket<'a>, raw: &'a Raw) -> Self {
        Self {
            packet,
            raw,
            more: &[],
            repeat: false,
            gap: false,
            clock: None,
            programme: None,
            stream: None,
            header: None,
            may_enter: false,
            picture: None,
        }
    }

    /// The plain ones behind it, as if each had come by itself.
    fn behind(&self) -> impl Iterator<Item = Self> + use<'a> {
        let stream = self.stream;
        self.more.iter().filter_map(move |raw| Some(Self { stream, ..Self::new(TsPacket::parse(raw)?, raw) }))
    }
}

/// What came in one piece, parsed.
#[derive(Debug)]
pub struct Piece<'a> {
    bytes: &'a Bytes,
    runs: SmallVec<[Indexed<'a>; 7]>,
    whole: bool,
}

impl<'a> Piece<'a> {
    /// As it came.
    #[must_use]
    pub const fn bytes(&self) -> &'a Bytes {
        self.bytes
    }

    /// Whole packets; other bytes are none.
    #[must_use]
    pub const fn is_packets(&self) -> bool {
        self.whole
    }

    /// Its packets, without those that cannot be read: each with the plain ones behind it.
    pub(super) fn runs(&self) -> &[Indexed<'a>] {
        &self.runs
    }

    /// Its packets one by one.
    pub(super) fn packets(&self) -> impl Iterator<Item = Indexed<'a>> {
        self.runs.iter().flat_map(|i| iter::once(Indexed { more: &[], ..i.clone() }).chain(i.behind()))
    }
}

/// What is known of one PID, together: each packet asks for both.
#[derive(Debug, Clone, Copy)]
struct Pid {
    /// Place in the programme map.
    place: u8,
    /// Last counter, with bit 4 set after a permitted repeat.
    continuity: u8,
}

/// Parses one start of one source.
#[derive(Debug)]
pub struct Index {
    pat: SectionReader,
    map: SectionReader,
    programme: Programme,
    pids: Box<[Pid; PIDS]>,
    /// Units whose pictures are not known yet, by the place of their stream.
    looks: Vec<(usize, Look)>,
    in_sync: bool,
    counters: TsCounters,
}

impl Default for Index {
    fn default() -> Self {
        Self {
            pat: SectionReader::default(),
            map: SectionReader::default(),
            programme: Programme::default(),
            pids: Box::new([Pid { place: NONE, continuity: NONE }; PIDS]),
            looks: Vec::new(),
            in_sync: false,
            counters: TsCounters::default(),
        }
    }
}

impl Index {
    /// The source begins anew: only the counters go on.
    pub fn restart(&mut self) {
        *self = Self { counters: self.counters(), ..Self::default() };
    }

    /// Totals since the start.
    #[must_use]
    pub fn counters(&self) -> TsCounters {
        TsCounters { crc_errors: self.counters.crc_errors + self.pat.crc_errors + self.map.crc_errors, ..self.counters }
    }

    /// Parses what came next.
    pub fn push<'a>(&mut self, part: &'a Aligned) -> Piece<'a> {
        match part {
            Aligned::Packets(bytes) => {
                self.in_sync = true;
                let mut piece = Piece { bytes, runs: SmallVec::new(), whole: true };
                let mut rest = bytes.as_chunks().0;
                while let Some((raw, behind)) = rest.split_first() {
                    let more = self.packet(raw, behind, &mut piece.runs);
                    rest = behind.get(more..).unwrap_or_default();
                }
                piece
            }
            Aligned::Other(bytes) => {
                self.counters.sync_losses += u64::from(std::mem::take(&mut self.in_sync));
                Piece { bytes, runs: SmallVec::new(), whole: false }
            }
        }
    }

    /// Parses one packet into its place, since what is known of one is too much to be moved about.
    /// Gives how many of those behind it are taken with it.
    fn packet<'a>(&mut self, raw: &'a Raw, behind: &'a [Raw], runs: &mut SmallVec<[Indexed<'a>; 7]>) -> usize {
        self.counters.packets += 1;
        let Some(packet) = TsPacket::parse(raw) else {
            self.counters.transport_errors += 1;
            return 0;
        };
        runs.push(Indexed::new(packet, raw));
        let Some(i) = runs.last_mut() else { return 0 };
        if i.packet.pid == NULL_PID {
            self.counters.nulls += 1;
            return 0;
        }
        if i.packet.error {
            self.counters.transport_errors += 1;
            return 0;
        }
        (i.repeat, i.gap) = self.check_continuity(&i.packet);
        i.clock = i.packet.adaptation.and_then(|a| a.pcr).filter(|_| self.programme.has_clock(i.packet.pid));
        if self.programme.is_table(i.packet.pid) {
            i.programme = i.packet.payload.filter(|_| !i.repeat).and_then(|payload| self.table(&i.packet, payload));
            return 0;
        }
        if let Some((place, stream)) = self.stream_at(i.packet.pid) {
            i.stream = Some((place, stream));
            self.unit(place, stream, i);
        }
        let looks = i.stream.is_some_and(|(place, _)| self.looks.iter().any(|(of, _)| *of == place));
        if i.packet.payload.is_some() && !i.repeat && !looks {
            i.more = self.plain(&i.packet, behind);
        }
        i.more.len()
    }

    /// The plain packets right behind this one, of its PID.
    fn plain<'a>(&mut self, p: &TsPacket<'_>, behind: &'a [Raw]) -> &'a [Raw] {
        let mut last = p.continuity;
        let follows = |raw: &&Raw| {
            let next = (last + 1) & 15;
            let plain = raw[..4] == [SYNC, (p.pid >> 8) as u8, p.pid as u8, 0x10 | next];
            last = if plain { next } else { last };
            plain
        };
        let more = &behind[..behind.iter().take_while(follows).count()];
        self.counters.packets += more.len() as u64;
        self.pids[usize::from(p.pid) % PIDS].continuity = last;
        more
    }

    fn stream_at(&self, pid: u16) -> Option<(usize, StreamKind)> {
        let place = usize::from(self.pids[usize::from(pid) % PIDS].place);
        Some((place, self.programme.pmt.as_ref()?.streams.get(place)?.kind))
    }

    fn check_continuity(&mut self, p: &TsPacket<'_>) -> (bool, bool) {
        if p.payload.is_none() {
            return (false, false);
        }
        let slot = &mut self.pids[usize::from(p.pid) % PIDS].continuity;
        let last = *slot;
        *slot = p.continuity;
        if last == NONE || p.adaptation.is_some_and(|a| a.discontinuity) {
            return (false, false);
        }
        if p.continuity == last & 15 && last & 16 == 0 {
            *slot = last | 16;
            return (true, false);
        }
        let gap = p.continuity != (last & 15).wrapping_add(1) & 15;
        self.counters.continuity_errors += u64::from(gap);
        (false, gap)
    }

    /// Reads a table packet; gives the programme as it is now when a table is complete.
    fn table(&mut self, p: &TsPacket<'_>, payload: &[u8]) -> Option<Programme> {
        if p.pid == 0 {
            let (_, pid) = first_program(&self.pat.push(p.unit_start, payload)?)?;
            self.programme.pmt_pid = Some(pid);
        } else {
            let map = Pmt::parse(&self.map.push(p.unit_start, payload)?)?;
            if self.programme.pmt.as_deref() != Some(&map) {
                self.pids.iter_mut().for_each(|pid| pid.place = NONE);
                for (place, s) in map.streams.iter().enumerate() {
                    self.pids[usize::from(s.pid) % PIDS].place = place as u8;
                }
                self.looks.clear();
                self.programme.pmt = Some(Arc::new(map));
            }
        }
        Some(self.programme.clone())
    }

    /// Notes where units begin, and what their pictures are.
    fn unit(&mut self, place: usize, kind: StreamKind, i: &mut Indexed<'_>) {
        let Some(payload) = i.packet.payload.filter(|_| !i.repeat) else { return };
        let flagged = i.packet.adaptation.is_some_and(|a| a.random_access);
        if i.packet.unit_start {
            // A unit that ended without showing a picture has shown none that could be begun with.
            self.looks.retain(|(of, _)| *of != place);
            i.header = PesHeader::parse(payload);
            let video = self.programme.video();
            i.may_enter = i.header.is_some()
                && match video {
                    Some(first) => first.pid == i.packet.pid,
                    // Without pictures any unit of sound will do, and the flag where the codec is
                    // not known.
                    None => kind.is_audio() || flagged,
                };
            if i.header.is_some() && kind.is_video() {
                self.looks.push((place, Look::new(kind, flagged)));
            } else if i.may_enter {
                i.picture = Some(Picture { keyframe: true, with_sets: None });
            }
        }
        let Some(n) = self.looks.iter().position(|(of, _)| *of == place) else { return };
        let data = payload.get(i.header.map_or(0, |h| h.header_bytes)..).unwrap_or_default();
        i.picture = self.looks[n].1.push(data, i.packet.stuffed(), i.packet.scrambling != 0);
        if i.picture.is_some() {
            self.looks.swap_remove(n);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::ts::{PmtStream, pat_section, pmt_section};

    const VIDEO: u16 = 0x100;

    fn packet(pid: u16, start: bool, counter: u8, payload: &[u8]) -> Vec<u8> {
        let mut p = vec![0x47, u8::from(start) << 6 | (pid >> 8) as u8, pid as u8, 0x10 | counter & 15];
        p.extend_from_slice(payload);
        p.resize(TS_PACKET, 0xFF);
        p
    }

    /// An index that knows a programme of one stream of pictures.
    fn known() -> Index {
        let map = Pmt { program: 1, version: 0, pcr_pid: VIDEO, streams: vec![PmtStream { pid: VIDEO, kind: StreamKind::H264 }] };
        let section = |s: Vec<u8>| [vec![0], s].concat();
        let (pat, pmt) = (section(pat_section(1, 1, 0x1000)), section(pmt_section(&map)));
        let mut index = Index::default();
        let part = Aligned::Packets([packet(0, true, 0, &pat), packet(0x1000, true, 0, &pmt)].concat().into());
        let told: Vec<bool> = index.push(&part).packets().map(|i| i.programme.is_some()).collect();
        assert_eq!(told, [true, true], "each table completes what is known");
        index
    }

    fn unit(counter: u8, data: &[u8]) -> Vec<u8> {
        let mut payload = vec![0, 0, 1, 0xE0, 0, 0, 0x80, 0x80, 5, 0x21, 0, 1, 0, 1];
        payload.extend_from_slice(data);
        // Full, so that nothing says that the unit ends here.
        payload.resize(TS_PACKET - 4, 0xAA);
        packet(VIDEO, true, counter, &payload)
    }

    #[test]
    fn a_unit_that_shows_no_picture_lends_nothing_to_the_next() {
        let (sps, idr) = ([0, 0, 0, 1, 0x67, 0x64], [0, 0, 0, 1, 0x65, 0x88]);
        let part = Aligned::Packets([unit(0, &sps), unit(1, &idr)].concat().into());
        let mut index = known();
        let piece = index.push(&part);
        let seen: Vec<_> = piece.packets().map(|i| (i.may_enter, i.picture)).collect();
        let picture = Picture { keyframe: true, with_sets: Some(false) };
        assert_eq!(seen, [(true, None), (true, Some(picture))], "its sets are not those of the picture behind it");
    }

    #[test]
    fn a_packet_may_be_repeated_once() {
        let (mut index, one) = (known(), unit(3, &[0, 0, 0, 1, 0x65, 0x88]));
        let part = Aligned::Packets([one.clone(), one.clone(), one, unit(5, &[0, 0, 0, 1, 0x41])].concat().into());
        let seen: Vec<_> = index.push(&part).packets().map(|i| (i.repeat, i.gap, i.header.is_some())).collect();
        assert_eq!(seen, [(false, false, true), (true, false, false), (false, true, true), (false, true, true)]);
        assert_eq!((index.counters().continuity_errors, index.counters().packets), (2, 6));
    }

    #[test]
    fn plain_packets_go_with_the_one_before_them_until_one_is_missing_or_another() {
        let plain = |counter: u8| packet(VIDEO, false, counter, &[0xAA; TS_PACKET - 4]);
        let mut index = known();
        let idr = unit(15, &[0, 0, 0, 1, 0x65, 0x88]);
        let scrambled = {
            let mut p = plain(4);
            p[3] |= 0x80;
            p
        };
        let pieces =
            [idr, plain(0), plain(1), plain(2), plain(2), plain(3), scrambled, plain(5), plain(7), packet(0x200, false, 0, &[]), plain(8)];
        let part = Aligned::Packets(pieces.concat().into());
        let piece = index.push(&part);
        let runs: Vec<_> = piece.runs().iter().map(|i| (i.packet.continuity, i.more.len(), i.repeat, i.gap)).collect();
        let (fits, repeat, gap) = ((false, false), (true, false), (false, true));
        let want = [(15, 3, fits), (2, 0, repeat), (3, 0, fits), (4, 1, fits), (7, 0, gap), (0, 0, fits), (8, 0, fits)];
        assert_eq!(runs, want.map(|(c, more, (repeat, gap))| (c, more, repeat, gap)));
        let one_by_one: Vec<_> = piece.packets().map(|i| (i.packet.pid, i.packet.continuity, i.stream.is_some())).collect();
        let counters = [15, 0, 1, 2, 2, 3, 4, 5, 7, 0, 8];
        let all = counters.iter().enumerate().map(|(n, c)| if n == 9 { (0x200, *c, false) } else { (VIDEO, *c, true) });
        assert!(one_by_one.iter().copied().eq(all), "{one_by_one:?}");
        assert_eq!((index.counters().packets, index.counters().continuity_errors), (13, 1));
    }

    #[test]
    fn bytes_outside_packets_are_counted_once_for_each_loss_of_sync() {
        let mut index = known();
        for _ in 0..3 {
            assert!(!index.push(&Aligned::Other(vec![1, 2, 3].into())).is_packets());
        }
        assert!(index.push(&Aligned::Packets(unit(0, &[]).into())).is_packets());
        index.push(&Aligned::Other(vec![1].into()));
        assert_eq!(index.counters().sync_losses, 2);
        index.restart();
        assert_eq!((index.counters().sync_losses, index.programme.pmt.is_none()), (2, true));
    }
}
