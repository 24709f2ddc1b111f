//! The checker of transport streams: a legal stream is called legal, and every defect by its name,
//! count and first place.

mod streams;

use bytes::Bytes;
use choir_proto::ts::{Origin, PesHeader, StreamKind, TS_PACKET, TsChecker, TsFault, TsFinding, TsPacket, crc32, write_pes_header};
use proptest::prelude::*;
use streams::{Make, stream};

type Raw = [u8; TS_PACKET];

fn packets(make: &Make, pictures: u64) -> Vec<Raw> {
    let all: Vec<u8> = stream(make, pictures, 0).iter().flat_map(|(_, b)| b.to_vec()).collect();
    all.as_chunks::<TS_PACKET>().0.to_vec()
}

fn legal() -> Vec<Raw> {
    packets(&Make { gop: 25, aac: 1, sound_ahead: 9000, ..Make::default() }, 150)
}

fn check_from(origin: Origin, packets: &[Raw], ended: bool) -> Vec<TsFinding> {
    let mut checker = TsChecker::new(origin);
    // Pieces that do not fit packets.
    packets.concat().chunks(1000).for_each(|c| checker.push(&Bytes::copy_from_slice(c)));
    checker.finish(ended);
    checker.findings()
}

fn check(packets: &[Raw]) -> Vec<TsFinding> {
    check_from(Origin::Start, packets, true)
}

fn pid(raw: &Raw) -> u16 {
    TsPacket::parse(raw).map_or(0x1FFF, |p| p.pid)
}

fn starts(raw: &Raw) -> bool {
    raw[1] & 0x40 != 0
}

/// Place of the nth packet that is like this.
fn nth(packets: &[Raw], n: usize, like: impl Fn(&Raw) -> bool) -> usize {
    packets.iter().enumerate().filter(|(_, r)| like(r)).nth(n).expect("so many").0
}

fn only(found: &[TsFinding], fault: TsFault) -> TsFinding {
    let real: Vec<_> = found.iter().filter(|f| !f.minor).collect();
    assert_eq!(real.len(), 1, "{fault:?}: {found:?}");
    assert_eq!(real[0].fault, fault);
    *real[0]
}

fn has(found: &[TsFinding], fault: TsFault) -> TsFinding {
    let one = found.iter().find(|f| f.fault == fault);
    assert!(one.is_some(), "{fault:?} in {found:?}");
    *one.expect("just asserted")
}

/// Numbers the packets of each PID anew, so that nothing seems lost.
fn renumber(packets: &mut [Raw]) {
    let mut next = std::collections::BTreeMap::new();
    for raw in packets {
        let (pid, payload) = (pid(raw), raw[3] & 0x10 != 0);
        let counter = next.entry(pid).or_insert(15u8);
        *counter = (*counter + u8::from(payload)) & 15;
        raw[3] = raw[3] & 0xF0 | *counter;
    }
}

/// Changes the PES payloads of a PID, one after the other, and writes all packets of it anew.
fn with_units(packets: &[Raw], of: u16, mut change: impl FnMut(usize, &mut Vec<u8>)) -> Vec<Raw> {
    let mut out: Vec<Raw> = Vec::new();
    let mut n = 0;
    for (i, raw) in packets.iter().enumerate().filter(|(_, r)| pid(r) != of || starts(r) || r[3] & 0x10 == 0) {
        if pid(raw) != of || !starts(raw) {
            out.push(*raw);
            continue;
        }
        let end = packets[i + 1..].iter().position(|r| pid(r) == of && starts(r)).map_or(packets.len(), |j| i + 1 + j);
        let mut pes: Vec<u8> = Vec::new();
        for r in packets[i..end].iter().filter(|r| pid(r) == of) {
            pes.extend_from_slice(TsPacket::parse(r).and_then(|p| p.payload).unwrap_or_default());
        }
        change(n, &mut pes);
        n += 1;
        // The adaptation field of the first packet stays.
        let field = if raw[3] & 0x20 != 0 { raw[5..5 + usize::from(raw[4])].to_vec() } else { Vec::new() };
        let field = if field.iter().skip(7).all(|b| *b == 0xFF) { field[..field.len().min(7)].to_vec() } else { field };
        let mut first = true;
        while !pes.is_empty() {
            let head = if first { field.clone() } else { Vec::new() };
            let room = TS_PACKET - 4 - if head.is_empty() { 0 } else { 1 + head.len() };
            let used = pes.len().min(room);
            let mut packet = [0xFF; TS_PACKET];
            packet[..4].copy_from_slice(&[0x47, u8::from(first) << 6 | (of >> 8) as u8, of as u8, 0x10]);
            let stuffing = TS_PACKET - 4 - used;
            if stuffing > 0 {
                packet[3] |= 0x20;
                packet[4] = (stuffing - 1) as u8;
                if stuffing > 1 {
                    packet[5] = 0;
                    packet[5..5 + head.len()].copy_from_slice(&head);
                }
            }
            packet[TS_PACKET - used..].copy_from_slice(&pes[..used]);
            out.push(packet);
            pes.drain(..used);
            first = false;
        }
    }
    renumber(&mut out);
    out
}

