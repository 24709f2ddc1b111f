//! Takes: whatever is put on a feed in whatever order, what goes out is one legal stream that is
//! cut at units only.

mod streams;

use bytes::Bytes;
use choir_proto::audio::st302_samples;
use choir_proto::ts::{
    Aligned, Cut, Index, Origin, PCR_WRAP, PTS_WRAP, PesHeader, PmtStream, Preroll, SourceKey, Splicer, StreamKind, TS_PACKET, TsChecker,
    TsFault, TsFinding, TsPacket, WriterConfig, wrapped_distance,
};
use proptest::prelude::*;
use std::collections::BTreeMap;
use streams::{AAC_TICKS, Make, aac, picture, stream};

/// Who made this access unit, and which picture it is.
fn number(unit: &[u8]) -> Option<(u8, u64)> {
    let at = unit.windows(3).position(|w| w[0] == 0x80 && w[1] & 0xF0 == 0xA0 && w[2] == 0x10)?;
    let digits = unit.get(at + 2..at + 18)?;
    Some((unit[at + 1] & 15, digits.iter().fold(0, |n, d| n << 4 | u64::from(d & 15))))
}

fn key(line: u32) -> SourceKey {
    SourceKey { line, session: 1 }
}

/// A source in front of a splicer.
#[derive(Default)]
struct Source {
    index: Index,
    preroll: Preroll,
}

impl Source {
    fn splice(&mut self, splicer: &mut Splicer, wanted: u32, key: SourceKey, now: i64, bytes: &Bytes) -> (Bytes, Option<Cut>) {
        let part = Aligned::Packets(bytes.clone());
        let piece = self.index.push(&part);
        let given = splicer.push(Some(wanted), key, now, &piece, &self.preroll);
        self.preroll.push(now, &piece);
        given
    }
}

/// Pieces with their times, µs.
type Pieces = Vec<(u64, Bytes)>;

/// Runs sources through a splicer. Gives what goes out with its time, and the cuts with theirs.
fn run(sources: &[Pieces], takes: &[(u64, u32)]) -> (Pieces, Vec<(u64, u32)>) {
    let mut all: Vec<(u64, u32, Bytes)> = Vec::new();
    for (line, parts) in sources.iter().enumerate() {
        all.extend(parts.iter().map(|(at, b)| (*at, line as u32, b.clone())));
    }
    all.sort_by_key(|(at, line, _)| (*at, *line));
    let mut takes = takes.iter().copied().peekable();
    let mut splicer = Splicer::new();
    let (mut out, mut cuts) = (Vec::new(), Vec::new());
    let mut lines: Vec<Source> = sources.iter().map(|_| Source::default()).collect();
    let mut wanted = 0;
    for (at, line, bytes) in all {
        while let Some((_, to)) = takes.next_if(|(t, _)| *t <= at) {
            wanted = to;
        }
        let (given, cut) = lines[line as usize].splice(&mut splicer, wanted, key(line), at as i64, &bytes);
        cuts.extend(cut.map(|c| (at, c.to.line)));
        out.push((at, given));
    }
    (out, cuts)
}

/// What another program would see: one PES packet after the other on each PID.
#[derive(Default)]
struct Seen {
    counters: BTreeMap<u16, u8>,
    pcr: Option<u64>,
    /// Place in `units` of what is open on each PID.
    open: BTreeMap<u16, usize>,
    units: Vec<(u16, PesHeader, Vec<u8>)>,
    faults: Vec<String>,
}

impl Seen {
    fn of(out: &[(u64, Bytes)]) -> Self {
        let mut seen = Self::default();
        for (at, bytes) in out {
            assert_eq!(bytes.len() % TS_PACKET, 0);
            bytes.chunks(TS_PACKET).for_each(|raw| seen.packet(*at, raw));
        }
        seen
    }

    fn packet(&mut self, at: u64, raw: &[u8]) {
        let Some(p) = TsPacket::parse(raw) else { return self.faults.push(format!("{at}: no packet")) };
        let rise = u8::from(p.payload.is_some());
        if let Some(last) = self.counters.insert(p.pid, p.continuity)
            && (last + rise) & 15 != p.continuity
        {
            self.faults.push(format!("{at}: counter of {} is {} after {last}", p.pid, p.continuity));
        }
        if let Some(pcr) = p.adaptation.and_then(|a| a.pcr)
            && let Some(last) = self.pcr.replace(pcr)
        {
            let step = wrapped_distance(pcr, last, PCR_WRAP);
            let announced = p.adaptation.is_some_and(|a| a.discontinuity);
            if step <= 0 || (step > 27_000 * 150 && !announced) {
                self.faults.push(format!("{at}: clock steps {} us", step / 27));
            }
        }
        let Some(payload) = p.payload.filter(|_| p.pid >= 0x100 && p.pid < 0x1000) else { return };
        if p.unit_start {
            match PesHeader::parse(payload) {
                Some(header) => {
                    self.open.insert(p.pid, self.units.len());
                    self.units.push((p.pid, header, payload[header.header_bytes..].to_vec()));
                }
                None => self.faults.push(format!("{at}: no PES header on {}", p.pid)),
            }
        } else {
            match self.open.get(&p.pid) {
                Some(unit) => self.units[*unit].2.extend_from_slice(payload),
                None => self.faults.push(format!("{at}: {} goes on with nothing", p.pid)),
            }
        }
    }

