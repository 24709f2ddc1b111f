//! Stave without a socket: both sides against each other, grades, lateness, order, groups, hostile
//! bytes.

#![allow(clippy::unwrap_used, clippy::disallowed_methods, reason = "tests")]

use choir_proto::stave::{
    Ask, Broken, CameraAnswer, CameraVerb, Carriage, Catalogue, FRAME_MAX, Framer, Grade, GroupReader, GroupWriter, Hello, Lane, Listener,
    ListenerConfig, ListenerEvent, Message, Offered, RefusalCode, Repair, SharedKey, SourceOffer, Speaker, SpeakerConfig, SpeakerEvent,
    StreamOffer, Tally, TallyBook, TallyWord, Timecode, Track, UnitError, UnitHead, UnitOrder, Verdict, Wish, frame, fuzz,
};
use proptest::prelude::*;
use std::{
    sync::OnceLock,
    time::{Duration, Instant},
};

const MS: Duration = Duration::from_millis(1);

fn key() -> SharedKey {
    static KEY: OnceLock<SharedKey> = OnceLock::new();
    KEY.get_or_init(|| SharedKey::derive("eight oars and a cox", "regatta")).clone()
}

fn hello(machine: &str) -> Hello {
    Hello { versions: vec![1], machine: machine.into(), node: format!("{machine}-1"), boot: 7, group: "regatta".into(), ..Hello::default() }
}

fn stream(id: u8, grade: Grade, codec: &str) -> StreamOffer {
    StreamOffer { id, grade, codec: codec.into(), size: Some((1920, 1080)), rate: Some(50.0), bitrate: 8_000_000, sound: None }
}

fn source(name: &str, streams: Vec<StreamOffer>) -> SourceOffer {
    SourceOffer { name: name.into(), carries: String::new(), streams, viewers: 0, camera: true, tally: TallyWord::Off, multicast: false }
}

fn catalogue(sources: Vec<SourceOffer>) -> Catalogue {
    Catalogue { sources, secured: "key".into(), machine: None }
}

fn wish(source: &str, grade: Option<Grade>) -> Wish {
    let codecs = ["h264", "h265"].map(str::to_owned).to_vec();
    Wish { source: source.into(), grade, patience: 100 * MS, codecs, carriage: Carriage::Streams }
}

/// Two ends of one connection.
struct Pair {
    now: Instant,
    speaker: Speaker,
    listener: Listener,
    heard: Vec<ListenerEvent>,
    told: Vec<SpeakerEvent>,
}

impl Pair {
    fn new(keys: (Option<SharedKey>, Option<SharedKey>), known: bool) -> Self {
        let now = Instant::now();
        let exported = [9; 32];
        let speaker = Speaker::new(SpeakerConfig { hello: hello("boathouse"), key: keys.0, exported, known }, now);
        let listener = Listener::new(ListenerConfig { hello: hello("jury"), key: keys.1, exported }, now);
        Self { now, speaker, listener, heard: Vec::new(), told: Vec::new() }
    }

    /// Hands over everything that either has to say, in pieces of `cut` bytes.
    fn talk(&mut self, cut: usize) -> Result<(), Broken> {
        loop {
            let mut quiet = true;
            while let Some(data) = self.listener.poll_control() {
                quiet = false;
                data.chunks(cut).try_for_each(|c| self.speaker.handle_control(self.now, c))?;
            }
            while let Some(data) = self.speaker.poll_control() {
                quiet = false;
                data.chunks(cut).try_for_each(|c| self.listener.handle_control(c))?;
            }
            self.heard.extend(std::iter::from_fn(|| self.listener.poll_event()));
            self.told.extend(std::iter::from_fn(|| self.speaker.poll_event()));
            if quiet {
                return Ok(());
            }
        }
    }

    fn pass(&mut self, time: Duration) {
        self.now += time;
        self.speaker.handle_timeout(self.now).unwrap();
        self.listener.handle_timeout(self.now).unwrap();
    }

    fn refusal(&self) -> Option<RefusalCode> {
        self.heard.iter().find_map(|e| if let ListenerEvent::Refused(r) = e { Some(r.code) } else { None })
    }

