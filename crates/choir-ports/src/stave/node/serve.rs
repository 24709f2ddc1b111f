//! Those who connect: let in, listened to, answered.

use super::{Node, Receiver};
use crate::{
    callers::{Admitted, Callers},
    stave::{
        session::{exported, fingerprint_of, words},
        units::REPAIR_MARK,
    },
};
use bytes::{Buf, Bytes, BytesMut};
use choir_host::{Stop, clock::sleep_until, lock};
use choir_proto::stave::{
    CameraAnswer, CameraVerb, Carriage, MOVE_MOST_MS, NodeEntry, Nodes, Refusal, RefusalCode, Speaker, SpeakerConfig, SpeakerEvent, frame,
};
use quinn::{Connection, Incoming, VarInt};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, atomic::Ordering},
    time::{Duration, Instant},
};
use tokio::sync::{Notify, oneshot, watch};

/// Receivers that have shown that they may come in, at a time.
const RECEIVERS: usize = 256;
/// Connections of those who have shown nothing yet, in all and from one address.
const STRANGERS: usize = 256;
const FROM_ONE: usize = 64;
/// Control bytes that may wait for one receiver.
const WAITING_MOST: usize = 2 << 20;
/// Nodes that a directory tells of, and the longest that each text of them may be.
const NODES: usize = 256;
const TEXT_MOST: usize = 100;
/// Between two times at which a directory tells all of all.
pub(super) const TELL_EVERY: Duration = Duration::from_millis(200);
/// Packets that are sent again are of no use later.
const REPAIR_WITHIN: Duration = Duration::from_millis(500);
/// From connection to control stream.
const CONTROL_WITHIN: Duration = Duration::from_secs(3);
/// A receiver that takes no control bytes for so long is gone.
const STUCK: Duration = Duration::from_secs(3);

pub(super) async fn accept(node: Node, mut stop: Stop) {
    let callers = Callers::new(STRANGERS, FROM_ONE);
    loop {
        let incoming = tokio::select! {
            i = node.0.caller.endpoint().accept() => i,
            () = stop.wait() => break,
        };
        let Some(incoming) = incoming else { break };
        if node.0.caller.endpoint().open_connections() > STRANGERS / 4 && !incoming.remote_address_validated() {
            // Many at once: only those who are where they say they are.
            let _ = incoming.retry();
            continue;
        }
        let Some(place) = callers.admit(incoming.remote_address().ip()) else {
            incoming.refuse();
            continue;
        };
        let (me, stop) = (node.clone(), stop.clone());
        let task = tokio::spawn(async move { me.serve(incoming, place, stop).await });
        let mut tasks = lock(&node.0.tasks);
        tasks.retain(|t| !t.is_finished());
        tasks.push(task);
    }
}

