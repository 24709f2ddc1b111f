//! Advice for a path, as a table with its reasons.

use super::tables::table;
use choir_core::{
    advice::{Advice, PathFacts, say_path, say_share},
    units::Bitrate,
};
use std::fmt::Write;

pub fn text(path: &PathFacts, rate: Bitrate, advice: &Advice) -> String {
    let mut out = format!("{rate} over a path with {}:\n", say_path(path));
    let rows: Vec<Vec<String>> = advice
        .settings
        .iter()
        .map(|s| {
            vec![
                format!("{} %", (s.target * 1e5).round() / 1e3),
                s.latency_ms.map_or_else(|| "none does".into(), |l| format!("{l} ms")),
                format!("{} %", s.overhead_percent),
                say_share(1.0 - s.target),
            ]
        })
        .collect();
    out += &table(&["DELIVERED", ">LATENCY", ">OVERHEAD", "LOST AT MOST"], &rows);
    if let Some(p) = &advice.present {
        let _ = match p.per_hour {
            _ if p.undelivered <= 0.0 => writeln!(out, "With {} ms as now: nothing is lost.", p.latency_ms),
            n if n < 0.5 => writeln!(out, "With {} ms as now: almost nothing is lost ({}).", p.latency_ms, say_share(p.undelivered)),
            n => writeln!(out, "With {} ms as now: {} is lost, {n:.0} packets an hour.", p.latency_ms, say_share(p.undelivered)),
        };
    }
    out
}
