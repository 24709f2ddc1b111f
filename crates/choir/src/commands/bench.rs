//! `choir bench`: how many links this machine carries, found by trying.

use super::until_stopped;
use crate::{
    args::BenchArgs,
    exit::{FAILED, Failure},
    output::{plural, redraw::Redraw, tables::digits},
};
use choir_core::units::{in_ms, say_duration};
use choir_host::Stop;
use choir_ports::Lateness;
use choir_proto::srt::{KeyLength, LinkConfig, Passphrase};
use choir_show::load::{Carried, LATE_MOST, Load, carry};
use serde_json::{Value, json};
use std::time::Duration;

/// What is tried first.
const FIRST: usize = 10;
/// The answer is that near to the truth.
const NEAR: f64 = 0.1;

/// A number of links fails only when each of so many tries does: something else may have disturbed
/// one.
const TRIES: u32 = 3;

/// What was found.
#[derive(Default)]
struct Found {
    /// The most links that were carried.
    carried: Option<(usize, Carried)>,
    /// The fewest that were not.
    failed: Option<(usize, Carried)>,
}

impl Found {
    /// What to try next, up to `most`; none once the answer is near enough.
    fn next(&self, most: usize) -> Option<usize> {
        let low = self.carried.as_ref().map_or(0, |(n, _)| *n);
        let next = match &self.failed {
            None if low == 0 => FIRST.min(most),
            None => (low * 2).min(most),
            Some((high, _)) if (high - low) as f64 <= (*high as f64 * NEAR).max(1.0) => return None,
            Some((high, _)) => low.midpoint(*high),
        };
        (next > low).then_some(next)
    }

    fn note(&mut self, links: usize, carried: Carried) {
        *(if carried.holds() { &mut self.carried } else { &mut self.failed }) = Some((links, carried));
    }
}

pub async fn run(args: BenchArgs) -> Result<(), Failure> {
    let (end, stop) = Stop::new();
    let work = search(&args, &stop);
    tokio::pin!(work);
    let stopped = until_stopped(None);
    tokio::pin!(stopped);
    let (found, whole) = tokio::select! {
        // It listens before anything is said: whoever is quick is not to be missed.
        biased;
        () = &mut stopped => {
            end.now();
            work.await?
        }
        done = &mut work => done?,
    };
    if args.json {
        println!("{}", serde_json::to_string_pretty(&as_json(&args, &found, whole)).unwrap_or_default());
    } else {
        eprintln!();
        print!("{}", answer(&args, &found, whole));
    }
    if found.carried.is_none() { Err(Failure::told(FAILED)) } else { Ok(()) }
}

/// Tries until the answer is near enough: false when it was stopped before.
async fn search(args: &BenchArgs, stop: &Stop) -> Result<(Found, bool), Failure> {
    eprintln!("trying links of {}; Ctrl-C ends it", kind(args));
    let mut found = Found::default();
    let mut trying = Redraw::new();
    let mut next = Some(args.links.unwrap_or_else(|| FIRST.min(args.most)));
    while let Some(links) = next {
        let load = Load { links, bps: args.rate.0, config: config(args), time: args.for_time };
        let mut tries = 0;
        let carried = loop {
            tries += 1;
            let again = if tries > 1 { "once more " } else { "" };
            trying.draw(|_| String::new(), &format!("{links:4} links: trying {again}for {} ...", say_duration(args.for_time)));
            let Some(carried) = carry(&load, stop.clone()).await? else { return Ok((found, false)) };
            trying.clear();
            eprintln!("{}", tried(links, &carried));
            if carried.holds() || tries == TRIES {
                break carried;
            }
        };
        found.note(links, carried);
        next = if args.links.is_some() { None } else { found.next(args.most) };
    }
    Ok((found, true))
}

fn config(args: &BenchArgs) -> LinkConfig {
    let config = LinkConfig::default().with_latency(args.latency);
    match KeyLength::from_bytes(usize::from(args.key) / 8) {
        // Nobody else takes part.
        Some(key_length) => LinkConfig { passphrase: Passphrase::new("both ends are here").ok(), key_length, ..config },
        None => config,
    }
}

fn kind(args: &BenchArgs) -> String {
    let cipher = if args.key == 0 { "unencrypted".into() } else { format!("AES-{}", args.key) };
    format!("{} at {} latency, {cipher} in and out", args.rate, say_duration(args.latency))
}

fn ms(d: Duration) -> String {
    digits(in_ms(d))
}

/// One try, in a line.
fn tried(links: usize, c: &Carried) -> String {
    let verdict = if c.holds() { "carried" } else { "not carried" };
    format!(
        "{links:4} links: {verdict:11}  {:.3} % arrived, 99 of 100 packets left at most {} ms late, {:.2} cores, {} µs per packet",
        c.delivered * 100.0,
        ms(c.late.most_of_all),
        c.cores(),
        digits(c.us_per_packet())
    )
}

