//! A line from a named source: found, asked for, followed wherever it goes.

mod incoming;

use super::{
    fault_of,
    node::Node,
    plain_name,
    roster::NodeState,
    session::{Failed, Session},
    tls::let_units_in,
    units::{self, Arrived, REPAIR_MARK, UnitTap},
};
use crate::{
    Intake, LinkStatus,
    retry::{Attempt, Ended, Pause, keep_up},
};
use choir_core::{
    facts::{Contact, Encryption, Fault, Joining, Loss, Notice, Waiting},
    link::StaveLink,
    spelling::nearest,
    view::TallyView,
};
use choir_host::{Backoff, Stop, clock::sleep_until};
use choir_proto::stave::{CameraAnswer, CameraVerb, Carriage, Grade, ListenerEvent, RefusalCode, Tally, Wish, same_name};
use incoming::Incoming;
use quinn::RecvStream;
use std::{
    net::{IpAddr, SocketAddr},
    sync::Arc,
    time::Duration,
};
use tokio::{
    sync::{mpsc, oneshot},
    task::{JoinHandle, JoinSet},
};

/// Age at which a picture is of no use, unless said.
const PATIENCE: Duration = Duration::from_millis(200);
const AGAIN: Duration = Duration::from_millis(300);
const AGAIN_REFUSED: Duration = Duration::from_secs(3);
/// Units being read at a time.
const READS: usize = 600;
/// Bytes of one repair.
const REPAIR_BYTES: usize = 16 << 20;

/// An order to the camera behind a source, and where its answer goes.
pub type Order = (CameraVerb, oneshot::Sender<CameraAnswer>);

/// A source to take.
pub struct TakePlan {
    /// This machine.
    pub node: Node,
    /// Which.
    pub link: StaveLink,
    /// Certificates that it must have; empty takes any.
    pub pins: Vec<String>,
    /// Own address by which a group is joined.
    pub interface: Option<IpAddr>,
    /// Takes the transport stream.
    pub intake: Option<Arc<dyn Intake>>,
    /// Takes units as they are, in order.
    pub tap: Option<UnitTap>,
    /// Orders for its camera.
    pub orders: Option<mpsc::Receiver<Order>>,
    /// How it stands; its tally is what is said to the source.
    pub status: Arc<LinkStatus>,
}

impl TakePlan {
    /// A source to be found and spoken with; nothing of it is taken yet.
    #[must_use]
    pub fn of(node: &Node, link: StaveLink, status: Arc<LinkStatus>) -> Self {
        Self { node: node.clone(), link, pins: Vec::new(), interface: None, intake: None, tap: None, orders: None, status }
    }
}

/// Takes it until `stop`.
pub fn spawn_take(plan: TakePlan, stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let status = plan.status.clone();
        status.update(|l| l.encryption = Encryption::Tls);
        keep_up(Taker { plan }, &status, Backoff::new(AGAIN, AGAIN), stop).await;
    })
}

impl Attempt for Taker {
    async fn attempt(&mut self, stop: &mut Stop) -> Ended {
        let found = tokio::select! {
            found = self.find() => found,
            () = self.plan.status.control.woken() => return Ended::Again,
            () = stop.wait() => return Ended::Over,
        };
        let peer = found.at.to_string();
        let Some(Failed { fault, why }) = self.attend(found, stop).await else { return Ended::Again };
        let refused = matches!(fault, Some(Fault::Passphrase | Fault::Login | Fault::Refused));
        let pause = if refused { Pause::Fixed(AGAIN_REFUSED) } else { Pause::Growing };
        Ended::Lost { was_up: false, pause, loss: Loss::Call { peer, fault, why } }
    }
}

/// Where a source is.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Found {
    at: SocketAddr,
    node: Option<(String, u64)>,
}

struct Taker {
    plan: TakePlan,
}