/// Says the length anew.
fn fix_length(pes: &mut [u8]) {
    let length = u16::try_from(pes.len() - 6).unwrap_or(0);
    pes[4..6].copy_from_slice(&length.to_be_bytes());
}

fn set_dts(pes: &mut Vec<u8>, pts: u64, dts: u64) {
    let header = PesHeader::parse(pes).expect("a header");
    let rest = pes.split_off(header.header_bytes);
    pes.clear();
    write_pes_header(header.stream_id, pts, Some(dts), rest.len(), pes);
    pes.extend_from_slice(&rest);
}

#[test]
fn a_legal_stream_is_called_legal() {
    for kind in [StreamKind::H264, StreamKind::H265] {
        for b in [0, 2] {
            let make = Make { kind, b, aac: 1, sound_ahead: 9000, ..Make::default() };
            assert_eq!(check(&packets(&make, 200)), []);
        }
    }
}

#[test]
fn what_the_tests_do_to_units_is_itself_legal() {
    let all = legal();
    assert_eq!(check(&with_units(&all, 0x100, |_, _| {})), []);
    assert_eq!(check(&with_units(&all, 0x101, |_, _| {})), []);
}

#[test]
fn missing_packets_are_counted_each() {
    let mut all = legal();
    let at = nth(&all, 30, |r| pid(r) == 0x100 && starts(r)) + 2;
    let next = all.iter().skip(at + 3).position(|r| pid(r) == 0x100).expect("more") + at + 3;
    assert!((at..at + 3).all(|i| pid(&all[i]) == 0x100 && !starts(&all[i])));
    all.drain(at..at + 3);
    let f = only(&check(&all), TsFault::Continuity);
    assert_eq!((f.count, f.pid, f.byte), (3, Some(0x100), ((next - 3) * TS_PACKET) as u64));
    assert!(f.ms > 0);
}

#[test]
fn a_counter_that_rises_without_payload_is_wrong() {
    let mut all = legal();
    let mut clock = all[nth(&all, 30, |r| pid(r) == 0x100 && r[3] & 0x20 != 0 && r[4] >= 7 && r[5] & 0x10 != 0)];
    let at = nth(&all, 31, |r| pid(r) == 0x100 && starts(r));
    let last = all[..at].iter().rev().find(|r| pid(r) == 0x100).expect("one")[3] & 15;
    clock[1] &= 0x1F;
    clock[3] = 0x20 | (last + 3) & 15;
    clock[4] = 183;
    clock[5] = 0;
    all.insert(at, clock);
    assert_eq!(has(&check(&all), TsFault::Continuity).pid, Some(0x100));
}

#[test]
fn packet_defects_are_named() {
    let all = legal();
    let at = nth(&all, 60, |r| pid(r) == 0x100 && !starts(r) && r[3] & 0x20 == 0);
    let mut doubled = all.clone();
    doubled.insert(at, all[at]);
    let f = only(&check(&doubled), TsFault::Repeated);
    assert_eq!((f.count, f.byte), (1, ((at + 1) * TS_PACKET) as u64));

    let mut marked = all.clone();
    marked[at][1] |= 0x80;
    assert_eq!(has(&check(&marked), TsFault::TransportError).byte, (at * TS_PACKET) as u64);

    for length in [184u8, 255] {
        let mut field = all.clone();
        field[at][3] |= 0x20;
        field[at][4] = length;
        let f = has(&check(&field), TsFault::AdaptationField);
        assert_eq!((f.count, f.byte), (1, (at * TS_PACKET) as u64));
    }
    // A flag for a clock reference that has no room.
    let mut field = all.clone();
    field[at][3] |= 0x20;
    (field[at][4], field[at][5]) = (1, 0x10);
    has(&check(&field), TsFault::AdaptationField);

    let mut junk = all.concat();
    junk.splice(at * TS_PACKET..at * TS_PACKET, [1, 2, 3]);
    let mut checker = TsChecker::new(Origin::Start);
    checker.push(&junk.into());
    checker.finish(true);
    assert_eq!(only(&checker.findings(), TsFault::Sync).count, 3);
}