    /// Judges pictures and sound; gives the order of (source, picture).
    fn judge(&mut self, makes: &[Make]) -> Vec<(u8, u64)> {
        let mut order: Vec<(u8, u64)> = Vec::new();
        let (mut dts, mut end): (BTreeMap<u16, u64>, Option<u64>) = Default::default();
        let last_of: BTreeMap<u16, usize> = self.units.iter().enumerate().map(|(i, u)| (u.0, i)).collect();
        for (i, (pid, header, data)) in self.units.iter().enumerate() {
            let (pts, this) = (header.pts.expect("a time"), header.dts.or(header.pts).expect("a time"));
            if let Some(last) = dts.insert(*pid, this)
                && wrapped_distance(this, last, PTS_WRAP) <= 0
            {
                self.faults.push(format!("{pid}: decoding time steps {}", wrapped_distance(this, last, PTS_WRAP)));
            }
            let cut_off = last_of[pid] == i;
            if header.stream_id == 0xE0 {
                let Some((id, n)) = number(data) else { return order };
                let make = makes.iter().find(|m| m.id == id).expect("a known source");
                if !data.ends_with(&picture(make, n)) && !cut_off {
                    self.faults.push(format!("picture {n} of {id} is not whole: {} of {}", data.len(), picture(make, n).len()));
                }
                match order.last() {
                    Some((before, m)) if *before == id && *m + 1 == n => {}
                    None => {}
                    Some(before) if n % make.gop != 0 => self.faults.push(format!("cut to picture {n} of {id} after {before:?}")),
                    Some(_) => {}
                }
                order.push((id, n));
            } else {
                let frames = data.len() / aac().len();
                if header.payload_bytes != Some(data.len()) && !cut_off {
                    self.faults.push(format!("sound of {} bytes says {:?}", data.len(), header.payload_bytes));
                }
                if let Some(end) = end {
                    let gap = wrapped_distance(pts, end, PTS_WRAP);
                    // Times are rounded on both sides.
                    if !(-2..=AAC_TICKS as i64 + 1).contains(&gap) {
                        self.faults.push(format!("sound: {gap} ticks between units"));
                    }
                }
                end = Some((pts + frames as u64 * AAC_TICKS) % PTS_WRAP);
            }
        }
        order
    }
}

fn all_of(out: &[(u64, Bytes)]) -> Bytes {
    out.iter().flat_map(|(_, b)| b.iter().copied()).collect::<Vec<u8>>().into()
}

/// What the checker finds wrong.
fn faults(out: &[(u64, Bytes)]) -> Vec<TsFinding> {
    let mut checker = TsChecker::new(Origin::Start);
    checker.push(&all_of(out));
    checker.finish(false);
    checker.findings().into_iter().filter(|f| !f.minor).collect()
}

/// Each picture with the sound beside it in one piece.
fn in_whole_pictures(source: &[(u64, Bytes)], make: &Make) -> Pieces {
    let (start, time) = (source[0].0, make.frame * 100 / 9);
    let mut pictures: BTreeMap<u64, Vec<u8>> = BTreeMap::new();
    source.iter().for_each(|(at, b)| pictures.entry((at - start) / time).or_default().extend_from_slice(b));
    pictures.into_iter().map(|(picture, b)| (start + picture * time, Bytes::from(b))).collect()
}

/// Longest time between the departures of two clock references, µs.
fn clock_pause(source: &[(u64, Bytes)]) -> u64 {
    let has_clock = |b: &Bytes| b.chunks(TS_PACKET).any(|raw| TsPacket::parse(raw).and_then(|p| p.adaptation?.pcr).is_some());
    let times: Vec<u64> = source.iter().filter(|(_, b)| has_clock(b)).map(|(at, _)| *at).collect();
    times.windows(2).map(|w| w[1] - w[0]).max().unwrap_or(u64::MAX)
}

