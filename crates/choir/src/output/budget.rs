//! Networks with what crosses them: a table, the arithmetic, a bar.

use super::tables::table;
use choir_core::{
    budget::{Budget, Direction, EncodingLoad, Load, Stream, Way},
    units::Bitrate,
};
use std::fmt::Write;

/// `cores` is what this machine has.
pub fn text(budget: &Budget, width: usize, cores: usize) -> String {
    let mut parts: Vec<String> = budget.networks.iter().map(|n| network(n, width)).collect();
    if !budget.encodings.is_empty() {
        parts.push(encodings(budget, cores));
    }
    parts.join("\n")
}

fn encodings(budget: &Budget, cores: usize) -> String {
    let row = |e: &EncodingLoad| {
        let takes = e.cores.map_or_else(|| "?".into(), |c| format!("{c:.2}"));
        vec![format!("  {}", e.feed), e.wanted.clone(), e.shared_by.to_string(), takes]
    };
    let rows: Vec<Vec<String>> = budget.encodings.iter().map(row).collect();
    let mut out = String::from("encoding on this machine\n");
    out += &table(&["  FEED", "AS", ">DESTINATIONS", ">CORES"], &rows);
    let _ = writeln!(out, "  about {:.1} of {cores} cores; `choir status FEED` has what is measured", budget.cores());
    if budget.encodings.iter().any(|e| e.cores.is_none()) {
        out += "  ?: write expect = { size = \"...\", rate = ... } at the lines\n";
    }
    out
}

fn network(load: &Load, width: usize) -> String {
    let mut out = format!("{}: {} ({})\n", load.name, load.title, load.kind.word());
    if load.streams.is_empty() {
        out += "  nothing crosses it\n";
        return out;
    }
    let rate = |bps: u64| Bitrate(bps).to_string();
    let row = |s: &Stream| {
        let known = |bps| match (s.media_bps, bps) {
            (None, _) => "?".into(),
            (_, 0) => "-".into(),
            (_, bps) => rate(bps),
        };
        vec![
            format!("  {}", s.subject),
            if s.way == Way::In { "in" } else { "out" }.into(),
            known(s.media_bps.unwrap_or(0)),
            known(s.headers_bps),
            known(s.again_bps),
            known(s.total_bps),
        ]
    };
    let rows: Vec<Vec<String>> = load.streams.iter().map(row).collect();
    out += &table(&["  STREAM", "WAY", ">MEDIA", ">HEADERS", ">REPEATS", ">SUM"], &rows);
    // The arithmetic of streams alike is the same: once is enough.
    let mut said: Vec<&str> = Vec::new();
    for s in &load.streams {
        if !said.contains(&s.how.as_str()) {
            said.push(&s.how);
            let _ = writeln!(out, "    {}: {}", s.subject, s.how);
        }
    }
    for d in &load.directions {
        direction(&mut out, load, d, width);
    }
    let unknown: Vec<&str> = load.unknown().map(|s| s.subject.as_str()).collect();
    if !unknown.is_empty() {
        let _ =
            writeln!(out, "  Not counted, since nobody says its bitrate: {}. Write expect = {{ bitrate = \"...\" }}.", unknown.join(", "));
    }
    out
}

fn direction(out: &mut String, load: &Load, d: &Direction, width: usize) {
    let (Some(capacity), Some(allowed)) = (d.capacity_bps, d.allowed_bps) else {
        let _ = writeln!(out, "  {}: {}; the sheet does not say the capacity", d.way, Bitrate(d.total_bps));
        return;
    };
    let cells = width.min(100).saturating_sub(4).clamp(20, 60);
    let _ = writeln!(out, "  {}", bar(d.total_bps, capacity, allowed, cells));
    let free = match d.free_bps() {
        Some(f) if f < 0 => format!("{} too much", Bitrate(f.unsigned_abs())),
        Some(f) => format!("{} free", Bitrate(f.unsigned_abs())),
        None => String::new(),
    };
    let reserve = format!("{} of it to be kept", Bitrate(capacity - allowed));
    let _ =
        writeln!(out, "  {}: {} of {}, {free}, {reserve} ({:.0} %)", d.way, Bitrate(d.total_bps), Bitrate(capacity), load.reserve * 100.0);
    if !d.remedies.is_empty() {
        let _ = writeln!(out, "  TOO MUCH. To fit into {}, one after the other:", Bitrate(allowed));
        for (n, r) in d.remedies.iter().enumerate() {
            let end = if r.fits { ": that fits" } else { "" };
            let _ = writeln!(out, "    {}. {}: saves {}, leaves {}{end}", n + 1, r.what, Bitrate(r.saves_bps), Bitrate(r.then_bps));
        }
    }
}

/// Used, free, and a mark where the reserve begins; what is above the capacity stands behind its
/// end.
fn bar(total: u64, capacity: u64, allowed: u64, cells: usize) -> String {
    let cell = |bps: u64| (bps as f64 / capacity.max(1) as f64 * cells as f64).round() as usize;
    let (used, mark) = (cell(total), cell(allowed).min(cells - 1));
    let mut out = String::from("[");
    for n in 0..cells {
        out.push(match (n < used, n == mark) {
            (true, _) if n >= mark => '!',
            (_, true) => '|',
            (true, _) => '=',
            (false, _) => ' ',
        });
    }
    out.push(']');
    out.push_str(&"!".repeat(used.saturating_sub(cells).min(10)));
    if used > cells + 10 {
        out.push_str("...");
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_bar_shows_use_reserve_and_excess() {
        assert_eq!(bar(5, 20, 15, 20), "[=====          |    ]");
        assert_eq!(bar(17, 20, 15, 20), "[===============!!   ]");
        assert_eq!(bar(23, 20, 15, 20), "[===============!!!!!]!!!");
        assert_eq!(bar(90, 20, 15, 20), "[===============!!!!!]!!!!!!!!!!...");
        assert_eq!(bar(0, 0, 0, 20).len(), 22);
    }
}
