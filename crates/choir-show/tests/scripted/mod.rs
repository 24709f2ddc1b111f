//! A scripted show in simulated time: cameras behind SRT paths that are cut, lose, delay and
//! restart at random, a clip; feeds with standby, by hand and by a rota. Everything but sockets is
//! the product's own: SRT at both ends, lines, feeds, who is on, rota, segments.

mod judge;
mod source;

use choir_core::{
    director::{Director, Fitness, Move},
    id::LineId,
    model::{Lasts, Rota, RotaStep, Standby},
    rota::{OnFeed, RotaMove, RotaRun, RotaState},
};
use choir_ports::{AnyOutlet, Arrival, Intake as _, Outlet};
use choir_rig::pair::ms;
use choir_show::media::FeedMedia;
use judge::Judge;
use rand_chacha::ChaCha8Rng;
use rand_core::{RngCore, SeedableRng};
pub use source::{FRAME, GOP, Source, Trouble};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};

/// How often who is on is judged, as in the show.
const LOOK: Duration = ms(50);
/// The cameras; behind them comes the clip.
const CAMERAS: u32 = 3;
const CLIP: LineId = LineId(CAMERAS);

/// One feed.
pub struct Feed {
    media: Arc<FeedMedia>,
    outlet: Arc<Outlet>,
    director: Director,
    plan: Standby,
    standby: Vec<LineId>,
    rota: Option<(Rota, RotaRun)>,
    pub judge: Judge,
    /// How often something stood in, and how often the chosen line came back.
    pub stood_in: u64,
    pub returned: u64,
    pub takes: u64,
}

pub struct Stage {
    pub now: Duration,
    start: Instant,
    rng: ChaCha8Rng,
    pub sources: Vec<Source>,
    pub feeds: Vec<Feed>,
    pub troubles: u64,
    looked: Duration,
}

impl Stage {
    pub fn new(seed: u64) -> Self {
        let mut sources: Vec<Source> = (0..CAMERAS).map(|id| Source::camera(id, seed * 1_000_003 + u64::from(id))).collect();
        sources.push(Source::clip(CLIP.0));
        let standby = |back| Standby { back, ..Standby::default() };
        let step = |line: u32, s| RotaStep { line: line.to_string(), lasts: Lasts::For(Duration::from_secs(s)) };
        let rota = Rota {
            name: "intervals".into(),
            feed: "2".into(),
            steps: vec![step(2, 7), step(0, 5), step(3, 9)],
            repeat: true,
            starts: true,
        };
        let feeds = vec![
            Feed::new(LineId(0), standby(Some(Duration::from_secs(5))), vec![LineId(1), CLIP], None),
            Feed::new(LineId(1), standby(None), vec![CLIP], None),
            Feed::new(LineId(2), standby(Some(Duration::from_secs(2))), vec![CLIP], Some(rota)),
        ];
        for (source, feed) in sources.iter().flat_map(|s| feeds.iter().map(move |f| (s, f))) {
            source.media.attach(feed.media.clone());
        }
        let rng = ChaCha8Rng::seed_from_u64(seed);
        Self { now: Duration::ZERO, start: Instant::now(), rng, sources, feeds, troubles: 0, looked: Duration::ZERO }
    }

    fn draw(&mut self, from: u64, to: u64) -> u64 {
        from + self.rng.next_u64() % (to - from)
    }

    /// Goes on for so long.
    pub fn run(&mut self, time: Duration) {
        let end = self.now + time;
        while self.now < end {
            self.now += ms(10);
            let mut came = Vec::new();
            self.sources.iter_mut().for_each(|s| s.run(self.now, &mut came));
            came.sort_by_key(|(number, (at, ..))| (*at, *number));
            for (number, (at, session, bytes)) in came {
                self.sources[number].last = Some(at);
                self.sources[number].media.arrive(&mut vec![Arrival::ts(session, self.start + at, bytes)]);
                for feed in &mut self.feeds {
                    let reading = feed.media.reading();
                    feed.outlet.take().iter().for_each(|out| feed.judge.given(at, out, reading.on == reading.wanted));
                }
            }
            if self.now - self.looked >= LOOK {
                self.looked = self.now;
                self.look();
            }
        }
    }