#[test]
fn table_defects_are_named() {
    let all = legal();
    let without = |p: u16| all.iter().filter(|r| pid(r) != p).copied().collect::<Vec<_>>();
    assert_eq!(only(&check(&without(0)), TsFault::NoPat).byte, 0);
    assert_eq!(only(&check(&without(0x1000)), TsFault::NoPmt).pid, Some(0x1000));

    let mut seldom = Vec::new();
    for (i, raw) in all.iter().enumerate() {
        // Of one second in the middle, no table.
        let gone = (all.len() / 3..all.len() / 2).contains(&i) && pid(raw) == 0x1000;
        if !gone {
            seldom.push(*raw);
        }
    }
    renumber(&mut seldom);
    assert!(only(&check(&seldom), TsFault::TableInterval).worst > 500);

    let mut crc = all.clone();
    let at = nth(&all, 5, |r| pid(r) == 0);
    crc[at][12] ^= 1;
    assert_eq!(only(&check(&crc), TsFault::TableChecksum).byte, (at * TS_PACKET) as u64);

    let mut changed = all.clone();
    for raw in changed.iter_mut().filter(|r| pid(r) == 0x1000).skip(5) {
        let length = 3 + usize::from(raw[7]);
        // Another programme number, no other version.
        raw[9] = 9;
        let crc = crc32(&raw[5..5 + length - 4]).to_be_bytes();
        raw[5 + length - 4..5 + length].copy_from_slice(&crc);
    }
    assert_eq!(has(&check(&changed), TsFault::TableVersion).count, 1);

    let mut stray = all.clone();
    let mut packet = [0xFF; TS_PACKET];
    packet[..4].copy_from_slice(&[0x47, 0x03, 0x33, 0x10]);
    stray.insert(50, packet);
    let f = only(&check(&stray), TsFault::UnlistedPid);
    assert_eq!((f.pid, f.count, f.byte), (Some(0x333), 1, 50 * TS_PACKET as u64));

    assert_eq!(only(&check(&without(0x101)), TsFault::SilentPid).pid, Some(0x101));
}

#[test]
fn a_wrong_stream_type_is_named() {
    let make = Make { kind: StreamKind::H265, aac: 1, sound_ahead: 9000, ..Make::default() };
    for (place, code) in [(0usize, 0x1Bu8), (1, 0x11)] {
        let mut all = packets(&make, 60);
        for raw in all.iter_mut().filter(|r| pid(r) == 0x1000) {
            let length = 3 + usize::from(raw[7]);
            raw[5 + 12 + place * 5] = code;
            let crc = crc32(&raw[5..5 + length - 4]).to_be_bytes();
            raw[5 + length - 4..5 + length].copy_from_slice(&crc);
        }
        let f = has(&check(&all), TsFault::StreamType);
        assert_eq!((f.pid, f.count), (Some(0x100 + place as u16), 1));
    }
}