fn make() -> impl Strategy<Value = Make> {
    let picture =
        (prop_oneof![Just(StreamKind::H264), Just(StreamKind::H265)], 5u64..60, prop_oneof![Just(1800u64), Just(3600), Just(3000)]);
    let shape = (300usize..9000, 0u64..4, 20u64..700, 0u64..PTS_WRAP);
    let sound = (1u64..6, -150i64..200, any::<bool>());
    (picture, shape, sound).prop_map(|((kind, gop, frame), (size, b, lead, dts), (aac, ahead, other))| {
        let mut config = WriterConfig::default();
        if other {
            config.pmt_pid = 0x1100;
            config.video = config.video.map(|v| PmtStream { pid: 0x200, ..v });
            config.audio = config.audio.map(|a| PmtStream { pid: 0x201, ..a });
        }
        // Sound must not come after its own time.
        let ahead = ahead.max(150 - lead as i64) * 90;
        Make { id: 1, kind, gop, frame, size, b, lead: lead * 90, dts, aac, sound_ahead: ahead, config, ..Make::default() }
    })
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 150, ..ProptestConfig::default() })]

    #[test]
    fn any_takes_give_one_legal_stream(
        mut makes in prop::collection::vec(make(), 3),
        starts in prop::collection::vec(0u64..100_000, 3),
        takes in prop::collection::vec((500_000u64..12_000_000, 0u32..3), 1..24),
        whole in prop::collection::vec(any::<bool>(), 3),
    ) {
        makes.iter_mut().enumerate().for_each(|(n, m)| m.id = n as u8 + 1);
        let seconds = 20u64;
        let sources = makes.iter().zip(&starts).map(|(m, s)| stream(m, seconds * 90_000 / m.frame, *s));
        // Some come in small pieces, as from a network, some in whole pictures, as from a file or a
        // camera.
        let sources = sources.zip(&makes).zip(&whole).map(|((s, m), whole)| if *whole { in_whole_pictures(&s, m) } else { s });
        let sources: Vec<Pieces> = sources.collect();
        let mut takes = takes;
        takes.sort_unstable();
        let (out, cuts) = run(&sources, &takes);
        let mut seen = Seen::of(&out);
        let order = seen.judge(&makes);
        prop_assert_eq!(&seen.faults, &Vec::<String>::new(), "cuts {:?} takes {:?}", cuts, takes);
        // What was asked for last is on, after at most a group of pictures and what closing takes.
        let last = takes.last().expect("a take").1;
        prop_assert_eq!(cuts.last().expect("a cut").1, last, "{:?} {:?}", takes, cuts);
        prop_assert_eq!(u32::from(order.last().expect("pictures").0) - 1, last);
        // Each source has run for more than a second by the time of the keyframe it comes on with:
        // no keyframe goes by, unless an earlier take is being finished.
        let (asked, (came, _)) = (takes.last().expect("a take").0, *cuts.last().expect("a cut"));
        let (make, start) = (&makes[last as usize], starts[last as usize]);
        let group = make.gop * make.frame * 100 / 9;
        let next = start + asked.max(start + 1_000_000).saturating_sub(start).div_ceil(group) * group;
        let busy = cuts.iter().rev().nth(1).is_some_and(|(at, _)| *at > asked);
        prop_assert!(busy || came < asked || came <= next + 600_000, "asked at {}, keyframe at {}, came at {}", asked, next, came);
        // What a source does by itself is not the splicer's (a clock may leave in jumps), nor are
        // times between pictures of other sizes.
        let own: Vec<_> = sources.iter().flat_map(|s| faults(s)).map(|f| f.fault).collect();
        let jumps = sources.iter().any(|s| clock_pause(s) > 60_000);
        let excused = |f: TsFault| own.contains(&f) || f == TsFault::DtsLate || (jumps && f == TsFault::PcrInterval);
        let found: Vec<_> = faults(&out).into_iter().filter(|f| !excused(f.fault)).collect();
        prop_assert!(found.is_empty(), "{:?}", found);
    }

    #[test]
    fn takes_between_damaged_sources_keep_counters_clock_and_times(
        mut makes in prop::collection::vec(make(), 2),
        losses in prop::collection::vec(0usize..4000, 40),
        takes in prop::collection::vec((500_000u64..9_000_000, 0u32..2), 1..16),
    ) {
        makes.iter_mut().enumerate().for_each(|(n, m)| m.id = n as u8 + 1);
        let sources: Vec<Vec<_>> = makes.iter().enumerate().map(|(n, m)| {
            let mut parts = stream(m, 12 * 90_000 / m.frame, 0);
            losses.iter().skip(n).step_by(2).for_each(|l| if *l < parts.len() { drop(parts.remove(*l)); });
            parts
        }).collect();
        let mut takes = takes;
        takes.sort_unstable();
        let (out, cuts) = run(&sources, &takes);
        let mut last: Option<u64> = None;
        for raw in out.iter().flat_map(|(_, b)| b.chunks(TS_PACKET)) {
            let Some(pcr) = TsPacket::parse(raw).and_then(|p| p.adaptation).and_then(|a| a.pcr) else { continue };
            if let Some(last) = last.replace(pcr) {
                prop_assert!(wrapped_distance(pcr, last, PCR_WRAP) > 0, "clock goes back {} at {} {}: {:?}", wrapped_distance(pcr, last, PCR_WRAP), pcr, last, cuts);
            }
        }
        let seen = Seen::of(&out);
        let mut dts: BTreeMap<u16, u64> = BTreeMap::new();
        for (pid, header, _) in &seen.units {
            let Some(this) = header.dts.or(header.pts) else { continue };
            if let Some(last) = dts.insert(*pid, this) {
                prop_assert!(wrapped_distance(this, last, PTS_WRAP) > 0, "{} goes back at {:?}", pid, cuts);
            }
        }
    }
}

