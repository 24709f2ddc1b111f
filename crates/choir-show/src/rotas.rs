//! Rotas of a running show: what they are told, and what they put on.

use crate::inner::Inner;
use choir_core::{
    command::{By, Done, Refusal},
    facts::{EventKind, RotaChange},
    id::{FeedId, Subject},
    model::{Lasts, Rota, RotaOrder},
    rota::{OnFeed, RotaMove, RotaState, Rotating},
    spelling::did_you_mean,
    view::{RotaStepView, RotaView},
};
use choir_host::lock;

impl Inner {
    /// Takes over what the sheet says; those that were there go on where they are.
    pub fn keep_rotas(&self, wanted: &[Rota]) {
        let mut all = lock(&self.rotas);
        let mut before = std::mem::take(&mut *all);
        let mut begin = Vec::new();
        for rota in wanted {
            let place = before.iter().position(|r| r.rota.name == rota.name && r.rota.feed == rota.feed);
            let mut run = place.map(|place| before.swap_remove(place).run).unwrap_or_default();
            run.fit(rota);
            if place.is_none() && rota.starts {
                begin.push(rota.name.clone());
            }
            all.push(Rotating { rota: rota.clone(), run });
        }
        drop(all);
        for name in begin {
            // It is there, and stopped.
            let _ = self.order_rota(By::Sheet, &name, RotaOrder::Start);
        }
    }

    pub fn order_rota(&self, by: By, name: &str, order: RotaOrder) -> Result<Done, Refusal> {
        let now = self.started.elapsed();
        let mut all = lock(&self.rotas);
        let names: Vec<&str> = all.iter().map(|r| r.rota.name.as_str()).collect();
        let Some(place) = names.iter().position(|n| *n == name) else {
            let hint = if names.is_empty() { "The sheet has no [[rota]].".into() } else { did_you_mean(name, &names) };
            return Err(Refusal::NoRota { name: name.into(), hint });
        };
        let Rotating { rota, run } = &mut all[place];
        let moved = match order {
            RotaOrder::Start => run.start(now).map(Some).ok_or("runs already"),
            RotaOrder::Skip => run.skip(rota, now).map(Some).ok_or("is stopped: start it"),
            RotaOrder::Pause => run.pause(now).then_some(None).ok_or("does not run"),
            RotaOrder::Stop => run.stop().then_some(None).ok_or("is stopped already"),
        };
        let moved = moved.map_err(|state| Refusal::NotSoRota { name: name.into(), state })?;
        let rota = rota.clone();
        let feed = self.feed_of(&rota.feed);
        if let Some(feed) = feed.as_ref().filter(|_| moved.is_some()) {
            for other in all.iter_mut().enumerate().filter(|(n, r)| *n != place && r.rota.feed == rota.feed).map(|(_, r)| r) {
                self.interrupt(other, feed.id);
            }
        }
        drop(all);
        let subject = feed.map_or(Subject::Show, |f| Subject::Feed(f.id));
        self.bus.event(subject, EventKind::Rota { name: name.into(), change: RotaChange::Told(order, by) });
        if let Some(moved) = moved {
            self.turn(&rota, moved);
        }
        self.changed.notify_one();
        Ok(Done::Rota { name: name.into(), order })
    }

    /// Somebody else takes on this feed.
    pub fn interrupt_rotas(&self, feed: FeedId) {
        for rotating in lock(&self.rotas).iter_mut() {
            if self.names.find_feed(&rotating.rota.feed).is_ok_and(|id| id == feed) {
                self.interrupt(rotating, feed);
            }
        }
    }

    fn interrupt(&self, rotating: &mut Rotating, feed: FeedId) {
        if rotating.run.pause(self.started.elapsed()) {
            let change = RotaChange::Interrupted;
            self.bus.event(Subject::Feed(feed), EventKind::Rota { name: rotating.rota.name.clone(), change });
            self.changed.notify_one();
        }
    }

    /// Puts on what is due; true when something was.
    pub fn turn_rotas(&self) -> bool {
        let now = self.started.elapsed();
        let mut moves = Vec::new();
        for Rotating { rota, run } in lock(&self.rotas).iter_mut().filter(|r| r.run.state() == RotaState::Running) {
            let line = rota.steps.get(run.step()).and_then(|step| self.line_of(&step.line));
            let on = self.feed_of(&rota.feed).and_then(|f| f.media.reading().on);
            let feed = OnFeed { on, line: line.as_ref().map(|l| l.id), plays: line.is_some_and(|l| l.plays()) };
            moves.extend(run.judge(rota, now, feed).map(|moved| (rota.clone(), moved)));
        }
        moves.iter().for_each(|(rota, moved)| self.turn(rota, *moved));
        !moves.is_empty()
    }

    fn turn(&self, rota: &Rota, moved: RotaMove) {
        let Ok(feed) = self.names.find_feed(&rota.feed) else { return };
        match moved {
            RotaMove::Step(step) => {
                let line = rota.steps.get(step).and_then(|step| self.names.find_line(&step.line).ok());
                if let Some(line) = line {
                    // Both are here: they were looked up just now.
                    let _ = self.take(By::Rota, feed, line);
                }
            }
            RotaMove::Ended => {
                self.bus.event(Subject::Feed(feed), EventKind::Rota { name: rota.name.clone(), change: RotaChange::Ended });
            }
        }
    }

    /// What is shown of them.
    pub fn rota_views(&self) -> Vec<RotaView> {
        let now = self.started.elapsed();
        let view = |Rotating { rota, run }: &Rotating| {
            let state = match run.state() {
                RotaState::Running => "running",
                RotaState::Paused => "paused",
                RotaState::Stopped => "stopped",
            };
            let left = run.left(rota, now).filter(|_| run.state() != RotaState::Stopped);
            let lasts = |lasts| if let Lasts::For(time) = lasts { Some(time.as_millis() as u64) } else { None };
            RotaView {
                name: rota.name.clone(),
                feed: rota.feed.clone(),
                state: state.into(),
                step: run.step() + 1,
                steps: rota.steps.iter().map(|s| RotaStepView { line: s.line.clone(), lasts_ms: lasts(s.lasts) }).collect(),
                left_ms: left.map(|l| l.as_millis() as u64),
                repeat: rota.repeat,
            }
        };
        lock(&self.rotas).iter().map(view).collect()
    }
}
