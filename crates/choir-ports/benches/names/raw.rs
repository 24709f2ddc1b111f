//! The baseline: the same bytes to as many plain TCP connections, in blocking threads.

use super::{RATE, Ran, TIME, cpu};
use choir_host::clock::unix_us;
use std::{
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    thread,
    time::{Duration, Instant},
};

/// One thread writes each unit to all; each receiver's thread reads whole units. The first eight
/// bytes are its time.
pub fn fan_out(receivers: usize, size: usize) -> Ran {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = listener.local_addr().unwrap();
    let readers: Vec<_> = (0..receivers)
        .map(|_| {
            thread::spawn(move || {
                let mut stream = TcpStream::connect(at).unwrap();
                let (mut unit, mut delays) = (vec![0; size], Vec::new());
                while stream.read_exact(&mut unit).is_ok() {
                    let made = i64::from_be_bytes(unit[..8].try_into().unwrap());
                    delays.push((unix_us() - made) as f64 / 1000.0);
                }
                delays
            })
        })
        .collect();
    let mut streams: Vec<TcpStream> = (0..receivers).map(|_| listener.accept().unwrap().0).collect();
    streams.iter().for_each(|s| s.set_nodelay(true).unwrap());
    let mut unit = vec![0x65; size];
    let count = TIME.as_secs() * RATE;
    let (before, start) = (cpu(), Instant::now());
    for n in 0..count {
        let due = start + Duration::from_nanos(n * 1_000_000_000 / RATE);
        thread::sleep(due.saturating_duration_since(Instant::now()));
        unit[..8].copy_from_slice(&unix_us().to_be_bytes());
        for s in &mut streams {
            s.write_all(&unit).unwrap();
        }
    }
    thread::sleep(Duration::from_millis(100));
    let spent = cpu() - before;
    drop(streams);
    let delays: Vec<f64> = readers.into_iter().flat_map(|r| r.join().unwrap()).collect();
    Ran::of(delays, count as usize * receivers, spent)
}
