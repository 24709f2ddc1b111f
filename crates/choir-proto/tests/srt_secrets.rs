//! What somebody who records and replays packets can and cannot do to encrypted links.

use bytes::Bytes;
use choir_path::Faults;
use choir_proto::srt::{
    CallKeys, LinkConfig, Passphrase, Seq,
    wire::{KeyFlag, Packet},
};
use choir_rig::pair::{A, B, Pair, ms};
use std::collections::HashMap;

const PROGRAMME: [&[u8]; 2] = [b"the first programme, which is long since over ", b"another programme, recorded on another day    "];

fn pass() -> LinkConfig {
    LinkConfig { passphrase: Passphrase::new("four oars and a cox").ok(), ..LinkConfig::default() }
}

fn clean(seed: u64) -> Pair {
    let f = Faults { delay: ms(10), ..Faults::default() };
    Pair::new(seed, f.clone(), f)
}

/// What went out from an end: payloads by their numbers.
fn recorded(pair: &Pair, end: usize) -> HashMap<u32, Vec<u8>> {
    let mut all = HashMap::new();
    for (_, data) in pair.tap.iter().flatten().filter(|(from, _)| *from == end) {
        if let Ok(Packet::Data(header, payload)) = Packet::parse(data) {
            assert_ne!(header.key, KeyFlag::Clear);
            all.insert(header.seq.raw(), payload.to_vec());
        }
    }
    all
}

/// A caller whose conclusion is always the same, as if it were replayed, and a listener that sends
/// it so many packets of a programme; and back as many, if it may.
fn session(seed: u64, programme: usize, back: bool, own: Option<u32>) -> Pair {
    let mut pair = clean(seed);
    pair.tap = Some(Vec::new());
    let config = LinkConfig { initial_seq: Some(Seq::new(5)), ..pass() };
    pair.listen(LinkConfig { initial_seq: own.map(Seq::new), ..pass() });
    let (now, to) = (pair.instant(A), pair.addr[B]);
    let keys = CallKeys::draw(&config, [7; 32]);
    pair.ends[A].greet(now, to, config, keys, false);
    assert!(pair.join(ms(500)));
    let (a, b) = (pair.up(A).expect("up"), pair.up(B).expect("up"));
    for n in 0..100_u8 {
        let text = |programme: usize| Bytes::from([PROGRAMME[programme], &[n]].concat());
        assert!(pair.send(B, b, text(programme)));
        if back {
            assert!(pair.send(A, a, text(1 - programme)));
        }
        pair.run_for(ms(5));
    }
    pair.run_for(ms(400));
    let heard: Vec<&[u8]> = pair.seen[A].delivered.iter().map(|(_, d)| &d.payload[..]).collect();
    assert_eq!(heard.len(), 100, "all of it arrives");
    assert!(heard.iter().enumerate().all(|(n, p)| p.starts_with(PROGRAMME[programme]) && *p.last().expect("a byte") == n as u8));
    pair
}

/// Numbers of packets that two recordings have in common, and of those how many were encrypted
/// with the same keystream: their difference is that of the programmes.
fn shared(first: &HashMap<u32, Vec<u8>>, second: &HashMap<u32, Vec<u8>>) -> (usize, usize) {
    let open: Vec<u8> = PROGRAMME[0].iter().zip(PROGRAMME[1]).map(|(a, b)| a ^ b).collect();
    let both: Vec<(&Vec<u8>, &Vec<u8>)> = first.iter().filter_map(|(seq, a)| Some((a, second.get(seq)?))).collect();
    let same = both.iter().filter(|(a, b)| a.iter().zip(*b).map(|(a, b)| a ^ b).take(open.len()).eq(open.iter().copied())).count();
    (both.len(), same)
}

#[test]
fn a_conclusion_that_is_replayed_does_not_make_a_listener_encrypt_with_the_same_stream_again() {
    // With the same numbers, so that nothing but the key stands between.
    let sessions = [(1, 0), (2, 1)].map(|(seed, programme)| session(seed, programme, false, Some(5)));
    let [first, second] = sessions.each_ref().map(|pair| recorded(pair, B));
    assert_eq!(shared(&first, &second), (100, 0), "packets in common, and with the same keystream");
    // And of its own accord it does not begin at the same number.
    let sessions = [(1, 0), (2, 1)].map(|(seed, programme)| session(seed, programme, false, None));
    let [first, second] = sessions.each_ref().map(|pair| recorded(pair, B));
    assert_eq!(shared(&first, &second).0, 0);
}

#[test]
fn the_two_directions_of_a_session_have_streams_of_their_own() {
    let pair = session(3, 0, true, Some(5));
    assert_eq!(shared(&recorded(&pair, B), &recorded(&pair, A)), (100, 0));
    // Also where the ends have met.
    for seed in 0..8 {
        let mut pair = clean(seed);
        pair.tap = Some(Vec::new());
        let config = LinkConfig { initial_seq: Some(Seq::new(5)), ..pass() };
        pair.meet(config.clone(), config);
        assert!(pair.join(ms(1000)));
        for end in [A, B] {
            let conn = pair.up(end).expect("up");
            for _ in 0..20 {
                assert!(pair.send(end, conn, Bytes::from_static(PROGRAMME[end])));
                pair.run_for(ms(5));
            }
        }
        pair.run_for(ms(400));
        assert_eq!(shared(&recorded(&pair, A), &recorded(&pair, B)), (20, 0));
        assert!(pair.seen.iter().all(|s| s.delivered.len() == 20));
    }
}
