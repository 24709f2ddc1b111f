//! What a link costs, as ratios to raw UDP programs run in turn with it (A, B, A, B, ...): the
//! machine's own speed drifts by tens of percent, ratios much less.
//!
//! `cargo bench -p choir-ports --bench links`; `-- saturated`, `-- late` or `-- memory` runs one
//! part. What a relay of many links costs is in `choir-show/benches/gateway`.

mod load;
mod raw;

const ROUNDS: usize = 5;

fn median(mut v: Vec<f64>) -> f64 {
    v.sort_by(f64::total_cmp);
    v.get(v.len() / 2).copied().unwrap_or(f64::NAN)
}

fn spread(v: &[f64]) -> (f64, f64) {
    (v.iter().copied().fold(f64::INFINITY, f64::min), v.iter().copied().fold(0.0, f64::max))
}

fn wanted(part: &str) -> bool {
    let args: Vec<String> = std::env::args().skip(1).filter(|a| !a.starts_with('-')).collect();
    args.is_empty() || args.iter().any(|a| part.starts_with(a.as_str()))
}

fn main() {
    if wanted("saturated") {
        saturated();
    }
    if wanted("late") {
        late();
    }
    if wanted("memory") {
        memory();
    }
}

/// CPU of sender and receiver per packet at full speed, over a raw loop of the same datagrams.
fn saturated() {
    println!("saturated, CPU ns per packet of 1316 bytes, sender and receiver together; median of {ROUNDS} rounds");
    println!("{:12} {:>9} {:>9} {:>9}   {:>22} {:>22}", "", "link", "raw std", "floor", "over raw std", "over floor");
    for cipher in [None, Some(16), Some(32)] {
        let (mut link, mut std_loop, mut floor) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..ROUNDS {
            floor.push(raw::floor(60_000));
            link.push(load::saturated(cipher, 150_000));
            std_loop.push(raw::two_threads(60_000));
        }
        let ratio = |base: &[f64]| link.iter().zip(base).map(|(a, b)| a / b).collect::<Vec<_>>();
        let name = cipher.map_or("clear".into(), |n| format!("AES-{}", n * 8));
        let show = |r: Vec<f64>| {
            let (low, high) = spread(&r);
            format!("{:.2} [{low:.2}..{high:.2}]", median(r))
        };
        println!(
            "{name:12} {:9.0} {:9.0} {:9.0}   {:>22} {:>22}",
            median(link.clone()),
            median(std_loop.clone()),
            median(floor.clone()),
            show(ratio(&std_loop)),
            show(ratio(&floor))
        );
    }
}

/// How late packets are released, beside how late the timer itself rings.
fn late() {
    let (link, timer) = (load::lateness(4000), raw::timer_lateness(4000));
    let at = |v: &[f64], p: f64| v[((v.len() - 1) as f64 * p) as usize];
    println!("\nrelease after due, µs, one link of 8 Mbit/s, beside the timer alone (1.316 ms steps)");
    println!("{:8} {:>8} {:>8} {:>8}", "", "p50", "p90", "p99");
    for (name, v) in [("release", &link), ("timer", &timer)] {
        println!("{name:8} {:8.0} {:8.0} {:8.0}", at(v, 0.5), at(v, 0.9), at(v, 0.99));
    }
}

/// Memory of each further link that is up and carries 8 Mbit/s at 120 ms.
fn memory() {
    let per_link = load::memory(100);
    println!("\nmemory per link at 8 Mbit/s and 120 ms, both ends, sender and receiver: {per_link:.0} KiB");
}