fn two(gop: u64) -> Vec<Make> {
    vec![Make::default(), Make { id: 2, gop, ..Make::default() }]
}

#[test]
fn a_take_that_is_taken_back_leaves_nothing_behind() {
    // B, A again before B's keyframe, B again six seconds later.
    let makes = two(50);
    let sources: Vec<_> = makes.iter().map(|m| stream(m, 500, 0)).collect();
    let (out, cuts) = run(&sources, &[(4_100_000, 1), (4_500_000, 0), (10_500_000, 1)]);
    assert_eq!(cuts.len(), 2, "{cuts:?}");
    assert!((12_000_000..12_100_000).contains(&cuts[1].0), "at B's next keyframe: {cuts:?}");
    let mut seen = Seen::of(&out);
    seen.judge(&makes);
    assert_eq!(seen.faults, Vec::<String>::new());
}

#[test]
fn a_take_waits_for_a_keyframe_as_long_as_it_needs() {
    let makes = two(300);
    let sources: Vec<_> = makes.iter().map(|m| stream(m, 700, 0)).collect();
    let (out, cuts) = run(&sources, &[(1_000_000, 1)]);
    assert!((12_000_000..12_100_000).contains(&cuts[1].0), "11 s after it was asked for: {cuts:?}");
    let mut seen = Seen::of(&out);
    seen.judge(&makes);
    assert_eq!(seen.faults, Vec::<String>::new());
}

#[test]
fn a_take_asked_for_just_before_a_keyframe_comes_on_at_that_one() {
    // Sound of the old source far ahead, or of the new one: what is needed came before the take was
    // asked for.
    for ahead in [[0, 0], [45_000, 0], [0, 45_000]] {
        let mut makes = two(50);
        makes.iter_mut().zip(ahead).for_each(|(m, sound_ahead)| *m = Make { aac: 1, lead: 90 * 500, sound_ahead, ..m.clone() });
        let sources: Vec<_> = makes.iter().map(|m| stream(m, 500, 0)).collect();
        for early in [10_000, 60_000, 300_000, 700_000] {
            let (out, cuts) = run(&sources, &[(8_000_000 - early, 1)]);
            assert!((8_000_000..8_100_000).contains(&cuts[1].0), "{early} us before it, sound ahead by {ahead:?}: {cuts:?}");
            let mut seen = Seen::of(&out);
            seen.judge(&makes);
            assert_eq!(seen.faults, Vec::<String>::new(), "{early} {ahead:?}");
        }
    }
}

#[test]
fn a_source_that_has_just_begun_loses_no_sound_by_a_keyframe_that_goes_by() {
    // Whole pictures with their sound in one piece, as from a file: sound is in the piece whose
    // keyframe comes too early. The old source's sound comes late, so that what the new one sent
    // some pictures ago is needed.
    let mut makes: Vec<_> = two(2).into_iter().map(|m| Make { aac: 1, lead: 90 * 500, ..m }).collect();
    makes[0].sound_ahead = -90 * 150;
    let whole = |n: usize, start: u64| in_whole_pictures(&stream(&makes[n], 200, start), &makes[n]);
    for start in (3_000_000..3_400_000).step_by(30_000) {
        let (out, cuts) = run(&[whole(0, 0), whole(1, start)], &[(start - 10_000, 1)]);
        assert_eq!(cuts.len(), 2, "{cuts:?}");
        let mut seen = Seen::of(&out);
        seen.judge(&makes);
        assert_eq!(seen.faults, Vec::<String>::new(), "begins at {start}: {cuts:?}");
    }
}

#[test]
fn a_take_before_the_sound_of_the_last_one_goes_on_where_sound_ended() {
    // The first source's sound is 400 ms ahead of its pictures, the second's is behind: none of it
    // is due when it goes again.
    let mut makes: Vec<_> = two(5).into_iter().map(|m| Make { gop: 5, aac: 1, lead: 90 * 500, ..m }).collect();
    (makes[0].sound_ahead, makes[1].sound_ahead) = (90 * 400, -90 * 150);
    let sources: Vec<_> = makes.iter().map(|m| stream(m, 200, 0)).collect();
    let (out, cuts) = run(&sources, &[(3_010_000, 1), (3_250_000, 0)]);
    let (there, back) = (cuts[1].0, cuts[2].0);
    assert!(cuts.len() == 3 && back - there < 300_000, "{cuts:?}");
    let mut seen = Seen::of(&out);
    seen.judge(&makes);
    assert_eq!(seen.faults, Vec::<String>::new(), "{cuts:?}");
}