    fn played(&self) -> Vec<(u32, u8, String)> {
        let play = |e: &ListenerEvent| if let ListenerEvent::Play(p) = e { Some((p.turn, p.stream.id, p.why.clone())) } else { None };
        self.heard.iter().filter_map(play).collect()
    }
}

#[test]
fn a_name_is_wished_for_given_and_taken_up_again_when_it_comes_back() {
    for cut in [1, 7, 4096] {
        let mut p = Pair::new((Some(key()), Some(key())), true);
        p.listener.wish(wish("finish tower", None));
        p.listener.tally("Finish Tower", Tally::Next);
        p.talk(cut).unwrap();
        assert!(matches!(p.heard[0], ListenerEvent::Opened(ref h) if h.machine == "boathouse"), "{:?}", p.heard);
        assert_eq!(p.played(), [], "nobody has the name yet");
        assert!(p.told.contains(&SpeakerEvent::Tally("Finish Tower".into(), Tally::Next)), "said before, told once known");
        let with = catalogue(vec![source("Finish Tower", vec![stream(0, Grade::LongGop, "h264")])]);
        p.speaker.set_catalogue(p.now, &with);
        p.talk(cut).unwrap();
        assert_eq!(p.played(), [(1, 0, "asked".to_owned())]);
        assert!(p.told.contains(&SpeakerEvent::Wishes("Finish Tower".into())));
        // Gone, and back again.
        p.speaker.set_catalogue(p.now, &catalogue(vec![]));
        p.talk(cut).unwrap();
        assert_eq!(p.told.last(), Some(&SpeakerEvent::Enough("Finish Tower".into())));
        p.speaker.set_catalogue(p.now, &with);
        p.talk(cut).unwrap();
        assert_eq!(p.played().len(), 2);
        // Camera and report.
        let id = p.listener.camera("Finish Tower", CameraVerb::Preset { number: 3 });
        p.talk(cut).unwrap();
        assert!(matches!(p.told.last(), Some(SpeakerEvent::Camera(o)) if o.id == id && o.verb == CameraVerb::Preset { number: 3 }));
        p.speaker.answer(CameraAnswer { id, done: false, why: "it has no camera".into() });
        p.listener.note(50, 1, 9000);
        p.pass(Duration::from_secs(1));
        p.talk(cut).unwrap();
        assert!(matches!(p.heard.last(), Some(ListenerEvent::Camera(a)) if a.id == id && !a.done));
        assert!(matches!(p.told.last(), Some(SpeakerEvent::Report(r)) if (r.units, r.missing, r.bytes) == (50, 1, 9000)));
        p.speaker.bye("the show ends");
        p.talk(cut).unwrap();
        assert_eq!(p.heard.last(), Some(&ListenerEvent::Gone("the show ends".into())));
    }
}

#[test]
fn whoever_cannot_prove_the_key_learns_no_name() {
    let other = SharedKey::derive("six oars", "regatta");
    for (keys, known, code) in [
        ((Some(key()), None), true, RefusalCode::Key),
        ((Some(key()), Some(other.clone())), true, RefusalCode::Key),
        ((None, Some(key())), true, RefusalCode::Key),
        ((None, None), false, RefusalCode::Unknown),
        ((Some(key()), Some(key())), false, RefusalCode::Unknown),
    ] {
        let mut p = Pair::new(keys, known);
        p.speaker.set_catalogue(p.now, &catalogue(vec![source("Finish Tower", vec![])]));
        p.listener.wish(wish("Finish Tower", None));
        p.talk(64).unwrap();
        assert_eq!(p.refusal(), Some(code), "{:?}", p.heard);
        assert!(p.listener.is_done() && !p.heard.iter().any(|e| matches!(e, ListenerEvent::Catalogue(_) | ListenerEvent::Opened(_))));
    }
    // A proof that belongs to another connection.
    let now = Instant::now();
    let mut speaker = Speaker::new(SpeakerConfig { hello: hello("boathouse"), key: Some(key()), exported: [1; 32], known: true }, now);
    let mut listener = Listener::new(ListenerConfig { hello: hello("jury"), key: Some(key()), exported: [2; 32] }, now);
    speaker.handle_control(now, &listener.poll_control().unwrap()).unwrap();
    assert!(speaker.is_done() && speaker.peer().is_none());
    // Its own proof sent back.
    let mut mirror = Listener::new(ListenerConfig { hello: hello("jury"), key: Some(key()), exported: [2; 32] }, now);
    let own = mirror.poll_control().unwrap();
    mirror.handle_control(&own).unwrap();
    assert!(matches!(mirror.poll_event(), Some(ListenerEvent::Refused(r)) if r.code == RefusalCode::Key));
}

