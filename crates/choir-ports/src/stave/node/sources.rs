//! What a node offers: its names, who takes them, what they show, and the units that go to them.

use super::{Node, Receiver, Source};
use crate::{
    LinkStatus,
    stave::{
        group_out::{GroupOut, GroupPlan},
        node::CameraSender,
        units,
    },
};
use bytes::Bytes;
use choir_core::{
    facts::{Contact, Notice, Waiting},
    stave::secured,
    view::TallyView,
};
use choir_host::{clock::unix_ms, lock};
use choir_proto::stave::{Carriage, Catalogue, Lane, Offered, SourceOffer, StreamOffer, Tally, TallyBook, Track, Verdict, same_name};
use std::{
    collections::BTreeMap,
    sync::{Arc, atomic::Ordering},
    time::{Duration, Instant},
};

/// Sources of one node: their catalogue fits one message.
pub(in crate::stave) const SOURCES: usize = 64;
/// Between two times at which what there is is told anew since peers come, go, wish or show.
pub(super) const PUBLISH_EVERY: Duration = Duration::from_millis(50);

impl Node {
    /// Offers a name. Gives its number and the name that it has got: another one when it was taken.
    #[must_use]
    pub(in crate::stave) fn add_source(
        &self,
        name: &str,
        camera: Option<CameraSender>,
        group: Option<&GroupPlan>,
        status: Arc<LinkStatus>,
    ) -> Option<(u64, String)> {
        let group = group.and_then(|g| match GroupOut::open(g) {
            Ok(out) => Some(out),
            Err(e) => {
                status.note(Notice::GroupOutFailed { group: g.to, cause: e.to_string() });
                None
            }
        });
        let (id, got) = {
            let mut sources = lock(&self.0.sources);
            if sources.all.len() >= SOURCES {
                return None;
            }
            let got = sources.names.take(name);
            let id = self.0.next.fetch_add(1, Ordering::Relaxed);
            let source = Source {
                name: got.as_str().into(),
                streams: Vec::new(),
                carries: String::new(),
                camera,
                book: TallyBook::default(),
                status: status.clone(),
                group,
                started: None,
            };
            sources.all.insert(id, source);
            (id, got)
        };
        if got != name {
            status.note(Notice::NameTaken { wanted: name.to_owned(), got: got.as_str().to_owned() });
        }
        let (wanted, machine) = (&self.0.wanted, self.machine());
        if *wanted != machine {
            status.note(Notice::MachineNameTaken { wanted: wanted.clone(), got: machine.clone() });
        }
        let url = format!("stave://{machine}/{got}");
        status.update(|l| l.paste = vec![url]);
        self.republish();
        Some((id, got))
    }

    pub(in crate::stave) fn remove_source(&self, id: u64) {
        {
            let mut sources = lock(&self.0.sources);
            if let Some(s) = sources.all.remove(&id) {
                sources.names.release(&s.name);
            }
        }
        self.republish();
    }

    /// Sets what a source has.
    pub(in crate::stave) fn set_streams(&self, id: u64, streams: Vec<StreamOffer>, carries: &str) {
        {
            let mut sources = lock(&self.0.sources);
            let Some(s) = sources.all.get_mut(&id) else { return };
            if s.streams == streams && s.carries == carries {
                return;
            }
            s.streams = streams;
            s.carries = carries.to_owned();
            let streams = s.streams.clone();
            if let Some(g) = &mut s.group {
                g.set_offered(&streams);
            }
        }
        self.republish();
    }

    pub(super) fn everybody(&self) -> Vec<Arc<Receiver>> {
        lock(&self.0.receivers).values().cloned().collect()
    }

    /// As `republish`, for what peers cause: at once, and soon for what follows.
    pub(super) fn republish_soon(&self) {
        let Some(wait) = self.0.publishing.ask(Instant::now()) else { return };
        if wait.is_zero() {
            self.0.publishing.begin(Instant::now());
            return self.republish();
        }
        let me = self.clone();
        tokio::spawn(async move {
            tokio::time::sleep(wait).await;
            me.0.publishing.begin(Instant::now());
            me.republish();
        });
    }

    /// What there is, told to all.
    pub(super) fn republish(&self) {
        let receivers = self.everybody();
        let mut viewers: BTreeMap<String, u32> = BTreeMap::new();
        for r in &receivers {
            if let Some(lane) = lock(&r.speaker).lane() {
                *viewers.entry(lane.wish().source.clone()).or_default() += 1;
            }
        }
        let catalogue = {
            let mut sources = lock(&self.0.sources);
            let offers = sources.all.values_mut().map(|s| {
                let viewers = viewers.get(&*s.name).copied().unwrap_or(0);
                tell_viewers(s, viewers);
                SourceOffer {
                    name: s.name.to_string(),
                    carries: s.carries.clone(),
                    streams: s.streams.clone(),
                    viewers,
                    camera: s.camera.is_some(),
                    tally: s.book.strongest().into(),
                    multicast: s.group.is_some(),
                }
            });
            Catalogue {
                sources: offers.collect(),
                secured: secured(self.0.caller.key().is_some(), !self.0.pins.is_empty()).into(),
                machine: Some(self.machine()),
            }
        };
        let now = Instant::now();
        for r in receivers {
            lock(&r.speaker).set_catalogue(now, &catalogue);
            r.bell.notify_one();
        }
    }

