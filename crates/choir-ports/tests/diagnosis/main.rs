//! Faults made on purpose in simulated time, and what is named: a table that is reviewed.

mod plans;
mod world;

use plans::{CAUSES, PAIRS, Plan};
use std::{collections::BTreeMap, fmt::Write, time::Duration};
use world::{FAULT_AT, Names, World};

/// What may be named for a while before the cause is clear: it is true.
const PASSING: [&str; 3] = ["pause", "outage", "restarted"];
const OF_EACH: u64 = 10;
const OF_EACH_PAIR: u64 = 5;
const HEALTHY: u64 = 300;

/// What came of one scenario.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Outcome {
    /// Named first, after so long.
    Right(Duration),
    /// Named, behind something else.
    Second,
    Missed,
    /// Something else is named, and it is not.
    False,
}

fn run(plan: Plan) -> (&'static str, Option<&'static str>, Names) {
    let world = World::new(plan.place.clone(), &plan.trouble);
    (plan.cause, plan.also, world.run(&plan.trouble))
}

/// By what stands there for most of the time from when it was named first.
fn judge(cause: &str, also: Option<&str>, names: &Names) -> Outcome {
    let after: Vec<_> = names.iter().filter(|(at, _)| *at > FAULT_AT).collect();
    let Some(first) = after.iter().position(|(_, n)| n.first().is_some_and(|n| n == cause)) else {
        let there = |wanted: &str| after.iter().any(|(_, n)| n.iter().any(|n| n == wanted));
        return match () {
            () if there(cause) => Outcome::Second,
            () if after.iter().any(|(_, n)| !n.is_empty()) => Outcome::False,
            () => Outcome::Missed,
        };
    };
    let rest = &after[first..];
    let stands = rest.iter().filter(|(_, n)| n.first().is_some_and(|n| n == cause)).count() as f64 / rest.len() as f64;
    let with_other = also.is_none_or(|also| after.iter().any(|(_, n)| n.iter().any(|n| n == also)));
    // What was named before it was wrong, unless it is a moment without packets.
    let wrong_before = after[..first]
        .iter()
        .filter(|(_, n)| n.first().is_some_and(|n| !PASSING.contains(&n.as_str()) && Some(n.as_str()) != also))
        .count();
    if stands < 0.6 || !with_other || wrong_before > 10 {
        return Outcome::Second;
    }
    Outcome::Right(after[first].0 - FAULT_AT)
}

fn severity(n: u64, of: u64) -> f64 {
    n as f64 / (of - 1) as f64
}

/// Runs all plans on all cores, and gives what came of each.
fn run_all<T: Send>(
    count: usize,
    plan: impl Fn(usize) -> Plan + Sync,
    look: impl Fn(&str, Option<&str>, &Names) -> T + Sync,
) -> Vec<(String, T)> {
    let next = std::sync::atomic::AtomicUsize::new(0);
    let done = std::sync::Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(2, Into::into) {
            scope.spawn(|| {
                loop {
                    let n = next.fetch_add(1, std::sync::atomic::Ordering::Relaxed);
                    if n >= count {
                        break;
                    }
                    let (cause, also, names) = run(plan(n));
                    let name = also.map_or(cause.to_owned(), |also| format!("{cause} + {also}"));
                    done.lock().expect("not poisoned").push((n, (name, look(cause, also, &names))));
                }
            });
        }
    });
    let mut done = done.into_inner().expect("not poisoned");
    done.sort_by_key(|(n, _)| *n);
    done.into_iter().map(|(_, d)| d).collect()
}

fn table(outcomes: &[(String, Outcome)]) -> (String, f64, Duration) {
    let mut by_cause: BTreeMap<&str, Vec<Outcome>> = BTreeMap::new();
    outcomes.iter().for_each(|(name, o)| by_cause.entry(name).or_default().push(*o));
    let mut text = format!(
        "{:<32} {:>5} {:>5} {:>6} {:>6} {:>5}  {}\n",
        "cause", "cases", "right", "second", "missed", "false", "named after, median"
    );
    let mut all = Vec::new();
    for (cause, of) in &by_cause {
        let count = |f: fn(&Outcome) -> bool| of.iter().filter(|o| f(o)).count();
        let mut times: Vec<Duration> = of.iter().filter_map(|o| if let Outcome::Right(t) = o { Some(*t) } else { None }).collect();
        times.sort();
        all.extend(times.iter().copied());
        let _ = writeln!(
            text,
            "{cause:<32} {:>5} {:>5} {:>6} {:>6} {:>5}  {}",
            of.len(),
            times.len(),
            count(|o| *o == Outcome::Second),
            count(|o| *o == Outcome::Missed),
            count(|o| *o == Outcome::False),
            times.get(times.len() / 2).map_or("-".into(), |t| format!("{:.1} s", t.as_secs_f64()))
        );
    }
    all.sort();
    let (share, median) = (all.len() as f64 / outcomes.len() as f64, all.get(all.len() / 2).copied().unwrap_or_default());
    let _ = writeln!(text, "\n{} of {} right, {:.1} s in the median", all.len(), outcomes.len(), median.as_secs_f64());
    (text, share, median)
}

#[test]
fn causes_are_named_alone_and_in_pairs() {
    let alone = CAUSES.len() * OF_EACH as usize;
    let pairs = PAIRS.len() * OF_EACH_PAIR as usize;
    let plan = |n: usize| {
        if n < alone {
            let k = n as u64 % OF_EACH;
            return plans::alone(n / OF_EACH as usize, k, severity(k, OF_EACH));
        }
        let (of, k) = ((n - alone) / OF_EACH_PAIR as usize, (n - alone) as u64 % OF_EACH_PAIR);
        plans::pair(of, k, severity(k, OF_EACH_PAIR))
    };
    let outcomes = run_all(alone + pairs, plan, judge);
    let (text, share, median) = table(&outcomes);
    assert!(share >= 0.95 && median <= Duration::from_secs(5), "{text}");
    insta::assert_snapshot!("table", text);
}

#[test]
fn nothing_is_named_on_healthy_links() {
    let named = run_all(
        HEALTHY as usize,
        |n| plans::healthy(n as u64),
        |_, _, names| names.iter().flat_map(|(_, n)| n.clone()).collect::<std::collections::BTreeSet<_>>(),
    );
    let bad: Vec<_> = named.iter().enumerate().filter(|(_, (_, what))| !what.is_empty()).collect();
    assert!(bad.len() as f64 <= 0.01 * HEALTHY as f64, "{} of {HEALTHY} healthy links were blamed: {bad:?}", bad.len());
}

#[test]
fn a_second_without_packets_is_told_while_it_lasts_and_the_hole_afterwards() {
    for n in 0..20 {
        let (_, _, names) = run(plans::outage(n));
        let first = |from: f64, to: f64| {
            let within = |at: &Duration| (from..to).contains(&(at.as_secs_f64() - FAULT_AT.as_secs_f64()));
            names.iter().filter(|(at, _)| within(at)).filter_map(|(_, n)| n.first().cloned()).collect::<Vec<_>>()
        };
        let during = first(0.0, 1.1);
        assert!(during.contains(&"pause".to_owned()) && during.iter().all(|n| n == "pause"), "{n}: {during:?}");
        let after = first(2.0, 5.0);
        assert!(after.iter().filter(|n| *n == "outage").count() > 10, "{n}: {after:?}");
    }
}