#[test]
fn a_keyframe_without_parameter_sets_goes_by_unless_all_come_without() {
    let makes = two(25);
    for (bare, at) in [(3_000_000..3_900_000, 4_000_000u64), (0..10_000_000, 4_000_000)] {
        let mut sources: Vec<_> = makes.iter().map(|m| stream(m, 250, 0)).collect();
        for (_, bytes) in sources[1].iter_mut().filter(|(at, _)| bare.contains(at)) {
            // Sets become supplemental information (H.264, 7.4.1).
            let mut data = bytes.to_vec();
            let starts: Vec<usize> = data.windows(4).enumerate().filter(|(_, w)| *w == [0, 0, 0, 1]).map(|(i, _)| i + 4).collect();
            starts
                .into_iter()
                .filter(|i| matches!(data.get(*i), Some(0x67 | 0x68)))
                .collect::<Vec<_>>()
                .into_iter()
                .for_each(|i| data[i] = 6);
            *bytes = data.into();
        }
        let (_, cuts) = run(&sources, &[(2_100_000, 1)]);
        assert!(cuts.len() == 2 && (at..at + 100_000).contains(&cuts[1].0), "{bare:?}: {cuts:?}");
    }
}

#[test]
fn a_source_far_ahead_of_its_clock_does_not_leave_the_next_one_waiting() {
    // The first is shown 2 s behind its clock, the second 100 ms.
    let leads = [90 * 2000, 90 * 100];
    let makes: Vec<_> = two(25).into_iter().zip(leads).map(|(m, lead)| Make { aac: 0, lead, ..m }).collect();
    let sources: Vec<_> = makes.iter().map(|m| stream(m, 250, 0)).collect();
    let (out, cuts) = run(&sources, &[(2_100_000, 1)]);
    let mut seen = Seen::of(&out);
    seen.judge(&makes);
    assert_eq!(seen.faults, Vec::<String>::new(), "the clock's jump is announced");
    let mut clock = 0;
    let packets = out.iter().filter(|(at, _)| *at > cuts[1].0 + 500_000).flat_map(|(_, b)| b.chunks(TS_PACKET)).filter_map(TsPacket::parse);
    for p in packets {
        clock = p.adaptation.and_then(|a| a.pcr).unwrap_or(clock);
        let pts = p.payload.filter(|_| p.unit_start && p.pid == 0x100).and_then(PesHeader::parse).and_then(|h| h.pts);
        let waits = pts.filter(|_| clock > 0).map(|pts| wrapped_distance(pts, clock / 300, PTS_WRAP) / 90);
        assert!(waits.is_none_or(|ms| ms < 700), "{waits:?} ms");
    }
}

#[test]
fn a_stream_of_data_begins_with_a_unit_after_a_cut() {
    let makes: Vec<_> = two(25).into_iter().map(|m| Make { aac: 0, ..m }).collect();
    let mut sources: Vec<_> = makes.iter().map(|m| stream(m, 250, 0)).collect();
    // Both carry data as well: one PES packet (private stream 1, without a length) in seven pieces.
    let pieces = sources.iter_mut().zip(1u8..).flat_map(|(s, id)| s.iter_mut().enumerate().map(move |(n, (_, b))| (n, id, b)));
    for (n, id, bytes) in pieces {
        let mut packet = [id; TS_PACKET];
        packet[..4].copy_from_slice(&[0x47, 0x03, 0x00, 0x10 | n as u8 & 15]);
        if n.is_multiple_of(7) {
            packet[1] |= 0x40;
            packet[4..13].copy_from_slice(&[0, 0, 1, 0xBD, 0, 0, 0x80, 0, 0]);
        }
        *bytes = [bytes, &packet[..]].concat().into();
    }
    let (out, cuts) = run(&sources, &[(2_100_000, 1), (4_300_000, 0), (6_200_000, 1)]);
    assert_eq!(cuts.len(), 4);
    let seen = Seen::of(&out);
    assert_eq!(seen.faults, Vec::<String>::new());
    let data: Vec<&[u8]> = seen.units.iter().filter(|u| u.0 == 0x300).map(|u| &*u.2).collect();
    assert!(data.len() > 30 && data.iter().all(|d| d.iter().all(|b| *b == d[0])), "a unit has bytes of one source only");
}

#[test]
fn a_keyframe_behind_a_long_head_and_without_a_flag_is_found() {
    let makes = two(25);
    let mut sources: Vec<_> = makes.iter().map(|m| stream(m, 250, 0)).collect();
    for (_, bytes) in &mut sources[1] {
        let mut data = bytes.to_vec();
        // Random access flags off.
        for raw in data.chunks_mut(TS_PACKET).filter(|r| r[3] & 0x20 != 0 && r[4] > 0) {
            raw[5] &= !0x40;
        }
        *bytes = data.into();
    }
    let (_, cuts) = run(&sources, &[(2_100_000, 1)]);
    assert!((3_000_000..3_100_000).contains(&cuts[1].0), "{cuts:?}");
}