impl Node {
    /// Serves one from its first packet. `place` is a stranger's: it is given up for a receiver's.
    async fn serve(&self, incoming: Incoming, place: Admitted, mut stop: Stop) {
        let mut place = Some(place);
        let Ok(Ok(conn)) = tokio::time::timeout(CONTROL_WITHIN, async { incoming.accept()?.await }).await else { return };
        let control = tokio::select! {
            c = tokio::time::timeout(CONTROL_WITHIN, conn.accept_bi()) => c,
            () = stop.wait() => return,
        };
        let Ok(Ok((mut send, mut recv))) = control else {
            return conn.close(VarInt::from_u32(1), b"no control stream");
        };
        let Some(exported) = exported(&conn) else { return };
        let pins = &self.0.pins;
        let known = pins.is_empty() || fingerprint_of(&conn).is_some_and(|f| pins.contains(&f));
        let config = SpeakerConfig { hello: self.0.caller.hello(), key: self.0.caller.key(), exported, known };
        let id = self.0.next.fetch_add(1, Ordering::Relaxed);
        let speaker = Mutex::new(Speaker::new(config, Instant::now()));
        let receiver = Arc::new(Receiver { id, conn: conn.clone(), speaker, bell: Notify::new(), repairing: false.into() });
        let mut out = BytesMut::new();
        // Since when it has taken none of what waits.
        let mut waits = None::<Instant>;
        let why = loop {
            if !self.pump(&receiver, &mut out) {
                let full = Refusal { code: RefusalCode::Full, why: "receiver limit (256) reached".into() };
                let _ = send.write_all(&frame(&choir_proto::stave::Message::Refuse(full))).await;
                let _ = send.finish();
                let _ = tokio::time::timeout(CONTROL_WITHIN, send.stopped()).await;
                return;
            }
            if place.is_some() && lock(&self.0.receivers).contains_key(&id) {
                place = None;
            }
            if out.len() > WAITING_MOST {
                break "it takes no control messages".into();
            }
            let stuck = if out.is_empty() { None } else { Some(*waits.get_or_insert_with(Instant::now) + STUCK) };
            let (done, due) = {
                let s = lock(&receiver.speaker);
                (s.is_done(), s.poll_timeout())
            };
            if done && out.is_empty() {
                let _ = send.finish();
                let _ = tokio::time::timeout(Duration::from_millis(500), send.stopped()).await;
                break String::new();
            }
            tokio::select! {
                written = send.write(&out), if !out.is_empty() => match written {
                    Ok(n) => {
                        out.advance(n);
                        waits = None;
                    }
                    Err(_) => break "it takes no control messages".into(),
                },
                () = sleep_until(stuck), if stuck.is_some() => break "it takes no control messages".into(),
                read = recv.read_chunk(64 << 10, true) => match read {
                    Ok(Some(chunk)) => {
                        let handled = lock(&receiver.speaker).handle_control(Instant::now(), &chunk.bytes);
                        if let Err(e) = handled {
                            break e.to_string();
                        }
                    }
                    _ => break String::new(),
                },
                () = receiver.bell.notified() => {}
                e = conn.closed() => break words(&e),
                () = sleep_until(due) => {
                    let handled = lock(&receiver.speaker).handle_timeout(Instant::now());
                    if let Err(e) = handled {
                        break e.to_string();
                    }
                }
                () = stop.wait() => lock(&receiver.speaker).bye("this machine ends its show"),
            }
        };
        conn.close(VarInt::from_u32(0), why.as_bytes());
        self.leave(id);
        self.tell_directory();
    }

    /// Takes in what a receiver wants, and gathers what it is to be told. False when there is no
    /// room for it.
    fn pump(&self, receiver: &Arc<Receiver>, out: &mut BytesMut) -> bool {
        let mut viewers_changed = false;
        loop {
            let event = lock(&receiver.speaker).poll_event();
            let Some(event) = event else { break };
            match event {
                SpeakerEvent::Opened(_) => {
                    // Places are for those who may come in, not for whoever calls.
                    let mut all = lock(&self.0.receivers);
                    if all.len() >= RECEIVERS {
                        return false;
                    }
                    all.insert(receiver.id, receiver.clone());
                    drop(all);
                    viewers_changed = true;
                    self.tell_directory();
                }
                SpeakerEvent::Wishes(_) | SpeakerEvent::Enough(_) => viewers_changed = true,
                SpeakerEvent::Tally(name, tally) => self.say_tally(receiver.id, &name, tally),
                SpeakerEvent::Camera(order) => self.order(receiver, order.id, &order.source, order.verb),
                SpeakerEvent::Repair(repair) => self.repair(receiver, &repair),
                SpeakerEvent::Announce(entry) => self.announce(receiver, entry),
                SpeakerEvent::Keyframe(name) => {
                    if let Some(source) = lock(&self.0.sources).all.values().find(|s| *s.name == *name) {
                        source.status.control.request_keyframe();
                    }
                }
                SpeakerEvent::Report(_) | SpeakerEvent::Gone(_) => {}
            }
        }
        if viewers_changed {
            self.republish_soon();
        }
        let mut speaker = lock(&receiver.speaker);
        while let Some(mut play) = speaker.poll_play() {
            let by_group = speaker.lane().is_some_and(|l| l.wish().carriage == Carriage::Multicast);
            if by_group {
                let sources = lock(&self.0.sources);
                let source = sources.all.values().find(|s| *s.name == *play.source);
                play.group = source.and_then(|s| s.group.as_ref()).and_then(|g| g.offer(play.stream.id));
            }
            speaker.play(play);
        }
        while let Some(data) = speaker.poll_control() {
            out.extend_from_slice(&data);
        }
        true
    }