#[test]
fn another_version_another_group_and_no_word_at_all_are_told_apart() {
    for (change, code) in [
        ((|h: &mut Hello| h.versions = vec![2, 3]) as fn(&mut Hello), RefusalCode::Version),
        (|h: &mut Hello| h.group = "harbour".into(), RefusalCode::Group),
    ] {
        let now = Instant::now();
        let mut speaker = Speaker::new(SpeakerConfig { hello: hello("boathouse"), key: None, exported: [0; 32], known: true }, now);
        let mut theirs = hello("jury");
        change(&mut theirs);
        speaker.handle_control(now, &frame(&Message::Hello(theirs))).unwrap();
        let said = Framer::default().push(&speaker.poll_control().unwrap()).unwrap();
        assert!(matches!(&said[..], [Message::Refuse(r)] if r.code == code), "{said:?}");
    }
    let mut p = Pair::new((None, None), true);
    p.now += Duration::from_secs(3);
    assert_eq!(p.speaker.poll_timeout(), Some(p.now));
    assert_eq!(p.speaker.handle_timeout(p.now), Err(Broken::TooLate("Hello")));
    assert_eq!(p.listener.handle_timeout(p.now), Err(Broken::TooLate("the source's Hello")));
}

#[test]
fn unknown_messages_are_skipped_and_limits_hold() {
    let mut p = Pair::new((None, None), true);
    p.talk(512).unwrap();
    let strange = [&5u32.to_be_bytes()[..], &999u16.to_be_bytes(), &[0xFF; 5]].concat();
    p.speaker.handle_control(p.now, &strange).unwrap();
    p.listener.handle_control(&strange).unwrap();
    let more = br#"{"source":"Finish Tower","tally":"on-air","since":"a later version"}"#;
    p.speaker.handle_control(p.now, &[&(more.len() as u32).to_be_bytes()[..], &7u16.to_be_bytes(), more].concat()).unwrap();
    assert_eq!(p.speaker.poll_event(), Some(SpeakerEvent::Tally("Finish Tower".into(), Tally::OnAir)));
    let later = br#"{"source":"Finish Tower","tally":"on-air-soon"}"#;
    p.speaker.handle_control(p.now, &[&(later.len() as u32).to_be_bytes()[..], &7u16.to_be_bytes(), later].concat()).unwrap();
    assert_eq!(p.speaker.poll_event(), Some(SpeakerEvent::Tally("Finish Tower".into(), Tally::Off)), "a word not known is none");
    let long = (FRAME_MAX as u32 + 1).to_be_bytes();
    assert_eq!(p.listener.handle_control(&[&long[..], &[0, 3]].concat()), Err(Broken::TooLong(FRAME_MAX + 1)));
    let enough = frame(&Message::Enough(serde_json::from_str("{}").unwrap()));
    let flood = enough.repeat(201);
    assert_eq!(p.speaker.handle_control(p.now, &flood), Err(Broken::TooMany("200 control messages a second")));
    // Before Hello nothing else counts.
    let mut fresh = Pair::new((None, None), true);
    assert_eq!(fresh.speaker.handle_control(fresh.now, &enough), Err(Broken::OutOfTurn("Enough")));
}

#[test]
fn the_grade_is_what_was_asked_for_or_the_nearest_there_is() {
    let all = [stream(0, Grade::LongGop, "h265"), stream(1, Grade::Sub, "h264"), stream(2, Grade::Intra, "jpeg")];
    for (codecs, grade, offered, given) in [
        (vec!["h264", "h265", "jpeg"], None, &all[..], Some(2)),
        (vec!["h264", "h265"], None, &all, Some(0)),
        (vec!["h264", "h265"], Some(Grade::Intra), &all, Some(0)),
        (vec!["h264"], None, &all, Some(1)),
        (vec!["h264", "h265"], Some(Grade::Sub), &all, Some(1)),
        (vec!["h264", "h265", "jpeg"], Some(Grade::Sub), &[all[0].clone(), all[2].clone()], Some(0)),
        (vec!["mpeg2"], None, &all, None),
    ] {
        let ask = Ask {
            source: "Finish Tower".into(),
            grade,
            patience_ms: 100,
            codecs: codecs.iter().map(|c| (*c).to_owned()).collect(),
            carriage: Carriage::Streams,
        };
        let mut lane = Lane::new(ask, offered);
        assert_eq!(lane.poll_play().map(|p| p.stream.id), given, "{codecs:?} {grade:?}");
        assert_eq!(lane.unusable(), given.is_none());
    }
}