#[test]
fn a_dead_source_is_not_waited_for() {
    let makes = two(25);
    let mut sources: Vec<_> = makes.iter().map(|m| stream(m, 250, 0)).collect();
    // The first dies in the middle of a picture.
    let dies = sources[0].iter().position(|(at, _)| *at > 3_020_000).expect("pieces");
    sources[0].truncate(dies);
    let (out, cuts) = run(&sources, &[(3_500_000, 1)]);
    assert!((4_000_000..4_045_000).contains(&cuts[1].0), "{cuts:?}");
    let seen = Seen::of(&out);
    // The clock was silent for as long as the source.
    assert_eq!(seen.faults, ["4000000: clock steps 1000000 us"]);
    let wrong = |u: &&(u16, PesHeader, Vec<u8>)| u.1.payload_bytes.is_some_and(|n| n != u.2.len());
    assert_eq!(seen.units.iter().filter(wrong).count(), 0, "what it had begun is as long as it says");
}

#[test]
fn a_source_that_starts_again_is_cut_in_like_another_one() {
    // A file that repeats, with times that begin anew each time.
    let make = Make { aac: 3, sound_ahead: 5760, ..Make::default() };
    let once = stream(&make, 100, 0);
    let mut splicer = Splicer::new();
    let mut out = Vec::new();
    let mut cuts = 0;
    for session in 1..=20u32 {
        let mut source = Source::default();
        for (at, bytes) in &once {
            // Late by up to 9 ms at each start, as timers are.
            let now = at + u64::from(session) * 4_000_000 + u64::from(session * 7 % 10) * 1000;
            let (bytes, cut) = source.splice(&mut splicer, 7, SourceKey { line: 7, session }, now as i64, bytes);
            cuts += u32::from(cut.is_some());
            out.push((now, bytes));
        }
    }
    assert_eq!(cuts, 20);
    let mut seen = Seen::of(&out);
    let order = seen.judge(&[make]);
    assert_eq!(seen.faults, Vec::<String>::new());
    assert_eq!(order.len(), 2000);
}

#[test]
fn what_comes_behind_a_pause_comes_behind_its_clock() {
    // Sound of the new source is sent a second before its time: it is kept, and comes out first.
    let makes = [Make::default(), Make { id: 2, lead: 90 * 900, sound_ahead: 45_000, ..Make::default() }];
    let mut sources: Vec<_> = makes.iter().map(|m| stream(m, 250, 0)).collect();
    let dies = sources[0].iter().position(|(at, _)| *at > 3_020_000).expect("pieces");
    sources[0].truncate(dies);
    let (out, cuts) = run(&sources, &[(4_100_000, 1)]);
    assert_eq!(cuts.len(), 2);
    let pause = [TsFault::PcrInterval, TsFault::PcrJump, TsFault::DtsJump, TsFault::TableInterval, TsFault::SoundGap];
    let found: Vec<_> = faults(&out).into_iter().filter(|f| !pause.contains(&f.fault)).collect();
    assert_eq!(found, [], "{cuts:?}");
}

/// Values of the first channel of all PCM that goes out.
fn samples(seen: &Seen) -> Vec<i32> {
    let sound = seen.units.iter().filter(|(_, head, _)| head.stream_id == 0xBD).filter_map(|(_, _, data)| st302_samples(data));
    sound.flat_map(|(_, pcm)| pcm.chunks_exact(6).map(|t| i32::from_be_bytes([t[0], t[1], t[2], 0]) >> 8).collect::<Vec<_>>()).collect()
}

#[test]
fn pcm_fades_from_one_source_to_the_next() {
    let level = |id: u8| if id == 1 { 0x3333 } else { -0x3333 };
    let makes: Vec<_> = two(12).into_iter().map(|m| Make { pcm: true, sound_ahead: 3600, level: level(m.id), ..m }).collect();
    let sources: Vec<_> = makes.iter().zip([0, 173_000]).map(|(m, start)| stream(m, 250, start)).collect();
    let takes: Vec<(u64, u32)> = (1..9).map(|n| (n * 1_070_000, (n % 2) as u32)).collect();
    let (out, cuts) = run(&sources, &takes);
    let heard = samples(&Seen::of(&out));
    let turns = heard.windows(2).filter(|w| (w[0] < 0) != (w[1] < 0)).count();
    assert!(cuts.len() == 9 && turns >= 8, "{cuts:?}, {turns}");
    // The whole way within 5 ms is 110 a sample; without, 26214 at once.
    let worst = heard.windows(2).map(|w| (w[1] - w[0]).abs()).max();
    assert!(worst.is_some_and(|w| w < 150), "{worst:?}");
    let mut checker = TsChecker::new(Origin::Start);
    checker.push(&all_of(&out));
    // It is cut at samples: nothing is missing that a clock of 90 kHz could say.
    assert!(checker.findings().iter().all(|f| f.fault != TsFault::SoundGap), "{:?}", checker.findings());
}