impl Taker {
    /// Where the name is to be had now.
    fn look(&self) -> Result<Found, Box<Waiting>> {
        let link = &self.plan.link;
        if let Some(at) = link.at() {
            return Ok(Found { at, node: None });
        }
        let Some(roster) = self.plan.node.roster() else { return Err(Box::new(Waiting::Discovery)) };
        let (place, count) = roster.place_of(&link.name, link.machine.as_deref());
        if let Some(k) = place {
            if count > 1 {
                let machine = k.entry.machine.clone();
                self.plan.status.note(Notice::SeveralOffer { name: link.name.clone(), count, machine });
            }
            return Ok(Found { at: k.at, node: Some((k.entry.node, k.entry.boot)) });
        }
        let known = roster.known();
        let of_machine = |k: &&super::roster::Known| link.machine.as_ref().is_none_or(|m| same_name(m, &k.entry.machine));
        let closed = known.iter().filter(of_machine).find_map(|k| match &k.state {
            NodeState::Closed(_, why) => Some(format!("{} ({}): {why}", k.entry.machine, k.at)),
            _ => None,
        });
        let seen = known.iter().filter(|k| matches!(k.state, NodeState::Open(_))).count();
        let names: Vec<String> = known.iter().filter(of_machine).flat_map(|k| k.sources()).map(|s| plain_name(&s.name)).collect();
        Err(Box::new(Waiting::Source {
            name: link.name.clone(),
            machine: link.machine.clone(),
            seen: (!roster.has_no_network()).then_some(seen),
            near: nearest(&link.name, names.iter().map(String::as_str)).map(str::to_owned),
            closed,
            other_groups: if seen == 0 { roster.other_groups() } else { Vec::new() },
        }))
    }

    /// The node that is taken from is elsewhere now, or was started anew. Another one that offers
    /// the same is no reason to go.
    fn has_moved(&self, found: &Found) -> bool {
        let (Some((node, boot)), Some(roster)) = (&found.node, self.plan.node.roster()) else { return false };
        roster.known().iter().any(|k| k.entry.node == *node && (k.at != found.at || k.entry.boot != *boot))
    }

    async fn find(&self) -> Found {
        let mut bell = self.plan.node.roster().map(|r| r.bell());
        loop {
            match self.look() {
                Ok(found) => return found,
                // What is told first stays in the events: not before there is something to tell.
                Err(_) if self.plan.node.roster().is_some_and(|r| r.is_starting()) => {}
                Err(waiting) => absent(&self.plan.status, *waiting),
            }
            match &mut bell {
                Some(b) => drop(b.changed().await),
                None => std::future::pending().await,
            }
        }
    }

    fn wish(&self) -> Wish {
        let link = &self.plan.link;
        Wish {
            source: link.name.clone(),
            grade: link.grade.as_deref().and_then(Grade::from_word),
            patience: link.patience.unwrap_or(PATIENCE),
            codecs: ["h264", "h265"].map(str::to_owned).to_vec(),
            carriage: if link.by_group { Carriage::Multicast } else { Carriage::Streams },
        }
    }