fn cores() -> usize {
    std::thread::available_parallelism().map_or(1, usize::from)
}

/// Links that would fill all cores, if nothing else ran here.
fn at_full_load(links: usize, c: &Carried) -> usize {
    (links as f64 * cores() as f64 / c.cores().max(0.001)) as usize
}

fn answer(args: &BenchArgs, found: &Found, whole: bool) -> String {
    let stopped = if whole { "" } else { "Stopped before the answer was sure. " };
    let more = match &found.failed {
        Some((n, f)) if f.delivered <= 0.999_99 => {
            format!("With {} {:.3} % of the packets did not arrive.", plural(*n, "link"), (1.0 - f.delivered) * 100.0)
        }
        Some((n, f)) => format!("With {} 1 of 100 packets left {} ms late or later.", plural(*n, "link"), ms(f.late.most_of_all)),
        None if args.links.is_some() || found.carried.is_none() => String::new(),
        None => format!("No more than {} were tried.", args.most),
    };
    let Some((links, c)) = &found.carried else {
        let none = if whole {
            format!(
                "Not carried: links of {}, with their far ends on this machine as well. {more} At most {} ms count. Is something \
                 else running here? A virtual machine may be stopped now and then by its host.",
                kind(args),
                LATE_MOST.as_millis()
            )
        } else {
            format!("{stopped}Nothing was carried yet.")
        };
        return textwrap::fill(&none, 100) + "\n";
    };
    let text = format!(
        "{stopped}This machine carries {} of {}, with their far ends on it as well: every packet arrived, and 99 of 100 \
         left no later than {} ms after their time (at most {} ms count). {more}\n\n\
         The gateway took {:.2} of {} cores for them, {} µs for each packet, and the far ends took {:.2}. With nothing else on it, \
         this machine is full at about {} links (estimate).",
        plural(*links, "link"),
        kind(args),
        ms(c.late.most_of_all),
        LATE_MOST.as_millis(),
        c.cores(),
        cores(),
        digits(c.us_per_packet()),
        c.far_cores(),
        at_full_load(*links, c)
    );
    textwrap::fill(&text, 100) + "\n"
}

fn as_json(args: &BenchArgs, found: &Found, whole: bool) -> Value {
    let late = |l: Lateness| json!({ "half_ms": in_ms(l.half), "of_100_99_ms": in_ms(l.most_of_all), "most_ms": in_ms(l.most) });
    let one = |(links, c): &(usize, Carried)| {
        json!({
            "links": links,
            "delivered": c.delivered,
            "late": late(c.late),
            "late_at_far_end": late(c.late_there),
            "cores": c.cores(),
            "far_end_cores": c.far_cores(),
            "us_per_packet": c.us_per_packet(),
            "packets": c.packets,
        })
    };
    json!({
        "rate_bps": args.rate.0,
        "latency_ms": args.latency.as_millis() as u64,
        "key_bits": (args.key > 0).then_some(args.key),
        "cores": cores(),
        "complete": whole,
        "carried": found.carried.as_ref().map(one),
        "not_carried": found.failed.as_ref().map(one),
        "full_at_about_links": found.carried.as_ref().map(|(n, c)| at_full_load(*n, c)),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn carried(delivered: f64, late_ms: u64) -> Carried {
        let late_ms = Duration::from_millis(late_ms);
        let late = Lateness { half: Duration::ZERO, most_of_all: late_ms, most: late_ms };
        let s = Duration::from_secs;
        Carried { packets: 1_000_000, cpu: s(1), far_cpu: s(2), time: s(4), delivered, late, late_there: late }
    }

    #[test]
    fn the_answer_is_closed_in_from_both_sides() {
        let mut found = Found::default();
        let mut tried = Vec::new();
        while let Some(n) = found.next(400) {
            tried.push(n);
            // The truth is 137.
            found.note(n, carried(if n <= 137 { 1.0 } else { 0.99 }, 1));
        }
        assert_eq!(tried, [10, 20, 40, 80, 160, 120, 140, 130]);
        assert_eq!((found.carried.map(|c| c.0), found.failed.map(|f| f.0)), (Some(130), Some(140)));
    }

    #[test]
    fn one_link_and_the_most_are_tried_too() {
        let mut found = Found::default();
        let mut tried = Vec::new();
        while let Some(n) = found.next(400) {
            tried.push(n);
            found.note(n, carried(1.0, 2));
        }
        assert_eq!(tried, [10, 5, 2, 1], "late packets do not count as carried");
        let mut found = Found::default();
        found.note(40, carried(1.0, 1));
        assert_eq!((found.next(60), found.next(40)), (Some(60), None));
    }
}
