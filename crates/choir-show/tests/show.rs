//! The scripted show: two hours of it, and some minutes of others.

mod scripted;

use choir_rig::{pair::ms, resident_kib};
use scripted::{FRAME, GOP, Stage};
use std::time::Duration;

/// The longest pause for each change of who is on: what has sent nothing for so long is stood in
/// for, lines are looked at each 50 ms, and a keyframe is waited for. A line that is back before
/// has to wait for its keyframe too.
const BOUND: Duration = ms(500 + 50 + 10).saturating_add(FRAME.saturating_mul(GOP as u32));

fn judge(stage: &mut Stage, seed: u64) {
    for (n, feed) in stage.feeds.iter_mut().enumerate() {
        feed.judge.end();
        assert_eq!(feed.judge.faults, Default::default(), "seed {seed}, feed {n}");
        let late: Vec<_> = feed.judge.pauses.iter().filter(|(pause, moves)| *pause > BOUND * (*moves).max(1)).collect();
        assert!(late.is_empty(), "seed {seed}, feed {n}: {late:?}");
        // One each 20 s, which can each be played from its first byte.
        let segments = stage.now.as_secs() / 25;
        assert!(feed.judge.segments_read > segments, "seed {seed}, feed {n}: {}", feed.judge.segments_read);
    }
}

#[test]
fn two_hours_of_trouble_leave_every_feed_legal_each_pause_bounded_and_memory_flat() {
    let mut stage = Stage::new(1);
    stage.run(Duration::from_secs(1800));
    let before = resident_kib("self");
    stage.run(Duration::from_secs(5400));
    let grown = resident_kib("self") - before;
    judge(&mut stage, 1);
    assert!(stage.troubles > 400 && stage.sources.iter().all(|s| s.is_clip() || s.skipped > 100), "{} troubles", stage.troubles);
    for feed in &stage.feeds {
        println!("stood in {}, returned {}, taken {}, pauses {}", feed.stood_in, feed.returned, feed.takes, feed.judge.pauses.len());
        assert!(feed.stood_in > 20 && feed.takes > 50 && feed.judge.pauses.len() > 50);
    }
    assert!(stage.feeds[0].returned > 10 && stage.feeds[1].returned == 0, "by itself, and by hand");
    println!("{} troubles, {grown} KiB more after 90 minutes than before", stage.troubles);
    assert!(grown < 0.02 * before, "{grown} KiB more than {before}");
}

#[test]
fn whatever_happens_first_each_feed_goes_on_legally_and_within_its_bound() {
    for seed in 2..=12 {
        let mut stage = Stage::new(seed);
        stage.run(Duration::from_secs(150));
        judge(&mut stage, seed);
    }
}