fn lane(grades: &[Grade]) -> Lane {
    let offered: Vec<_> = grades.iter().enumerate().map(|(n, g)| stream(n as u8, *g, "h264")).collect();
    let ask = Ask { source: "s".into(), grade: None, patience_ms: 40, codecs: vec!["h264".into()], carriage: Carriage::Streams };
    let mut lane = Lane::new(ask, &offered);
    lane.poll_play().unwrap();
    lane
}

fn picture(keyframe: bool) -> Offered {
    Offered { track: Track::Picture, keyframe, pts: 0, made_us: 0, size: 10_000, timecode: None }
}

fn send(v: Verdict) -> Option<(u64, UnitHead)> {
    if let Verdict::Send { key, head, .. } = v { Some((key, head)) } else { None }
}

#[test]
fn a_late_picture_costs_those_that_lean_on_it_and_no_more() {
    let now = Instant::now();
    let mut long = lane(&[Grade::LongGop]);
    assert_eq!(long.offer(now, 0, &picture(false)), Verdict::Skip, "begins at a keyframe");
    let (_, head) = send(long.offer(now, 0, &picture(true))).unwrap();
    assert!(head.fresh && head.keyframe && head.number == 0);
    let (key, head) = send(long.offer(now, 0, &picture(false))).unwrap();
    assert!(!head.fresh && head.number == 1);
    long.late(now, key);
    assert_eq!(long.offer(now, 0, &picture(false)), Verdict::Skip);
    let sound = Offered { track: Track::Sound, ..picture(true) };
    assert!(send(long.offer(now, 0, &sound)).is_some(), "sound goes on");
    assert_eq!(send(long.offer(now, 0, &picture(true))).unwrap().1.number, 2, "what is left out has no number");
    let mut intra = lane(&[Grade::Intra]);
    let (key, _) = send(intra.offer(now, 0, &picture(true))).unwrap();
    intra.late(now, key);
    assert!(send(intra.offer(now, 0, &picture(true))).is_some());
    assert_eq!((long.late_units(), intra.late_units()), (1, 1));
}

#[test]
fn one_that_cannot_keep_up_goes_down_and_climbs_again_ever_more_rarely() {
    let mut now = Instant::now();
    let mut l = lane(&[Grade::Intra, Grade::LongGop, Grade::Sub]);
    let late_thrice = |l: &mut Lane, now: &mut Instant| {
        for _ in 0..3 {
            *now += 20 * MS;
            let at = l.stream().unwrap();
            let (key, _) = send(l.offer(*now, at, &picture(true))).unwrap();
            l.late(*now, key);
        }
    };
    late_thrice(&mut l, &mut now);
    let play = l.poll_play().unwrap();
    assert_eq!((play.stream.grade, play.why.as_str(), play.turn), (Grade::LongGop, "slow", 2));
    assert_eq!(l.offer(now, 0, &picture(true)), Verdict::Skip, "of the stream that it had");
    late_thrice(&mut l, &mut now);
    assert_eq!(l.poll_play().unwrap().stream.grade, Grade::Sub);
    late_thrice(&mut l, &mut now);
    assert!(l.poll_play().is_none(), "lower there is nothing");
    let mut waits = Vec::new();
    for _ in 0..3 {
        let start = now;
        let play = loop {
            now += 100 * MS;
            let at = l.stream().unwrap();
            if let Some((key, _)) = send(l.offer(now, at, &picture(true))) {
                l.done(key);
            }
            if let Some(play) = l.poll_play() {
                break play;
            }
        };
        assert_eq!((play.stream.grade, play.why.as_str()), (Grade::LongGop, "better"));
        waits.push((now - start).as_secs());
        late_thrice(&mut l, &mut now);
        assert_eq!(l.poll_play().unwrap().stream.grade, Grade::Sub);
    }
    assert!(waits[0] >= 9 && waits[1] >= 19 && waits[2] >= 39, "{waits:?}");
}

