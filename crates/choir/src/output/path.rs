//! A measured path, as tables.

use super::tables::{digits, table};
use choir_core::{
    advice::say_share,
    units::Bitrate,
    view::{PathView, WayView},
};
use std::fmt::Write;

pub fn text(p: &PathView) -> String {
    let mut out = String::new();
    let [least, half, most, nearly, greatest] = p.rtt_ms.map(digits);
    let heads = ["ms", ">LEAST", ">50 %", ">95 %", ">99 %", ">99.9 %", ">GREATEST"];
    let jitter = |name: &str, w: &WayView| {
        let [a, b, c, d, e] = w.jitter_ms.map(digits);
        vec![name.into(), "0".into(), a, b, c, d, e]
    };
    let rows = [
        vec!["round trip".into(), least, half, most, nearly, "-".into(), greatest],
        jitter("jitter, from there", &p.back),
        jitter("jitter, to there", &p.out),
    ];
    out += &table(&heads, &rows);
    out.push('\n');
    let way = |name: &str, w: &WayView| {
        vec![
            name.into(),
            w.sent.to_string(),
            say_share(w.loss),
            if w.bursts > 0 { digits(w.burst) } else { "-".into() },
            w.longest_burst.to_string(),
            w.reordered.to_string(),
            w.doubled.to_string(),
            w.rate_bps.map_or_else(|| "-".into(), |r| Bitrate(r).to_string()),
        ]
    };
    let heads = ["WAY", ">PACKETS", ">LOST", ">IN A ROW", ">LONGEST", ">OUT OF ORDER", ">DOUBLED", ">ROOM FOR"];
    out += &table(&heads, &[way("from there", &p.back), way("to there", &p.out)]);
    match p.size {
        Some(1500) => out.push_str("Datagrams of 1500 bytes come through.\n"),
        Some(size) => {
            let _ =
                writeln!(out, "Datagrams up to {size} bytes come through, not 1500: a tunnel or mobile network on the way takes the rest.");
        }
        None => out.push_str("No datagram of 1280 bytes or more came through: SRT's of 1360 will not either.\n"),
    }
    if let (Some(ahead), Some(error)) = (p.clock_ahead_ms, p.clock_error_ms) {
        let word = if ahead < 0.0 { "behind" } else { "ahead" };
        let _ = writeln!(out, "Their clock is {} ms {word}, give or take {} ms.", digits(ahead.abs()), digits(error));
    }
    out
}
