//! Standby: what is put on a feed while its line fails.

use crate::{
    bus::Bus,
    feed::FeedRun,
    inner::Inner,
    line::LineRun,
    slate::{Card, Shape, Slate},
};
use choir_core::{
    director::{Director, Fitness, Move, Unfit},
    facts::EventKind,
    id::{LineId, Subject},
    model::{SLATE, Standby},
    words::unfit_words,
};
use choir_host::lock;
use std::{
    collections::HashMap,
    time::{Duration, Instant},
};

impl Inner {
    /// Makes slates for those feeds that are to have one, and ends the others.
    pub fn keep_slates(&self) {
        for feed in self.feeds() {
            let listed = lock(&feed.entry).standby.as_ref().is_some_and(|s| s.lines.iter().any(|l| l == SLATE));
            let wanted = listed && self.names.find_line(SLATE).is_err();
            let mut slate = lock(&feed.slate);
            if !wanted {
                *slate = None;
            } else if slate.is_none() {
                *slate = Some(Slate::new(self.names.add_unlisted(SLATE), feed.media.clone(), self.stopped.clone()));
            }
        }
    }

    /// Looks whether lines must be stood in for, or come back.
    pub fn direct(&self) {
        let now = Instant::now();
        let moved = self.feeds().iter().fold(false, |moved, feed| self.direct_feed(feed, now) | moved);
        let turned = self.turn_rotas();
        self.rest_clips();
        if moved || turned {
            self.refresh();
        }
    }

    /// Clips that were taken and are on no feed any more rest until the next take; feeds let go of
    /// lines that they had at once.
    fn rest_clips(&self) {
        self.feeds().iter().for_each(|f| f.behind.let_go(&f.media));
        let started: Vec<_> = self.lines().into_iter().filter(|l| l.status.control.started().is_some()).collect();
        started.iter().filter(|l| !self.is_wanted(l)).for_each(|l| l.status.control.rest());
    }

    fn direct_feed(&self, feed: &FeedRun, now: Instant) -> bool {
        let Some(plan) = lock(&feed.entry).standby.clone() else { return false };
        let step = self.judge(feed, &plan, now);
        let slate = lock(&feed.slate);
        if let Some(step) = step {
            let (line, why) = match step {
                Move::StandIn { line, failed, why } => (line, Some((failed, why))),
                Move::Return { line, .. } => (line, None),
            };
            match (slate.as_ref().filter(|s| s.id == line), self.line(line)) {
                (Some(slate), _) => {
                    slate.show(why.map(|(failed, why)| self.slate_of(feed, failed, why)));
                    feed.media.take(Some(line));
                }
                (None, Ok(line)) => {
                    let at_once = lock(&feed.entry).at_once;
                    self.put_on(feed, &line, at_once);
                }
                // Removed from the sheet meanwhile.
                (None, Err(_)) => {}
            }
        }
        // Only once another is on: until then there would be nothing.
        if let Some(slate) = slate.as_ref().filter(|s| s.is_shown()) {
            let reading = feed.media.reading();
            if [reading.on, reading.wanted].iter().flatten().all(|id| *id != slate.id) {
                slate.show(None);
            }
        }
        step.is_some()
    }

    fn judge(&self, feed: &FeedRun, plan: &Standby, now: Instant) -> Option<Move> {
        let slate = lock(&feed.slate).as_ref().map(|s| s.id);
        // There is a slate only where no line has its name.
        let number = |name: &String| slate.filter(|_| name == SLATE).or_else(|| self.names.find_line(name).ok());
        let lines: Vec<LineId> = plan.lines.iter().filter_map(number).collect();
        let on = feed.media.reading().on;
        let now_on = lock(&feed.director).as_ref().map(|d| [d.chosen(), d.wanted()])?;
        let fitness = |id| match self.line(id) {
            Ok(line) => line.fitness(now, now_on.contains(&id) || on == Some(id)),
            // It shows what it is told to, and at once.
            Err(_) if Some(id) == slate => Fitness { quiet: Some(Duration::ZERO), ..Fitness::default() },
            Err(_) => Fitness::default(),
        };
        let all: HashMap<LineId, Fitness> = lines.iter().chain(&now_on).map(|id| (*id, fitness(*id))).collect();
        let clock = now.saturating_duration_since(self.started);
        let mut director = lock(&feed.director);
        let director = director.as_mut()?;
        let step = director.judge(clock, plan, &lines, on, |id| all.get(&id).cloned().unwrap_or_default())?;
        tell(feed, step, director.stand_in().is_some_and(|s| s.flaps), &self.bus);
        Some(step)
    }

    /// What the slate says of a line that has failed, in the shape of the line that the engineer
    /// chose.
    fn slate_of(&self, feed: &FeedRun, failed: LineId, why: Unfit) -> (Card, Shape) {
        let title = self.line(failed).map(|l| lock(&l.entry).title.clone()).unwrap_or_default();
        let rows = vec![format!("{title}: {}", unfit_words(why))];
        let chosen = lock(&feed.director).as_ref().map(Director::chosen);
        let shape = chosen.and_then(|id| self.line(id).ok()).map(|line| self.shape_of(&line)).unwrap_or_default();
        (Card { head: lock(&self.sheet).show.name.clone(), rows }, shape.possible())
    }

    /// As the line is or was; where it has never sent anything, as the sheet expects it.
    fn shape_of(&self, line: &LineRun) -> Shape {
        let info = line.media.reading().info;
        let expect = lock(&self.sheet).wanted(&lock(&line.entry));
        let usual = Shape::default();
        let video = info.video.as_ref();
        let format = video.and_then(|v| v.format.as_ref());
        let size = format.map(|f| (f.width, f.height)).or(expect.size);
        let rate = video.and_then(|v| v.measured_rate).or(expect.rate);
        Shape { size: size.map_or(usual.size, |(w, h)| (w as usize, h as usize)), rate: rate.unwrap_or(usual.rate), sound: info.audio }
    }
}

/// Tells a move.
fn tell(feed: &FeedRun, step: Move, flaps: bool, bus: &Bus) {
    let kind = match step {
        Move::StandIn { line, failed, why } => EventKind::StandIn { line, failed, why, flaps },
        Move::Return { line, away } => EventKind::Returned { line, away },
    };
    bus.event(Subject::Feed(feed.id), kind);
}
