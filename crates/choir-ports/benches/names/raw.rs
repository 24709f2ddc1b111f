//! The baselines: the same bytes to as many plain TCP connections, in blocking threads; and the
//! same with what each connection carries sealed by its sender and opened by its receiver, which
//! nothing that encrypts can do without.

use super::{RATE, Ran, TIME, cpu};
use choir_host::clock::unix_us;
use ring::aead::{AES_128_GCM, Aad, LessSafeKey, Nonce, UnboundKey};
use std::{
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    thread,
    time::{Duration, Instant},
};

/// Bytes sealed together, as in TLS, and what that adds to them.
const RECORD: usize = 16 << 10;
const TAG: usize = 16;

/// One end of a connection that seals or opens what it carries.
struct Records {
    key: LessSafeKey,
    count: u64,
}

impl Records {
    fn new() -> Self {
        Self { key: LessSafeKey::new(UnboundKey::new(&AES_128_GCM, &[7; 16]).unwrap()), count: 0 }
    }

    fn nonce(&mut self) -> Nonce {
        self.count += 1;
        let mut nonce = [0; 12];
        nonce[4..].copy_from_slice(&self.count.to_be_bytes());
        Nonce::assume_unique_for_key(nonce)
    }

    fn seal(&mut self, unit: &[u8], out: &mut Vec<u8>) {
        out.clear();
        for record in unit.chunks(RECORD) {
            let (start, nonce) = (out.len(), self.nonce());
            out.extend_from_slice(record);
            let tag = self.key.seal_in_place_separate_tag(nonce, Aad::empty(), &mut out[start..]).unwrap();
            out.extend_from_slice(tag.as_ref());
        }
    }

    fn open(&mut self, sealed: &mut [u8]) {
        for record in sealed.chunks_mut(RECORD + TAG) {
            let nonce = self.nonce();
            self.key.open_in_place(nonce, Aad::empty(), record).unwrap();
        }
    }
}

/// One thread writes each unit to all; each receiver's thread reads whole units. The first eight
/// bytes are its time.
pub fn fan_out(receivers: usize, size: usize, sealed: bool) -> Ran {
    let carried = if sealed { size + size.div_ceil(RECORD) * TAG } else { size };
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = listener.local_addr().unwrap();
    let readers: Vec<_> = (0..receivers)
        .map(|_| {
            thread::spawn(move || {
                let mut stream = TcpStream::connect(at).unwrap();
                let (mut unit, mut delays, mut records) = (vec![0; carried], Vec::new(), Records::new());
                while stream.read_exact(&mut unit).is_ok() {
                    if sealed {
                        records.open(&mut unit);
                    }
                    let made = i64::from_be_bytes(unit[..8].try_into().unwrap());
                    delays.push((unix_us() - made) as f64 / 1000.0);
                }
                delays
            })
        })
        .collect();
    let mut streams: Vec<(TcpStream, Records)> = (0..receivers).map(|_| (listener.accept().unwrap().0, Records::new())).collect();
    streams.iter().for_each(|(s, _)| s.set_nodelay(true).unwrap());
    let mut buffer = Vec::new();
    let mut unit = vec![0x65; size];
    let count = TIME.as_secs() * RATE;
    let (before, start) = (cpu(), Instant::now());
    for n in 0..count {
        let due = start + Duration::from_nanos(n * 1_000_000_000 / RATE);
        thread::sleep(due.saturating_duration_since(Instant::now()));
        unit[..8].copy_from_slice(&unix_us().to_be_bytes());
        for (stream, records) in &mut streams {
            if sealed {
                records.seal(&unit, &mut buffer);
            }
            stream.write_all(if sealed { &buffer } else { &unit }).unwrap();
        }
    }
    thread::sleep(Duration::from_millis(100));
    let spent = cpu() - before;
    drop(streams);
    let delays: Vec<f64> = readers.into_iter().flat_map(|r| r.join().unwrap()).collect();
    Ran::of(delays, count as usize * receivers, spent)
}
