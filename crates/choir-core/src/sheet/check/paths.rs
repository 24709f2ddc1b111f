//! Latency against the path: too little for what is lost, too much for the show; and capacity.

use super::{End, Whole};
use crate::{
    advice::{CHECKED_TARGET, USUAL_RATE, latency_for, outcome, say_path, say_share},
    budget,
    finding::Grade,
    sheet::reader::Reader,
    units::{Bitrate, say_duration},
};

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole, ends: &[End<'_>]) {
    let show = &whole.sheet.show;
    for end in ends {
        let Some(srt) = end.link.srt() else { continue };
        let latency = srt.latency.unwrap_or(show.latency);
        let at = end.field("latency");
        if let Some(limit) = show.latency_limit.filter(|limit| latency > *limit) {
            let what = format!("its latency of {} is above the {} that the show allows.", say_duration(latency), say_duration(limit));
            r.add(Grade::Warning, at, &end.subject, what, "Lower it, or raise latency-limit of the show.");
        }
        let line = whole.sheet.line(end.name).filter(|_| end.inbound);
        let path = match line {
            Some(line) => whole.sheet.line_path(line),
            None => crate::network::path_over(&end.crossed),
        };
        let Some(path) = path else { continue };
        let rate = line.and_then(|l| whole.sheet.wanted(l).bitrate).unwrap_or(USUAL_RATE);
        let lost = outcome(&path, rate, latency).undelivered;
        if lost > 1.0 - CHECKED_TARGET {
            let what = format!(
                "with a latency of {} on a path with {}, {} of the packets will not arrive in time.",
                say_duration(latency),
                say_path(&path),
                say_share(lost)
            );
            let remedy = match latency_for(&path, rate, CHECKED_TARGET) {
                Some(needed) => format!("At least {} for 99.9 %; \"choir advise\" says what more costs.", say_duration(needed)),
                None => "No latency repairs this path: use another one.".into(),
            };
            r.add(Grade::Warning, at, &end.subject, what, remedy);
        }
    }
    for (load, (_, spot)) in budget::budget(&whole.sheet).networks.iter().zip(whole.networks()) {
        for direction in load.over() {
            let what = format!(
                "{} cross it {}, but with its reserve only {} may.",
                Bitrate(direction.total_bps),
                direction.way,
                Bitrate(direction.allowed_bps.unwrap_or_default())
            );
            r.add(
                Grade::Warning,
                spot.of_value("capacity"),
                &format!("network \"{}\"", load.name),
                what,
                "\"choir budget\" says what to change.",
            );
        }
    }
}