#[test]
fn clock_defects_are_named() {
    let all = legal();
    let has_clock = |r: &Raw| r[3] & 0x20 != 0 && r[4] >= 7 && r[5] & 0x10 != 0;
    let mut none = all.clone();
    none.iter_mut().filter(|r| has_clock(r)).for_each(|r| r[5] &= !0x10);
    assert_eq!(only(&check(&none), TsFault::NoPcr).pid, Some(0x100));

    let mut gap = all.clone();
    gap.iter_mut().filter(|r| has_clock(r)).skip(20).take(10).for_each(|r| r[5] &= !0x10);
    let f = only(&check(&gap), TsFault::PcrInterval);
    assert!((200..300).contains(&f.worst), "{f:?}");
    // One left out is no more than broadcasters mind.
    let mut small = all.clone();
    small.iter_mut().filter(|r| has_clock(r)).skip(20).take(1).for_each(|r| r[5] &= !0x10);
    assert!(has(&check(&small), TsFault::PcrInterval).minor);

    let mut back = all.clone();
    let (a, b) = (nth(&all, 20, has_clock), nth(&all, 30, has_clock));
    let early: Vec<u8> = all[a][6..12].to_vec();
    back[b][6..12].copy_from_slice(&early);
    let f = has(&check(&back), TsFault::PcrBack);
    assert_eq!((f.count, f.byte), (1, (b * TS_PACKET) as u64));
    // Twice the same is not rising either.
    let mut same = all.clone();
    let before: Vec<u8> = all[nth(&all, 29, has_clock)][6..12].to_vec();
    same[b][6..12].copy_from_slice(&before);
    assert_eq!(has(&check(&same), TsFault::PcrBack).worst, 0);

    // A jump is no defect when it is announced.
    let later = packets(&Make { dts: 9_000_000, aac: 1, sound_ahead: 9000, ..Make::default() }, 100);
    let mut jump = [all.clone(), later.clone()].concat();
    renumber(&mut jump);
    has(&check(&jump), TsFault::PcrJump);
    jump.iter_mut().skip(all.len()).filter(|r| has_clock(r)).take(1).for_each(|r| r[5] |= 0x80);
    assert!(check(&jump).iter().all(|f| f.fault != TsFault::PcrJump));
}

#[test]
fn time_defects_are_named() {
    let all = legal();
    let times = |pes: &[u8]| PesHeader::parse(pes).and_then(|h| h.pts).expect("a time");
    let late = with_units(&all, 0x100, |n, pes| {
        if n >= 60 {
            let t = times(pes);
            set_dts(pes, t, t - 90 * 300);
        }
    });
    let found = check(&late);
    let f = has(&found, TsFault::DtsLate);
    assert!(f.worst >= 99 && f.count > 50, "{found:?}");
    assert_eq!(has(&found, TsFault::DtsBack).count, 1);

    let early = with_units(&all, 0x101, |_, pes| {
        let t = times(pes);
        set_dts(pes, t + 90_000 * 3, t + 90_000 * 3);
    });
    assert!(only(&check(&early), TsFault::DtsEarly).worst > 3000);

    let before = with_units(&all, 0x100, |n, pes| {
        if n == 70 {
            let t = times(pes);
            set_dts(pes, t - 1800, t);
        }
    });
    assert_eq!(only(&check(&before), TsFault::PtsBeforeDts).worst, 20);
}