#[test]
fn takes_between_sources_with_pcm_leave_no_hole_and_no_overlap() {
    let makes: Vec<_> = two(12).into_iter().map(|m| Make { pcm: true, sound_ahead: 3600, ..m }).collect();
    let sources: Vec<_> = makes.iter().zip([0, 170_000]).map(|(m, start)| stream(m, 500, start)).collect();
    let takes: Vec<(u64, u32)> = (1..18).map(|n| (n * 1_070_000, (n % 2) as u32)).collect();
    let (out, cuts) = run(&sources, &takes);
    assert!(cuts.len() > 16, "{cuts:?}");
    assert_eq!(faults(&out), []);
}

#[test]
fn takes_do_not_move_the_clock_away_from_arrival() {
    let makes: Vec<_> = two(25).into_iter().map(|m| Make { aac: 1, ..m }).collect();
    let sources: Vec<_> = makes.iter().zip([0, 130_000]).map(|(m, start)| stream(m, 1750, start)).collect();
    let takes: Vec<(u64, u32)> = (1..60).map(|n| (n * 1_100_000, (n % 2) as u32)).collect();
    let (out, cuts) = run(&sources, &takes);
    assert!(cuts.len() > 55, "{}", cuts.len());
    // What a reference says more than the time since the first, ms.
    let mut first = None;
    let mut ahead = Vec::new();
    for (at, raw) in out.iter().flat_map(|(at, b)| b.chunks(TS_PACKET).map(move |raw| (*at as i64, raw))) {
        let Some(pcr) = TsPacket::parse(raw).and_then(|p| p.adaptation?.pcr) else { continue };
        let (then, start) = *first.get_or_insert((pcr, at));
        ahead.push((wrapped_distance(pcr, then, PCR_WRAP) / 27 - (at - start)) / 1000);
    }
    let (least, most) = (ahead.iter().min().expect("clocks"), ahead.iter().max().expect("clocks"));
    assert!(*least > -100 && *most < 100, "{least} to {most} ms after {} cuts", cuts.len());
}

#[test]
fn a_file_that_is_taken_with_its_last_picture_goes_on_in_step() {
    let makes = [Make { aac: 1, ..Make::default() }, Make { id: 2, gop: 50, aac: 1, sound_ahead: 3600, ..Make::default() }];
    // The second is a file of 101 pictures with their sound, the last one a keyframe, that starts
    // again 17 ms late.
    let (first, file) = (stream(&makes[0], 300, 0), stream(&makes[1], 101, 0));
    let mut all: Vec<(u64, SourceKey, Bytes)> = first.into_iter().map(|(at, b)| (at, key(0), b)).collect();
    for session in 1..=2u32 {
        let late = u64::from(session - 1) * (4_040_000 + 17_000);
        all.extend(file.iter().map(|(at, b)| (at + late, SourceKey { line: 1, session }, b.clone())));
    }
    all.sort_by_key(|(at, k, _)| (*at, k.line));
    let mut splicer = Splicer::new();
    let mut wanted = 0;
    let (mut out, mut starts) = (Vec::new(), BTreeMap::<SourceKey, Source>::new());
    for (at, k, bytes) in all {
        if at >= 3_900_000 {
            wanted = 1;
        }
        let (given, _) = starts.entry(k).or_default().splice(&mut splicer, wanted, k, at as i64, &bytes);
        out.push((at, given));
    }
    let mut seen = Seen::of(&out);
    let order = seen.judge(&makes);
    assert_eq!(seen.faults, Vec::<String>::new());
    let at = order.iter().position(|o| *o == (2, 100)).expect("its last picture");
    assert_eq!(order[at + 1], (2, 0), "and at once its first again");
    let times: Vec<u64> = seen.units.iter().filter(|u| u.1.stream_id == 0xE0).filter_map(|u| u.1.pts).collect();
    assert_eq!(wrapped_distance(times[at + 1], times[at], PTS_WRAP), makes[1].frame as i64, "as if it had not been late");
}

