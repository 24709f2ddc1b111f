//! Raw programs to compare with: the same datagrams without any protocol.

use choir_host::clock::{Alarm, thread_cpu};
use std::{
    net::UdpSocket,
    time::{Duration, Instant},
};

const SIZE: usize = 1316 + 16;

fn pair() -> (UdpSocket, UdpSocket) {
    let a = UdpSocket::bind("127.0.0.1:0").expect("bound");
    let b = UdpSocket::bind("127.0.0.1:0").expect("bound");
    a.connect(b.local_addr().expect("address")).expect("connected");
    (a, b)
}

/// One thread sends and receives each datagram: ns of CPU per packet.
pub fn floor(packets: u32) -> f64 {
    let (a, b) = pair();
    let (data, mut buffer) = ([0x47u8; SIZE], [0u8; 2048]);
    let before = thread_cpu();
    for _ in 0..packets {
        a.send(&data).expect("sent");
        b.recv(&mut buffer).expect("received");
    }
    (thread_cpu() - before).as_nanos() as f64 / f64::from(packets)
}

/// One thread sends as fast as it can, one receives: ns of CPU per packet that arrived.
pub fn two_threads(packets: u32) -> f64 {
    let (a, b) = pair();
    b.set_read_timeout(Some(Duration::from_millis(200))).expect("set");
    let receiver = std::thread::spawn(move || {
        let before = thread_cpu();
        let (mut buffer, mut count) = ([0u8; 2048], 0u32);
        while b.recv(&mut buffer).is_ok() {
            count += 1;
        }
        (thread_cpu() - before, count)
    });
    let data = [0x47u8; SIZE];
    let before = thread_cpu();
    for _ in 0..packets {
        let _ = a.send(&data);
    }
    let sent = (thread_cpu() - before).as_nanos() as f64 / f64::from(packets);
    let (cpu, count) = receiver.join().expect("joined");
    sent + cpu.as_nanos() as f64 / f64::from(count.max(1))
}

/// How late the timer rings, µs, sorted.
pub fn timer_lateness(steps: usize) -> Vec<f64> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let mut late: Vec<f64> = runtime.block_on(async {
        let mut alarm = Alarm::new().expect("an alarm");
        let mut at = Instant::now();
        let mut late = Vec::new();
        for _ in 0..steps {
            at += Duration::from_micros(1316);
            alarm.until(at).await;
            late.push(at.elapsed().as_nanos() as f64 / 1000.0);
        }
        late
    });
    late.sort_by(f64::total_cmp);
    late
}