    fn order(&self, receiver: &Arc<Receiver>, id: u32, name: &str, verb: CameraVerb) {
        let desk = self.source_named(name).and_then(|s| lock(&self.0.sources).all.get(&s).and_then(|s| s.camera.clone()));
        let verb = match verb {
            CameraVerb::Move { pan, tilt, zoom, for_ms } => {
                let fits = |v: f64| if v.is_finite() { v.clamp(-1.0, 1.0) } else { 0.0 };
                CameraVerb::Move { pan: fits(pan), tilt: fits(tilt), zoom: fits(zoom), for_ms: for_ms.min(MOVE_MOST_MS) }
            }
            other => other,
        };
        let (tell, told) = oneshot::channel();
        let refused = match desk {
            None => Some("the camera behind this source is not steered by name".to_owned()),
            Some(desk) => desk.try_send((verb, tell)).err().map(|_| "its camera has more orders than it can do".to_owned()),
        };
        let receiver = receiver.clone();
        tokio::spawn(async move {
            let result = match refused {
                Some(why) => Err(why),
                None => told.await.unwrap_or_else(|_| Err("its camera is not there any more".into())),
            };
            let answer = CameraAnswer { id, done: result.is_ok(), why: result.err().unwrap_or_default() };
            lock(&receiver.speaker).answer(answer);
            receiver.bell.notify_one();
        });
    }

    fn repair(&self, receiver: &Arc<Receiver>, repair: &choir_proto::stave::Repair) {
        // One at a time: a receiver cannot make this machine search and send as much as it likes.
        if receiver.repairing.swap(true, Ordering::AcqRel) {
            return;
        }
        let wanted = lock(&receiver.speaker).lane().map(|l| l.wish().source.clone());
        let packets = {
            let sources = lock(&self.0.sources);
            let group = wanted.and_then(|w| sources.all.values().find(|s| *s.name == *w)).and_then(|s| s.group.as_ref());
            group.map(|g| g.again(repair)).unwrap_or_default()
        };
        if packets.is_empty() {
            receiver.repairing.store(false, Ordering::Release);
            return;
        }
        let receiver = receiver.clone();
        tokio::spawn(async move {
            repair_with(&receiver.conn, packets).await;
            receiver.repairing.store(false, Ordering::Release);
        });
    }

    /// From now on nodes that announce themselves here are told of each other.
    pub(in crate::stave) fn keep_directory(&self) -> watch::Receiver<BTreeMap<u64, NodeEntry>> {
        self.0.keeps_directory.store(true, Ordering::Release);
        self.0.directory.subscribe()
    }

    fn announce(&self, receiver: &Receiver, entry: NodeEntry) {
        let texts = [&entry.machine, &entry.node, &entry.group];
        let fits =
            !entry.at.is_empty() && entry.at.len() <= 8 && texts.iter().all(|t| t.len() <= TEXT_MOST && !t.chars().any(char::is_control));
        if !fits || !self.0.keeps_directory.load(Ordering::Acquire) {
            return;
        }
        let entry = entry.seen_from(receiver.conn.remote_address().ip());
        let is_new = self.0.directory.send_if_modified(|d| {
            let room = d.len() < NODES || d.contains_key(&receiver.id);
            room && d.insert(receiver.id, entry.clone()).as_ref() != Some(&entry)
        });
        if is_new {
            self.tell_directory();
        }
    }

    /// Tells all of all, now or soon: many who come and go at once are told of together.
    fn tell_directory(&self) {
        if !self.0.keeps_directory.load(Ordering::Acquire) {
            return;
        }
        let Some(wait) = self.0.telling.ask(Instant::now()) else { return };
        let me = self.clone();
        tokio::spawn(async move {
            tokio::time::sleep(wait).await;
            me.0.telling.begin(Instant::now());
            let nodes = Nodes { nodes: me.0.directory.borrow().values().cloned().collect() };
            for r in me.everybody() {
                lock(&r.speaker).nodes(nodes.clone());
                r.bell.notify_one();
            }
        });
    }
}

/// Sends packets of a group again, by a stream of their own.
async fn repair_with(conn: &Connection, packets: Vec<Bytes>) {
    // A mark that no unit begins with, then each packet behind its length.
    let mut all = BytesMut::from(&REPAIR_MARK[..]);
    for p in packets {
        all.extend_from_slice(&(p.len() as u16).to_be_bytes());
        all.extend_from_slice(&p);
    }
    let _ = tokio::time::timeout(REPAIR_WITHIN, async {
        let mut stream = conn.open_uni().await.ok()?;
        stream.write_all(&all).await.ok()?;
        stream.finish().ok()
    })
    .await;
}