#[test]
fn a_line_that_starts_again_stays_on_while_another_is_waited_for() {
    let makes =
        [Make { aac: 1, sound_ahead: 9000, ..Make::default() }, Make { id: 2, gop: 100, aac: 1, sound_ahead: 9000, ..Make::default() }];
    let (once, other) = (stream(&makes[0], 100, 0), stream(&makes[1], 500, 0));
    let mut all: Vec<(u64, SourceKey, Bytes)> = other.into_iter().map(|(at, b)| (at, key(1), b)).collect();
    for session in 1..=5u32 {
        let again = once.iter().map(|(at, b)| (at + u64::from(session - 1) * 4_000_000, SourceKey { line: 0, session }, b.clone()));
        all.extend(again);
    }
    all.sort_by_key(|(at, k, _)| (*at, k.line));
    let mut splicer = Splicer::new();
    let mut wanted = 0;
    let (mut out, mut on, mut starts) = (Vec::new(), Vec::new(), BTreeMap::<SourceKey, Source>::new());
    for (at, k, bytes) in all {
        // Asked for before the first starts again; both have a keyframe at 8 s.
        if (3_500_000..3_510_000).contains(&(at % 4_000_000)) {
            wanted = u32::from(at > 7_000_000);
        }
        let (bytes, cut) = starts.entry(k).or_default().splice(&mut splicer, wanted, k, at as i64, &bytes);
        on.extend(cut.map(|c| (at / 1_000_000, c.to.line, c.to.session)));
        out.push((at, bytes));
    }
    assert_eq!(on, [(0, 0, 1), (4, 0, 2), (8, 0, 3), (8, 1, 1)], "new starts go on by themselves");
    let mut seen = Seen::of(&out);
    seen.judge(&makes);
    assert_eq!(seen.faults, Vec::<String>::new());
}

#[test]
fn a_table_with_descriptors_gets_another_version_too() {
    let makes = two(10);
    let makes: Vec<_> = makes.into_iter().map(|m| Make { aac: 1, ..m }).collect();
    let mut sources: Vec<_> = makes.iter().map(|m| stream(m, 100, 0)).collect();
    // The second says what language its sound is in.
    for (_, bytes) in &mut sources[1] {
        let mut data = bytes.to_vec();
        for raw in data.chunks_mut(TS_PACKET) {
            if TsPacket::parse(raw).is_some_and(|p| p.pid == 0x1000) {
                let mut section = raw[5..5 + 3 + usize::from(raw[7])].to_vec();
                section.truncate(section.len() - 4);
                let at = section.len() - 1;
                section[at] = 6;
                section.extend_from_slice(&[10, 4, b'e', b'n', b'g', 0]);
                section[2] += 6;
                section.extend_from_slice(&choir_proto::ts::crc32(&section).to_be_bytes());
                raw[5..5 + section.len()].copy_from_slice(&section);
            }
        }
        *bytes = data.into();
    }
    let (out, cuts) = run(&sources, &[(1_000_000, 1), (2_000_000, 0)]);
    assert_eq!(cuts.len(), 3);
    assert_eq!(faults(&out), []);
    let versions: Vec<u8> = out
        .iter()
        .flat_map(|(_, b)| b.chunks(TS_PACKET))
        .filter(|raw| TsPacket::parse(raw).is_some_and(|p| p.pid == 0x1000))
        .map(|raw| raw[10] >> 1 & 31)
        .collect();
    assert!(versions.is_sorted() && versions.last() == Some(&2), "{versions:?}");
}

#[test]
fn a_clip_that_begins_with_the_take_comes_on_with_its_first_picture_and_silence_joins_the_sound() {
    for (lead, begins) in [(90 * 200, 4_000_000), (90 * 450, 4_000_000), (90 * 450, 4_013_000), (90 * 60, 4_013_000)] {
        // How far the clip's times are ahead of its clock is not how far those of the camera are.
        let makes = [Make::default(), Make { id: 2, lead, gop: 50, ..Make::default() }];
        let (camera, clip) = (stream(&makes[0], 150, 0), stream(&makes[1], 100, begins));
        let mut lines = [Source::default(), Source { preroll: Preroll::whole(), ..Source::default() }];
        let mut all: Vec<(u64, u32, Bytes)> = camera.into_iter().map(|(at, b)| (at, 0, b)).collect();
        all.extend(clip.into_iter().map(|(at, b)| (at, 1, b)));
        all.sort_by_key(|(at, line, _)| (*at, *line));
        let (mut splicer, mut out, mut cuts) = (Splicer::new(), Vec::new(), Vec::new());
        for (at, line, bytes) in all {
            let wanted = u32::from(at >= begins);
            let (given, cut) = lines[line as usize].splice(&mut splicer, wanted, key(line), at as i64, &bytes);
            cuts.extend(cut.map(|_| at));
            out.push((at, given));
        }
        assert!(cuts.len() == 2 && cuts[1] < begins + 150_000, "at once: {cuts:?}");
        let seen = Seen::of(&out);
        assert_eq!(seen.faults, Vec::<String>::new());
        let shown: Vec<(u8, u64)> = seen.units.iter().filter(|u| u.1.stream_id == 0xE0).filter_map(|u| number(&u.2)).collect();
        let first = shown.iter().position(|(id, _)| *id == 2).expect("it is on");
        assert_eq!((shown[first], shown[first + 1]), ((2, 0), (2, 1)));
        // The checker counts sound that is missing.
        let found: Vec<_> = faults(&out).into_iter().filter(|f| f.fault == TsFault::SoundGap).collect();
        assert!(found.is_empty(), "lead {lead}: {found:?}");
    }
}