#[test]
fn a_receiver_that_takes_nothing_costs_bounded_room() {
    let now = Instant::now();
    let mut l = lane(&[Grade::Intra]);
    let sent = (0..10_000).filter(|_| send(l.offer(now, 0, &picture(true))).is_some()).count();
    assert!(sent <= 128, "{sent}");
    let mut big = lane(&[Grade::Intra]);
    let huge = Offered { size: 8 << 20, ..picture(true) };
    assert_eq!((0..100).filter(|_| send(big.offer(now, 0, &huge)).is_some()).count(), 4);
}

#[test]
fn the_strongest_tally_counts_and_leaves_with_its_receiver() {
    let mut book = TallyBook::default();
    assert_eq!(book.say(1, Tally::Next), Some(Tally::Next));
    assert_eq!(book.say(2, Tally::OnAir), Some(Tally::OnAir));
    assert_eq!(book.say(3, Tally::Next), None);
    assert_eq!(book.leave(2), Some(Tally::Next));
    assert_eq!(book.say(1, Tally::Off), None);
    assert_eq!(book.leave(3), Some(Tally::Off));
    assert_eq!(book.leave(3), None);
}

fn head(number: u32, track: Track, keyframe: bool) -> UnitHead {
    UnitHead { track, keyframe, fresh: number == 0, turn: 1, number, pts: i64::from(number) * 1800, made_us: 0, size: 100, timecode: None }
}

#[test]
fn units_that_overtake_the_word_on_their_turn_wait_for_it() {
    let now = Instant::now();
    let mut order: UnitOrder<u8> = UnitOrder::new(20 * MS);
    order.push(now, head(1, Track::Picture, false), 1);
    order.push(now, head(0, Track::Picture, true), 0);
    assert_eq!(order.poll(), None);
    order.turn(now, 1, Grade::LongGop, false);
    assert_eq!(std::iter::from_fn(|| order.poll()).map(|o| o.data).collect::<Vec<_>>(), [0, 1]);
    // An ended turn is over, and what nobody announces does not pile up.
    order.turn(now, 2, Grade::LongGop, false);
    order.push(now, head(2, Track::Picture, false), 2);
    for n in 0..1000 {
        order.push(now, UnitHead { turn: 3, ..head(n, Track::Picture, true) }, 3);
    }
    assert_eq!((order.poll(), order.counts().2), (None, 1 + 1000 - 16));
}

#[test]
fn heads_survive_the_wire_and_additions_not_known_are_skipped() {
    let timecode = Timecode::of_day(14 * 3_600_000_000 + 32 * 60_000_000 + 5_480_000, 25.0);
    assert_eq!(timecode.to_string(), "14:32:05:12");
    let h = UnitHead { timecode: Some(timecode), pts: -5, made_us: u64::MAX, ..head(77, Track::Sound, true) };
    let mut bytes = h.write();
    assert_eq!(UnitHead::read(&bytes), Ok((h, bytes.len())));
    // Another addition in front of it.
    let at = bytes.len() - 7;
    bytes.splice(at..at, [9, 0, 2, 1, 2]);
    bytes[7] += 5;
    assert_eq!(UnitHead::read(&bytes), Ok((h, bytes.len())));
    for cut in 0..bytes.len() {
        assert!(UnitHead::read(&bytes[..cut]).is_err());
    }
    let mut other = h.write();
    other[1] = 3;
    assert_eq!(UnitHead::read(&other), Err(UnitError::Track(3)));
    other[0] = 2;
    assert_eq!(UnitHead::read(&other), Err(UnitError::Version(2)));
}