    /// Who is to be on, what the engineer does, and what happens to the cameras.
    fn look(&mut self) {
        let (now, sources) = (self.now, &self.sources);
        let of = |line: LineId| Fitness { quiet: sources[line.0 as usize].last.map(|at| now.saturating_sub(at)), ..Fitness::default() };
        self.feeds.iter_mut().for_each(|f| f.look(now, of));
        // Each camera has trouble once in twenty seconds, each feed is taken by hand once in forty.
        for camera in 0..CAMERAS as usize {
            if !self.sources[camera].is_troubled() && self.draw(0, 400) == 0 && now > Duration::from_secs(3) {
                let trouble = self.trouble();
                self.sources[camera].trouble(now, trouble);
                self.troubles += 1;
            }
        }
        for feed in 0..self.feeds.len() {
            if self.draw(0, 800) == 0 && now > Duration::from_secs(3) {
                let line = LineId(self.draw(0, u64::from(CAMERAS) + 1) as u32);
                let fit = self.sources[line.0 as usize].last.is_some_and(|at| now - at < ms(200));
                if fit {
                    self.feeds[feed].taken(now, line);
                }
            }
        }
    }

    fn trouble(&mut self) -> Trouble {
        match self.draw(0, 5) {
            0 => Trouble::Cut(ms(self.draw(100, 900))),
            1 => Trouble::Cut(ms(self.draw(900, 9000))),
            2 => Trouble::Loss(ms(self.draw(500, 6000)), self.draw(2, 30) as u32),
            3 => Trouble::Delay(ms(self.draw(1000, 6000)), ms(self.draw(20, 150))),
            _ => Trouble::Restart(ms(self.draw(300, 6000))),
        }
    }
}

impl Feed {
    fn new(line: LineId, plan: Standby, standby: Vec<LineId>, rota: Option<Rota>) -> Self {
        let (media, outlet) = (FeedMedia::new(Some(line), Arc::default()), Outlet::new());
        media.add_out(AnyOutlet::Ts(outlet.clone()));
        let rota = rota.map(|rota| {
            let mut run = RotaRun::default();
            run.start(Duration::ZERO);
            (rota, run)
        });
        Self {
            media,
            outlet,
            director: Director::new(line, Duration::ZERO),
            plan,
            standby,
            rota,
            judge: Judge::new(),
            stood_in: 0,
            returned: 0,
            takes: 0,
        }
    }

    fn put_on(&mut self, line: LineId) {
        self.judge.moved();
        self.media.take(Some(line));
    }

    fn choose(&mut self, now: Duration, line: LineId) {
        self.director = Director::new(line, now);
        self.put_on(line);
    }

    /// By the engineer: a rota waits then, and goes on with the next take.
    fn taken(&mut self, now: Duration, line: LineId) {
        self.takes += 1;
        let step = self.rota.as_mut().and_then(|(rota, run)| match run.state() {
            RotaState::Running => {
                run.pause(now);
                None
            }
            _ => run.start(now).map(|step| step_line(rota, step)),
        });
        self.choose(now, step.flatten().unwrap_or(line));
    }

    fn look(&mut self, now: Duration, of: impl Fn(LineId) -> Fitness) {
        let on = self.media.reading().on;
        match self.director.judge(now, &self.plan, &self.standby, on, of) {
            Some(Move::StandIn { line, .. }) => {
                self.stood_in += 1;
                self.put_on(line);
            }
            Some(Move::Return { line, .. }) => {
                self.returned += 1;
                self.put_on(line);
            }
            None => {}
        }
        let Some((rota, run)) = &mut self.rota else { return };
        let line = rota.steps.get(run.step()).and_then(|s| s.line.parse().ok()).map(LineId);
        let step = run.judge(rota, now, OnFeed { on, line, plays: true }).map(|step| step_line(rota, step));
        if let Some(line) = step.flatten() {
            self.choose(now, line);
        }
    }
}

fn step_line(rota: &Rota, step: RotaMove) -> Option<LineId> {
    let RotaMove::Step(step) = step else { return None };
    rota.steps.get(step).and_then(|s| s.line.parse().ok()).map(LineId)
}