    /// Hands a unit of a source's stream to all who want it.
    pub(in crate::stave) fn deliver(&self, id: u64, stream: u8, unit: &Offered, payload: &Bytes) {
        let now = Instant::now();
        let (name, status) = {
            let mut sources = lock(&self.0.sources);
            let Some(s) = sources.all.get_mut(&id) else { return };
            if let Some(g) = &mut s.group {
                g.deliver(now, stream, unit, payload);
            }
            (s.name.clone(), s.status.clone())
        };
        let mut sent = 0;
        for r in self.everybody() {
            let mut speaker = lock(&r.speaker);
            let Some(lane) = speaker.lane().filter(|l| *l.wish().source == *name) else { continue };
            if lane.wish().carriage == Carriage::Multicast && self.in_group(id, lane) {
                continue;
            }
            let before = lane.stream();
            let verdict = lane.offer(now, stream, unit);
            if lane.stream() != before {
                r.bell.notify_one();
            }
            drop(speaker);
            let Verdict::Send { key, head, until } = verdict else { continue };
            sent += 1;
            let payload = payload.clone();
            // Sound is small, and its gaps are heard at once.
            let priority = i32::from(head.track != Track::Picture);
            let (status, node) = (status.clone(), self.clone());
            tokio::spawn(async move {
                let arrived = units::send(r.conn.clone(), &node.0.turns, head, payload, until, priority).await;
                let mut speaker = lock(&r.speaker);
                let Some(lane) = speaker.lane() else { return };
                if arrived {
                    lane.done(key);
                } else {
                    tracing::debug!(to = %r.conn.remote_address(), track = ?head.track, number = head.number, "unit cancelled: too late");
                    let before = lane.stream();
                    lane.late(Instant::now(), key);
                    let moved = lane.stream() != before;
                    drop(speaker);
                    status.update(|l| (l.counters.dropped, l.counters.missing) = (l.counters.dropped + 1, l.counters.missing + 1));
                    if moved {
                        status.note(Notice::ReceiverSlow(r.conn.remote_address()));
                        r.bell.notify_one();
                    }
                }
            });
        }
        if sent > 0 {
            status.update(|l| {
                l.counters.packets += sent;
                l.counters.bytes += sent * payload.len() as u64;
            });
        }
    }

    /// True when what a receiver wants is what its source's group carries.
    fn in_group(&self, id: u64, lane: &Lane) -> bool {
        lock(&self.0.sources).all.get(&id).and_then(|s| s.group.as_ref()).is_some_and(|g| g.carries(lane.stream()))
    }

    pub(super) fn source_named(&self, name: &str) -> Option<u64> {
        lock(&self.0.sources).all.iter().find(|(_, s)| same_name(&s.name, name)).map(|(id, _)| *id)
    }

    pub(super) fn say_tally(&self, receiver: u64, name: &str, tally: Tally) {
        let changed = {
            let mut sources = lock(&self.0.sources);
            let Some(s) = sources.all.values_mut().find(|s| same_name(&s.name, name)) else { return };
            let changed = s.book.say(receiver, tally);
            if let Some(t) = changed {
                s.status.control.set_tally(tally_view(t));
            }
            changed
        };
        if changed.is_some() {
            self.republish_soon();
        }
    }

    pub(super) fn leave(&self, receiver: u64) {
        lock(&self.0.receivers).remove(&receiver);
        let mut sources = lock(&self.0.sources);
        for s in sources.all.values_mut() {
            if let Some(t) = s.book.leave(receiver) {
                s.status.control.set_tally(tally_view(t));
            }
        }
        drop(sources);
        self.0.directory.send_if_modified(|d| d.remove(&receiver).is_some());
        self.republish_soon();
    }
}

/// As the views say it.
pub(in crate::stave) fn tally_view(t: Tally) -> Option<TallyView> {
    match t {
        Tally::Off => None,
        Tally::Next => Some(TallyView::Next),
        Tally::OnAir => Some(TallyView::OnAir),
    }
}

fn tell_viewers(s: &mut Source, viewers: u32) {
    let ready = !s.streams.is_empty();
    let since = match (ready && viewers > 0, s.started) {
        (true, None) => Some((Instant::now(), unix_ms())),
        (true, kept) => kept,
        (false, _) => None,
    };
    let is_new = since.is_some() && s.started.is_none();
    s.started = since;
    s.status.update(|l| {
        l.set_how(match viewers {
            0 => "no receiver".into(),
            1 => "1 receiver".into(),
            n => format!("{n} receivers"),
        });
        l.since = since;
        l.sessions += u32::from(is_new);
        l.contact = match (ready, viewers) {
            (false, _) => Contact::Waiting(Waiting::Receivers { no_media: true }),
            (true, 0) => Contact::Waiting(Waiting::Receivers { no_media: false }),
            (true, _) => Contact::Up,
        };
    });
}