#[test]
fn unit_defects_are_named() {
    let all = legal();
    let length = with_units(&all, 0x101, |n, pes| {
        if n == 20 {
            pes[5] += 5;
        }
    });
    assert_eq!(only(&check(&length), TsFault::PesLength).count, 1);

    let adts = with_units(&all, 0x101, |n, pes| {
        if n == 20 {
            // The frame says 16 bytes more than it has.
            pes[14 + 4] += 2;
        }
    });
    has(&check(&adts), TsFault::AdtsLength);

    let gap: Vec<Raw> = {
        let mut n = 0;
        let mut kept: Vec<Raw> = all
            .iter()
            .filter(|r| {
                pid(r) != 0x101 || {
                    n += 1;
                    !(50..56).contains(&n)
                }
            })
            .copied()
            .collect();
        renumber(&mut kept);
        kept
    };
    let f = only(&check(&gap), TsFault::SoundGap);
    assert_eq!((f.count, f.worst), (1, 128));

    let sets = with_units(&all, 0x100, |n, pes| {
        if n == 50 {
            let head = PesHeader::parse(pes).expect("a header").header_bytes;
            let idr = pes.windows(5).position(|w| w == [0, 0, 0, 1, 0x65]).expect("a keyframe");
            pes.drain(head + 6..idr);
            fix_length(pes);
        }
    });
    assert_eq!(only(&check(&sets), TsFault::NoParameterSets).count, 1);

    let mut flags = all.clone();
    flags.iter_mut().filter(|r| pid(r) == 0x100 && r[3] & 0x20 != 0 && r[4] > 0).for_each(|r| r[5] &= !0x40);
    assert_eq!(only(&check(&flags), TsFault::NoRandomAccess).count, 6);

    let delimiters = with_units(&all, 0x100, |_, pes| {
        let head = PesHeader::parse(pes).expect("a header").header_bytes;
        pes.drain(head..head + 6);
        fix_length(pes);
    });
    assert_eq!(only(&check(&delimiters), TsFault::NoDelimiter).count, 150);

    // Each picture in two PES packets.
    let split = {
        let mut extra = Vec::new();
        let mut out = Vec::new();
        let halves = with_units(&all, 0x100, |_, pes| {
            let rest = pes.split_off(pes.len() / 2);
            fix_length(pes);
            let mut second = Vec::new();
            let header = PesHeader::parse(pes).expect("a header");
            write_pes_header(0xE0, header.pts.expect("a time") + 1800, None, rest.len(), &mut second);
            second.extend_from_slice(&rest);
            extra.push(second);
        });
        let mut n = 0;
        for (i, raw) in halves.iter().enumerate() {
            out.push(*raw);
            let ends = halves[i + 1..].iter().find(|r| pid(r) == 0x100 && r[3] & 0x10 != 0).is_none_or(starts);
            if pid(raw) == 0x100 && raw[3] & 0x10 != 0 && ends {
                let mut first = true;
                for part in extra[n].chunks(160) {
                    let mut packet = [0xFF; TS_PACKET];
                    packet[..4].copy_from_slice(&[0x47, u8::from(first) << 6 | 1, 0, 0x30]);
                    packet[4] = (TS_PACKET - 5 - part.len()) as u8;
                    packet[5] = 0;
                    packet[TS_PACKET - part.len()..].copy_from_slice(part);
                    out.push(packet);
                    first = false;
                }
                n += 1;
            }
        }
        renumber(&mut out);
        out
    };
    assert_eq!(has(&check(&split), TsFault::SplitPicture).count, 150);
}

#[test]
fn where_decoding_can_start_is_judged() {
    let all = legal();
    let from = nth(&all, 5, |r| pid(r) == 0x100 && starts(r));
    let mut middle: Vec<Raw> = all.iter().filter(|r| pid(r) == 0 || pid(r) == 0x1000).take(2).copied().collect();
    middle.extend_from_slice(&all[from..]);
    renumber(&mut middle);
    let f = only(&check(&middle), TsFault::MidGop);
    assert_eq!(f.count, 20);
    let joined = check_from(Origin::Joined, &middle, false);
    assert!(joined.iter().all(|f| f.minor), "a running stream begins anywhere: {joined:?}");

    let one = packets(&Make { gop: 10_000, aac: 1, sound_ahead: 9000, ..Make::default() }, 400);
    let f = only(&check(&one), TsFault::OneKeyframe);
    assert!(f.worst > 15_000);
    only(&check_from(Origin::Joined, &one, false), TsFault::OneKeyframe);
    let short = check_from(Origin::Joined, &one[..one.len() / 4], false);
    assert_eq!(short, [], "four seconds say nothing yet");
}

#[test]
fn a_source_that_starts_again_is_no_defect() {
    let all = legal();
    let mut checker = TsChecker::new(Origin::Joined);
    checker.push(&all.concat().into());
    checker.restart();
    checker.push(&packets(&Make { dts: 5, aac: 1, sound_ahead: 9000, ..Make::default() }, 100).concat().into());
    checker.finish(false);
    assert_eq!(checker.findings(), []);
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, cases: 100, ..ProptestConfig::default() })]

    #[test]
    fn any_damage_is_survived(places in prop::collection::vec((0usize..400_000, any::<u8>()), 1..400), cut in 1usize..3000) {
        let mut all = legal().concat();
        let len = all.len();
        places.iter().for_each(|(at, value)| all[at % len] = *value);
        let mut checker = TsChecker::new(Origin::Start);
        all.chunks(cut).for_each(|c| checker.push(&Bytes::copy_from_slice(c)));
        checker.finish(true);
        let _ = checker.findings();
    }

    #[test]
    fn any_bytes_are_survived(data in prop::collection::vec(any::<u8>(), 0..6000), cut in 1usize..400) {
        let mut checker = TsChecker::new(Origin::Start);
        data.chunks(cut).for_each(|c| checker.push(&Bytes::copy_from_slice(c)));
        checker.finish(true);
        prop_assert!(checker.findings().len() <= 256);
    }
}