    /// Takes from there; `None` when held, stopped, or to be had elsewhere.
    async fn attend(&mut self, found: Found, stop: &mut Stop) -> Option<Failed> {
        self.plan.status.set_joining(Joining::Calling(found.at.to_string()));
        self.plan.status.update(|l| l.peer = Some(found.at));
        let mut session = tokio::select! {
            s = Session::open(self.plan.node.caller(), found.at, &self.plan.pins) => match s {
                Ok(s) => s,
                Err(f) => return Some(f),
            },
            () = stop.wait() => return None,
        };
        // Whoever only steers loads no network.
        if self.plan.intake.is_some() || self.plan.tap.is_some() {
            session.listener.wish(self.wish());
        }
        let mut tally = self.plan.status.control.tally();
        let mut keyframe_asks = self.plan.status.control.keyframe_requests();
        session.listener.tally(&self.plan.link.name, said(*tally.borrow_and_update()));
        let mut stream = Incoming::new(self);
        let mut bell = self.plan.node.roster().map(|r| r.bell());
        let conn = session.conn.clone();
        let mut reads: JoinSet<Option<Came>> = JoinSet::new();
        let mut answers: Vec<(u32, oneshot::Sender<CameraAnswer>)> = Vec::new();
        let failed = loop {
            while let Some(event) = session.listener.poll_event() {
                match event {
                    ListenerEvent::Opened(hello) => {
                        let_units_in(&conn);
                        let how = plain_name(&hello.machine);
                        self.plan.status.set_joining(Joining::Requesting { machine: how.clone(), name: self.plan.link.name.clone() });
                        stream.machine = how;
                    }
                    ListenerEvent::Play(play) => {
                        self.plan.status.control.set_link_takes_requests(true);
                        stream.play(&self.plan, play);
                    }
                    ListenerEvent::Camera(answer) => {
                        if let Some(i) = answers.iter().position(|a| a.0 == answer.id) {
                            let _ = answers.swap_remove(i).1.send(answer);
                        }
                    }
                    ListenerEvent::Refused(r) if r.code == RefusalCode::Name => {
                        let (machine, name) = (stream.machine.clone(), self.plan.link.name.clone());
                        absent(&self.plan.status, Waiting::Offer { name, machine, silent: false });
                    }
                    ListenerEvent::Refused(r) => stream.failed = Some(Failed::new(Some(fault_of(r.code)), plain_name(&r.why))),
                    ListenerEvent::Gone(why) => stream.failed = Some(Failed::new(Some(Fault::PeerLost), plain_name(&why))),
                    ListenerEvent::Catalogue(c) => stream.catalogue(&self.plan, &c),
                    ListenerEvent::Nodes(_) => {}
                }
            }
            if let Some(f) = stream.failed.take() {
                break Some(f);
            }
            stream.flush(&self.plan, &mut session);
            let due = stream.due();
            tokio::select! {
                turned = session.turn() => if let Err(f) = turned {
                    break Some(f);
                },
                uni = conn.accept_uni(), if reads.len() < READS => match uni {
                    Ok(recv) => drop(reads.spawn(read(recv))),
                    Err(e) => break Some(Failed::new(Some(Fault::PeerLost), super::session::words(&e))),
                },
                Some(came) = reads.join_next() => match came {
                    Ok(Some(Came::Unit(u))) => stream.unit(u),
                    Ok(Some(Came::Packets(all))) => stream.packets(&all),
                    _ => {}
                },
                packets = stream.group_readable() => if packets {
                    stream.drain_group();
                },
                changed = tally.changed() => if changed.is_ok() {
                    session.listener.tally(&self.plan.link.name, said(*tally.borrow_and_update()));
                },
                Ok(()) = keyframe_asks.changed() => session.listener.keyframe(),
                order = next_order(&mut self.plan.orders) => {
                    let id = session.listener.camera(&self.plan.link.name, order.0);
                    answers.push((id, order.1));
                    answers.retain(|a| !a.1.is_closed());
                }
                () = elsewhere(&mut bell) => if self.has_moved(&found) {
                    break None;
                },
                () = self.plan.status.control.woken() => if self.plan.status.control.is_held() {
                    break None;
                },
                () = sleep_until(due) => {}
                () = stop.wait() => break None,
            }
        };
        reads.abort_all();
        self.plan.status.control.set_link_takes_requests(false);
        if failed.is_none() {
            session.end("the receiver goes").await;
        }
        self.plan.status.update(|l| l.since = None);
        failed
    }
}

/// A source that has not been there yet is waited for; one that was there is lost.
fn absent(status: &LinkStatus, waiting: Waiting) {
    if status.look().sessions > 0 {
        status.set_lost(Loss::Source(waiting));
    } else {
        status.set_contact(Contact::Waiting(waiting));
    }
}

async fn elsewhere(bell: &mut Option<tokio::sync::watch::Receiver<u64>>) {
    let told = match bell {
        Some(b) => b.changed().await.is_ok(),
        None => false,
    };
    if !told {
        std::future::pending::<()>().await;
    }
}

async fn next_order(orders: &mut Option<mpsc::Receiver<Order>>) -> Order {
    match orders {
        Some(o) => match o.recv().await {
            Some(order) => order,
            None => std::future::pending().await,
        },
        None => std::future::pending().await,
    }
}

fn said(tally: Option<TallyView>) -> Tally {
    match tally {
        None => Tally::Off,
        Some(TallyView::Next) => Tally::Next,
        Some(TallyView::OnAir) => Tally::OnAir,
    }
}

/// What a stream brought.
enum Came {
    Unit(Arrived),
    Packets(Vec<u8>),
}

async fn read(mut recv: RecvStream) -> Option<Came> {
    let first = recv.read_chunk(4, true).await.ok()??;
    if first.bytes[..] == REPAIR_MARK {
        return recv.read_to_end(REPAIR_BYTES).await.ok().map(Came::Packets);
    }
    units::receive(first.bytes, recv).await.map(Came::Unit)
}