/// What a group brings through a way that loses, doubles and reorders, the last unit apart: a loss
/// is noticed by what follows it. Gives units whole, and the reader.
fn through_group(units: &[Vec<u8>], seed: u64, loss: u64, repaired: bool) -> (Vec<Vec<u8>>, GroupReader) {
    let mut now = Instant::now();
    let mut writer = GroupWriter::new(std::array::from_fn(|i| (i as u8).wrapping_mul(seed as u8 | 1)));
    let offer = writer.offer(([239, 20, 0, 9], 7350).into(), 1);
    let mut reader = GroupReader::new(&offer, 100 * MS).unwrap();
    let (mut state, mut out, mut delayed) = (seed, Vec::new(), Vec::new());
    let mut dice = |of: u64| {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (state >> 33) % of
    };
    for (i, u) in units.iter().enumerate() {
        now += 5 * MS;
        for packet in writer.write(&u[..36], &u[36..], 0) {
            match if i + 1 == units.len() { 99 } else { dice(100) } {
                n if n < loss => {}
                n if n < loss + 5 => delayed.push(packet),
                n => {
                    reader.handle_packet(now, &packet);
                    if n == 99 {
                        reader.handle_packet(now, &packet);
                    }
                }
            }
        }
        for packet in delayed.drain(..) {
            reader.handle_packet(now, &packet);
        }
        now += 3 * MS;
        while let Some(repair) = reader.poll_repair(now).filter(|_| repaired) {
            for packet in writer.again(&repair) {
                reader.handle_packet(now, &packet);
            }
        }
        reader.handle_timeout(now);
        out.extend(std::iter::from_fn(|| reader.poll_unit()));
    }
    (out, reader)
}

