//! What cameras on the LAN cost: pulled by RTSP, handed on by SRT, served by RTSP; beside a raw
//! relay of as many UDP packets of the same size on the same machine at the same moment.
//!
//! `cargo bench -p choir-show --bench lan`; `-- pull`, `-- onward`, `-- viewers` or `-- delay` runs
//! one part.

mod cameras;
mod relay;

use cameras::{FRAME_RATE, MBITS, Shape};
use relay::Load;
use std::time::Duration;

const TIME: Duration = Duration::from_secs(5);

fn wanted(part: &str) -> bool {
    let args: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    args.is_empty() || args.iter().any(|a| part.starts_with(a.as_str()))
}

fn row(name: &str, count: usize, load: &Load, floor: f64) {
    let per_mbit = load.cores * 1000.0 / (count as f64 * MBITS);
    println!(
        "{name:18} {count:5} {:10.3} {per_mbit:14.3} {:14.0} {floor:10.0} {:11.2} {:10.2} %",
        load.cores,
        load.ns_per_packet,
        load.ns_per_packet / floor,
        load.delivered * 100.0
    );
}

fn main() {
    let heads = "                   count      cores  mcore/Mbit/s  ns per packet  raw relay  over relay  delivered";
    if wanted("pull") || wanted("onward") {
        println!("cameras of {MBITS} Mbit/s at {FRAME_RATE} frames a second, CPU of the pulling thread alone\n{heads}");
    }
    for (part, name, srt) in [("pull", "pulled, metered", false), ("onward", "RTSP in, SRT out", true)] {
        if wanted(part) {
            for count in [1, 10, 30] {
                let floor = relay::raw(60_000);
                row(name, count, &relay::pull(count, srt, TIME), floor);
            }
        }
    }
    if wanted("viewers") {
        println!("\nviewers of one feed of {MBITS} Mbit/s, CPU of the serving thread alone\n{heads}");
        for (name, tcp) in [("viewers by UDP", false), ("viewers by TCP", true)] {
            for count in [1, 10, 50] {
                let floor = relay::raw(60_000);
                let load = relay::viewers(count, tcp, TIME);
                row(name, count, &load, floor);
                println!("{:18} {:5} {:10.0} viewers per core", "", "", count as f64 / load.cores);
            }
        }
    }
    if wanted("delay") {
        println!("\nfrom a frame handed to the camera's server to its transport stream handed on, ms");
        println!("{:26} {:>8} {:>8} {:>8}", "", "p50", "p90", "p99");
        for (name, shape) in [("UDP", Shape { tcp: false }), ("TCP", Shape { tcp: true })] {
            let late = relay::delay(shape, 250);
            let at = |p: f64| late[((late.len() - 1) as f64 * p) as usize];
            println!("{name:26} {:8.2} {:8.2} {:8.2}", at(0.5), at(0.9), at(0.99));
        }
    }
}
