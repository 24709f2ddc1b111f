//! One named source: its streams become access units, once for all receivers.

use super::{
    group_out::GroupPlan,
    node::{CameraSender, Node},
    stream::{Gauge, Offerer},
};
use crate::{LinkStatus, UnitOutlet};
use bytes::Bytes;
use choir_core::facts::Notice;
use choir_host::{Stop, clock::unix_us, lock};
use choir_proto::stave::{Offered, StreamOffer, Timecode, Track};
use std::{
    collections::VecDeque,
    sync::{Arc, Mutex},
    time::Duration,
};
use tokio::{
    sync::mpsc,
    task::{JoinHandle, JoinSet},
};

/// Streams of one source.
const STREAMS: usize = 8;
/// How often rates are looked at.
const LOOK: Duration = Duration::from_millis(500);

/// A unit of one who makes its own.
#[derive(Debug, Clone)]
pub struct MadeUnit {
    /// What it is part of.
    pub track: Track,
    /// Decoding can start here.
    pub keyframe: bool,
    /// Presentation time, 90 kHz, without wraps.
    pub pts: i64,
    /// Its bytes.
    pub data: Bytes,
}

/// Where one stream of a source comes from.
pub enum StreamPlan {
    /// A transport stream, whose grade is seen by its pictures.
    Main(Arc<UnitOutlet>),
    /// A transport stream with a small picture.
    Small(Arc<UnitOutlet>),
    /// Units as they are made; whoever makes them says what they are. The bitrate is measured.
    Made(Box<StreamOffer>, mpsc::Receiver<MadeUnit>),
}

/// A source to be offered.
pub struct SourcePlan {
    /// Its name.
    pub name: String,
    /// At most eight.
    pub streams: Vec<StreamPlan>,
    /// Takes orders for the camera.
    pub camera: Option<CameraSender>,
    /// Also to a group.
    pub group: Option<GroupPlan>,
    /// What is on it, in words; asked now and then.
    pub carries: Option<Arc<dyn Fn() -> String + Send + Sync>>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

impl Node {
    /// Offers a source until `stop`, or until one of its streams has come to an end.
    pub fn spawn_source(&self, plan: SourcePlan, mut stop: Stop) -> JoinHandle<()> {
        let node = self.clone();
        tokio::spawn(async move {
            let Some((id, _)) = node.add_source(&plan.name, plan.camera, plan.group.as_ref(), plan.status.clone()) else {
                return plan.status.note(Notice::NameLimit(super::node::SOURCES));
            };
            let offers = Arc::new(Mutex::new(vec![None; plan.streams.len().min(STREAMS)]));
            let mut set = JoinSet::new();
            for (n, stream) in plan.streams.into_iter().take(STREAMS).enumerate() {
                let feeder = Feeder {
                    node: node.clone(),
                    id,
                    stream: n as u8,
                    offers: offers.clone(),
                    carries: plan.carries.clone(),
                    facts: String::new(),
                };
                match stream {
                    StreamPlan::Main(outlet) => drop(set.spawn(feeder.follow(outlet, false))),
                    StreamPlan::Small(outlet) => drop(set.spawn(feeder.follow(outlet, true))),
                    StreamPlan::Made(offer, units) => drop(set.spawn(feeder.made(*offer, units))),
                }
            }
            tokio::select! {
                _ = set.join_next() => {}
                () = stop.wait() => {}
            }
            set.shutdown().await;
            node.remove_source(id);
        })
    }
}

/// Hands the units of one stream to the node.
struct Feeder {
    node: Node,
    id: u64,
    stream: u8,
    /// Of all streams of the source.
    offers: Arc<Mutex<Vec<Option<StreamOffer>>>>,
    carries: Option<Arc<dyn Fn() -> String + Send + Sync>>,
    facts: String,
}

impl Feeder {
    /// Passes on what a feed carries.
    async fn follow(mut self, outlet: Arc<UnitOutlet>, small: bool) {
        let mut from = Offerer::new(self.stream, small);
        let (mut taken, mut tick) = (VecDeque::new(), tokio::time::interval(LOOK));
        while !outlet.has_ended() {
            tokio::select! {
                () = outlet.filled() => {
                    outlet.take_into(&mut taken);
                    for unit in taken.drain(..) {
                        let (unit, changed) = from.push(unit);
                        if changed {
                            // Known before its first unit comes.
                            self.set(from.offer());
                        }
                        if let Some((offered, payload)) = unit {
                            self.give(&offered, &payload);
                        }
                    }
                }
                _ = tick.tick() => {
                    self.look();
                    from.measure();
                    self.set(from.offer());
                }
            }
        }
    }

    /// Passes on units that are there already.
    async fn made(mut self, mut offer: StreamOffer, mut units: mpsc::Receiver<MadeUnit>) {
        let (mut gauge, mut tick) = (Gauge::default(), tokio::time::interval(LOOK));
        offer.id = self.stream;
        let mut quiet = true;
        loop {
            tokio::select! {
                unit = units.recv() => {
                    let Some(unit) = unit else { return };
                    gauge.note(unit.data.len());
                    if std::mem::take(&mut quiet) {
                        self.set(Some(offer.clone()));
                    }
                    let made_us = unix_us().max(0) as u64;
                    let timecode = (unit.track == Track::Picture).then(|| Timecode::of_day(made_us, offer.rate.unwrap_or(25.0)));
                    let MadeUnit { track, keyframe, pts, data } = unit;
                    self.give(&Offered { track, keyframe, pts, made_us, size: data.len() as u32, timecode }, &data);
                }
                _ = tick.tick() => {
                    self.look();
                    if let Some(bps) = gauge.measure() {
                        offer.bitrate = bps;
                    }
                    quiet |= gauge.is_quiet();
                    self.set((!quiet).then(|| offer.clone()));
                }
            }
        }
    }

    fn look(&mut self) {
        self.facts = self.carries.as_ref().map_or_else(String::new, |c| c());
    }

    fn set(&self, offer: Option<StreamOffer>) {
        let all: Vec<StreamOffer> = {
            let mut offers = lock(&self.offers);
            if let Some(mine) = offers.get_mut(usize::from(self.stream)) {
                *mine = offer;
            }
            offers.iter().flatten().cloned().collect()
        };
        self.node.set_streams(self.id, all, &self.facts);
    }

    fn give(&self, offered: &Offered, payload: &Bytes) {
        if offered.keyframe && offered.track == Track::Picture && !self.facts.is_empty() {
            let facts = Bytes::from(serde_json::json!({ "carries": self.facts }).to_string());
            let head = Offered { track: Track::Facts, size: facts.len() as u32, timecode: None, ..*offered };
            self.node.deliver(self.id, self.stream, &head, &facts);
        }
        self.node.deliver(self.id, self.stream, offered, payload);
    }
}