#[test]
fn packets_of_another_key_or_touched_on_the_way_are_refused() {
    let now = Instant::now();
    let mut writer = GroupWriter::new([3; 32]);
    let offer = writer.offer(([239, 20, 0, 9], 7350).into(), 1);
    let mut reader = GroupReader::new(&offer, 100 * MS).unwrap();
    let packet = writer.write(&[1; 40], &[2; 500], 0).remove(0);
    for i in 0..packet.len() {
        let mut touched = packet.to_vec();
        touched[i] ^= 1;
        reader.handle_packet(now, &touched);
    }
    assert_eq!((reader.stats().packets, reader.stats().refused), (0, packet.len() as u64));
    reader.handle_packet(now, &packet);
    reader.handle_packet(now, &packet);
    assert_eq!((reader.stats().packets, reader.stats().refused), (1, packet.len() as u64 + 1), "once, and no replay");
    assert_eq!(reader.poll_unit().unwrap().len(), 540);
    let bad = choir_proto::stave::GroupOffer { key: "00".into(), ..offer };
    assert!(GroupReader::new(&bad, 100 * MS).is_none());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    #[test]
    fn units_leave_in_order_and_none_that_came_is_lost(
        arrivals in prop::collection::vec((0u64..30, prop::bool::weighted(0.9)), 1..80),
        intra: bool,
    ) {
        // Unit n sets out at 20 n ms and takes so long, or never comes.
        let start = Instant::now();
        let hold = 25 * MS;
        let grade = if intra { Grade::Intra } else { Grade::LongGop };
        let mut order: UnitOrder<u32> = UnitOrder::new(hold);
        order.turn(start, 1, grade, false);
        let mut events: Vec<(Duration, u32)> = arrivals.iter().enumerate().filter(|(_, a)| a.1)
            .map(|(n, a)| (MS * (n as u32 * 20) + MS * a.0 as u32, n as u32)).collect();
        events.sort();
        let mut got = Vec::new();
        let mut take = |order: &mut UnitOrder<u32>, at: Duration| {
            while let Some(o) = order.poll() {
                got.push((at, o.head.number, o.gap));
            }
        };
        for (at, n) in &events {
            while let Some(due) = order.poll_timeout().filter(|d| *d < start + *at) {
                order.handle_timeout(due);
                take(&mut order, due - start);
            }
            order.push(start + *at, head(*n, Track::Picture, intra || n.is_multiple_of(10)), *n);
            take(&mut order, *at);
        }
        order.handle_timeout(start + Duration::from_secs(100));
        take(&mut order, Duration::from_secs(100));
        prop_assert!(got.windows(2).all(|w| w[0].1 < w[1].1), "{got:?}");
        for (at, n) in &events {
            let out = got.iter().find(|g| g.1 == *n);
            match out {
                // Never held longer than for one that is overtaken.
                Some((left, ..)) => prop_assert!(*left <= *at + hold || *left == Duration::from_secs(100), "{n}: {at:?} to {left:?}"),
                None => prop_assert!(!intra || got.iter().any(|g| g.1 > *n), "{n} is gone without a later one"),
            }
        }
        if arrivals.iter().all(|a| a.1 && a.0 < 20) {
            prop_assert_eq!(got.len(), arrivals.len());
        }
        if !intra {
            // Behind a hole nothing but a keyframe.
            prop_assert!(got.windows(2).all(|w| w[1].1 == w[0].1 + 1 || w[1].1.is_multiple_of(10)), "{got:?}");
        }
        let (passed, missing, _) = order.counts();
        prop_assert_eq!(passed, got.len() as u64);
        prop_assert!(passed + missing <= arrivals.len() as u64);
    }

    #[test]
    fn a_group_with_repair_brings_every_unit_and_without_it_the_whole_ones(seed: u64, loss in 0u64..20, sizes in prop::collection::vec(37usize..20_000, 1..40)) {
        let units: Vec<Vec<u8>> = sizes.iter().enumerate().map(|(n, s)| (0..*s).map(|i| (i * 7 + n) as u8).collect()).collect();
        let (got, reader) = through_group(&units, seed, loss, true);
        for u in &units {
            prop_assert!(got.contains(u), "{} of {} units, {:?}", got.len(), units.len(), reader.stats());
        }
        let (plain, reader) = through_group(&units, seed, loss, false);
        prop_assert!(plain.iter().all(|u| units.contains(u)));
        prop_assert!(loss > 0 || plain.len() == units.len(), "{:?}", reader.stats());
        prop_assert_eq!(reader.stats().repaired <= reader.stats().lost, true);
    }

    #[test]
    fn numbers_wrap_in_a_group(start in 65_000u64..66_000) {
        let now = Instant::now();
        let mut writer = GroupWriter::new([5; 32]);
        for _ in 0..start {
            writer.write(&[0; 36], &[], 0);
        }
        let mut reader = GroupReader::new(&writer.offer(([239, 20, 0, 9], 7350).into(), 1), 100 * MS).unwrap();
        for n in 0..1000u32 {
            let packet = writer.write(&[0; 36], &n.to_be_bytes(), 0).remove(0);
            reader.handle_packet(now, &packet);
        }
        prop_assert_eq!(reader.stats().packets, 1000);
    }

    #[test]
    fn junk_is_refused_without_panic(pieces in prop::collection::vec(prop::collection::vec(any::<u8>(), 0..200), 0..20), kind in 0u16..20, body in ".{0,200}") {
        let now = Instant::now();
        let refs: Vec<&[u8]> = pieces.iter().map(Vec::as_slice).collect();
        fuzz::control(now, &refs);
        let greeting = frame(&Message::Hello(hello("jury")));
        let odd = [&(body.len() as u32).to_be_bytes()[..], &kind.to_be_bytes(), body.as_bytes()].concat();
        fuzz::control(now, &[&greeting, &odd, refs.first().copied().unwrap_or_default()]);
        for p in &pieces {
            fuzz::unit(p);
            fuzz::packet(now, p);
        }
        fuzz::packet(now, body.as_bytes());
    }

    #[test]
    fn spoilt_messages_break_the_stream_or_are_read(spoil in prop::collection::vec((0usize..400, any::<u8>()), 1..4)) {
        let play = Message::Catalogue(catalogue(vec![source("Finish Tower", vec![stream(0, Grade::Intra, "h264")])]));
        let mut data = [frame(&Message::Hello(hello("boathouse"))), frame(&play)].concat();
        let len = data.len();
        for (at, value) in spoil {
            data[at % len] = value;
        }
        fuzz::control(Instant::now(), &[&data]);
    }
}

#[test]
fn a_repair_request_cannot_ask_for_more_than_there_is() {
    let mut writer = GroupWriter::new([5; 32]);
    (0..20).for_each(|_| drop(writer.write(&[0; 36], &[0; 5000], 0)));
    let all = Repair { ranges: vec![(0, u32::MAX); 1000] };
    assert!(writer.again(&all).len() <= 8192);
    assert_eq!(writer.again(&Repair { ranges: vec![(u64::MAX - 1, 5), (3, 2)] }).len(), 2);
    // What is there is found behind what is long gone, without a look at each of those.
    (0..10_000).for_each(|_| drop(writer.write(&[0; 36], &[], 0)));
    assert_eq!(writer.again(&Repair { ranges: vec![(0, u32::MAX); 64] }).len(), 512);
}
