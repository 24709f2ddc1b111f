//! Who is there and what they offer: a connection to every node of the group, for its catalogue.

use super::{
    caller::Caller,
    directory_client::spawn_client,
    find::{self, LanPlan, OwnEntry},
    session::{Failed, Session},
};
use choir_core::facts::Fault;
use choir_host::{Stop, lock};
use choir_proto::stave::{Catalogue, ListenerEvent, NodeEntry, SourceOffer, same_name};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::SocketAddr,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

/// Nodes that one roster keeps; more would be somebody filling it.
const NODES_MAX: usize = 256;
/// An address is believed so long after it was heard: three announcements may be lost.
const BELIEVED: Duration = Duration::from_secs(16);
/// Addresses of one node that are kept.
const PLACES_MAX: usize = 8;
/// Names of other groups that are kept.
const STRANGERS: usize = 16;
/// Before another address of a node is called.
const ELSEWHERE: Duration = Duration::from_millis(50);
/// Between two calls of a node that is not there.
const AGAIN: Duration = Duration::from_millis(500);
/// A node that is refused does not let in the next time either; unless somebody mends it.
const AGAIN_REFUSED: Duration = Duration::from_secs(3);

/// How a node stands.
#[derive(Debug, Clone, PartialEq)]
pub enum NodeState {
    /// Being called.
    Calling,
    /// It says what it has.
    Open(Catalogue),
    /// It cannot be had, and why.
    Closed(Option<Fault>, String),
}

/// A node that is known.
#[derive(Debug, Clone, PartialEq)]
pub struct Known {
    /// What it says of itself; a node known by address only has no name until it answers.
    pub entry: NodeEntry,
    /// Where.
    pub at: SocketAddr,
    /// How it stands.
    pub state: NodeState,
    /// Where it was heard of, and when: a machine in two networks is heard of at two addresses.
    places: Vec<(SocketAddr, Instant)>,
    /// Known by its address alone, from the sheet.
    fixed: bool,
}

impl Known {
    fn new(entry: NodeEntry, at: SocketAddr, fixed: bool) -> Self {
        let mut known = Self { entry, at, fixed, state: NodeState::Calling, places: Vec::new() };
        known.heard();
        known
    }

    /// It was heard of just now.
    fn heard(&mut self) {
        let now = Instant::now();
        self.places.retain(|(at, _)| !self.entry.at.contains(at));
        self.places.extend(self.entry.at.iter().take(PLACES_MAX).map(|at| (*at, now)));
        let over = self.places.len().saturating_sub(PLACES_MAX);
        self.places.drain(..over);
    }

    /// Where else it may be, the last heard of first.
    fn elsewhere(&self) -> Option<SocketAddr> {
        let other = |(at, when): &&(SocketAddr, Instant)| *at != self.at && when.elapsed() < BELIEVED;
        self.places.iter().rev().find(other).map(|(at, _)| *at)
    }

    /// Its sources, while it is open.
    #[must_use]
    pub fn sources(&self) -> &[SourceOffer] {
        match &self.state {
            NodeState::Open(c) => &c.sources,
            _ => &[],
        }
    }
}

/// What is known. Clones are the same roster.
#[derive(Clone)]
pub struct Roster(Arc<Inner>);

struct Inner {
    known: Mutex<BTreeMap<String, Known>>,
    bell: watch::Sender<u64>,
    renamed: watch::Sender<Option<String>>,
    /// Other groups that were heard of.
    strangers: Mutex<BTreeSet<String>>,
    /// Interfaces by which it seeks; `None` where it does not.
    interfaces: Option<watch::Receiver<Option<usize>>>,
    tasks: Mutex<Vec<JoinHandle<()>>>,
}

/// By which ways nodes are found.
#[derive(Debug, Clone, Default)]
pub struct Ways {
    /// Multicast.
    pub lan: Option<LanPlan>,
    /// Known by address.
    pub nodes: Vec<SocketAddr>,
    /// A directory.
    pub directory: Option<SocketAddr>,
    /// Certificates that sources must have; empty takes any.
    pub pins: Vec<String>,
    /// This node is to be found too.
    pub announce: bool,
}

impl Roster {
    /// Begins to look, and to be found.
    pub(super) fn start(caller: &Caller, ways: Ways, stop: &Stop) -> Self {
        let own: OwnEntry = Arc::new(Mutex::new(ways.announce.then(|| caller.entry())));
        let (heard_tx, mut heard) = mpsc::channel(64);
        let (renamed, interfaces) = (watch::channel(None).0, watch::channel(None));
        let inner = Inner {
            known: Mutex::default(),
            bell: watch::channel(0).0,
            renamed: renamed.clone(),
            strangers: Mutex::default(),
            interfaces: ways.lan.map(|_| interfaces.1),
            tasks: Mutex::default(),
        };
        let roster = Self(Arc::new(inner));
        let mut tasks = Vec::new();
        if let Some(lan) = ways.lan {
            let tell = find::Tell { heard: heard_tx.clone(), renamed, interfaces: interfaces.0 };
            tasks.push(find::spawn(lan, own.clone(), tell, stop.clone()));
            tasks.push(roster.ring_with_interfaces(stop.clone()));
        }
        if let Some(at) = ways.directory {
            tasks.push(spawn_client(caller.clone(), at, own, heard_tx.clone(), stop.clone()));
        }
        let (me, caller, pins, mut end) = (roster.clone(), caller.clone(), ways.pins.clone(), stop.clone());
        for at in ways.nodes {
            let entry = NodeEntry { machine: String::new(), node: format!("at {at}"), boot: 0, group: caller.group().into(), at: vec![at] };
            me.learn(entry, true, &caller, &pins, stop);
        }
        // Only those who hear hold it from here: without any there is nobody to learn of.
        drop(heard_tx);
        let own_node = caller.entry().node;
        tasks.push(tokio::spawn(async move {
            loop {
                let h = tokio::select! {
                    h = heard.recv() => h,
                    () = end.wait() => break,
                };
                let Some(h) = h else { break };
                if h.entry.group != caller.group() {
                    me.note_stranger(&h.entry.group);
                    continue;
                }
                if h.entry.node == own_node {
                    continue;
                }
                if h.leaving {
                    me.forget(&h.entry);
                } else {
                    me.learn(h.entry, false, &caller, &pins, &end);
                }
            }
        }));
        lock(&roster.0.tasks).extend(tasks);
        roster
    }

    /// Whoever waits for a name also says whether there is a network to find it by.
    fn ring_with_interfaces(&self, mut stop: Stop) -> JoinHandle<()> {
        let (me, interfaces) = (self.clone(), self.0.interfaces.clone());
        tokio::spawn(async move {
            let Some(mut interfaces) = interfaces else { return };
            loop {
                tokio::select! {
                    changed = interfaces.changed() => if changed.is_err() { return },
                    () = stop.wait() => return,
                }
                me.0.bell.send_modify(|n| *n += 1);
            }
        })
    }

    /// All that are known, by name.
    #[must_use]
    pub fn known(&self) -> Vec<Known> {
        let mut all: Vec<Known> = lock(&self.0.known).values().cloned().collect();
        // One that is known by address and was heard of as well is one.
        let heard: Vec<SocketAddr> = all.iter().filter(|k| !k.fixed).flat_map(|k| k.places.iter().map(|p| p.0)).collect();
        all.retain(|k| !k.fixed || !heard.contains(&k.at));
        all.sort_by(|a, b| (&a.entry.machine, a.at).cmp(&(&b.entry.machine, b.at)));
        all
    }

    /// Changes whenever something has.
    #[must_use]
    pub fn bell(&self) -> watch::Receiver<u64> {
        self.0.bell.subscribe()
    }

    /// Tells when this machine has got another name, since its own was taken.
    #[must_use]
    pub fn renamed(&self) -> watch::Receiver<Option<String>> {
        self.0.renamed.subscribe()
    }

    fn note_stranger(&self, group: &str) {
        let mut strangers = lock(&self.0.strangers);
        if strangers.len() < STRANGERS {
            strangers.insert(super::plain_name(group));
        }
    }

    /// Other groups that were heard of on these networks.
    #[must_use]
    pub fn other_groups(&self) -> Vec<String> {
        lock(&self.0.strangers).iter().cloned().collect()
    }

    /// True until it has been looked for interfaces to seek names by.
    #[must_use]
    pub(super) fn is_starting(&self) -> bool {
        self.0.interfaces.as_ref().is_some_and(|n| n.borrow().is_none())
    }

    /// True when names are sought by multicast, but no interface is up to do it by.
    #[must_use]
    pub fn has_no_network(&self) -> bool {
        self.0.interfaces.as_ref().is_some_and(|n| *n.borrow() == Some(0))
    }

    /// Where a name is to be had, the first by machine; and how many machines have it.
    #[must_use]
    pub fn place_of(&self, name: &str, machine: Option<&str>) -> (Option<Known>, usize) {
        let has =
            |k: &Known| machine.is_none_or(|m| same_name(m, &k.entry.machine)) && k.sources().iter().any(|s| same_name(&s.name, name));
        let mut found: Vec<Known> = self.known().into_iter().filter(has).collect();
        let count = found.len();
        (if found.is_empty() { None } else { Some(found.swap_remove(0)) }, count)
    }

    fn change(&self, change: impl FnOnce(&mut BTreeMap<String, Known>)) {
        change(&mut lock(&self.0.known));
        self.0.bell.send_modify(|n| *n += 1);
    }

    /// A node was heard of: called when it is new, called anew when it has been started anew.
    /// Another address of it is kept for when the present one fails: machines that are in two
    /// networks together are heard of by both in turn.
    fn learn(&self, entry: NodeEntry, fixed: bool, caller: &Caller, pins: &[String], stop: &Stop) {
        let Some(at) = entry.at.first().copied() else { return };
        let mut is_new = false;
        {
            let mut known = lock(&self.0.known);
            let full = known.len() >= NODES_MAX;
            match known.get_mut(&entry.node) {
                // What is called like a fixed node is not it.
                Some(k) if k.fixed != fixed => return,
                // What an earlier start said comes late at times.
                Some(k) if k.entry.boot > entry.boot => return,
                Some(k) => {
                    let restarted = k.entry.boot < entry.boot;
                    let same = k.entry == entry;
                    k.entry = entry.clone();
                    if restarted {
                        (k.at, k.places) = (at, Vec::new());
                    }
                    k.heard();
                    if same {
                        return;
                    }
                }
                None if full => return,
                None => {
                    known.insert(entry.node.clone(), Known::new(entry.clone(), at, fixed));
                    is_new = true;
                }
            }
        }
        self.0.bell.send_modify(|n| *n += 1);
        if is_new {
            let task = tokio::spawn(follow(self.clone(), caller.clone(), entry.node, pins.to_vec(), stop.clone()));
            let mut tasks = lock(&self.0.tasks);
            tasks.retain(|t| !t.is_finished());
            tasks.push(task);
        }
    }

    fn forget(&self, entry: &NodeEntry) {
        // A farewell of an earlier start comes late at times.
        self.change(|known| {
            if known.get(&entry.node).is_some_and(|k| k.entry.boot <= entry.boot) {
                known.remove(&entry.node);
            }
        });
    }

    fn place(&self, node: &str) -> Option<(SocketAddr, u64)> {
        lock(&self.0.known).get(node).map(|k| (k.at, k.entry.boot))
    }

    /// From now on a node is called at another address that it was heard of at; false when there is
    /// none.
    fn go_elsewhere(&self, node: &str) -> bool {
        let mut gone = false;
        self.change(|known| {
            if let Some(k) = known.get_mut(node)
                && let Some(other) = k.elsewhere()
            {
                // Not to be tried again before it is heard of there again.
                k.places.retain(|(at, _)| *at != k.at);
                (k.at, gone) = (other, true);
            }
        });
        gone
    }

    fn set(&self, node: &str, state: NodeState) {
        self.change(|known| {
            if let Some(k) = known.get_mut(node) {
                k.state = state;
            }
        });
    }

    /// Waits until the tasks have ended; after the stop.
    pub(super) async fn ended(&self) {
        let tasks = std::mem::take(&mut *lock(&self.0.tasks));
        for task in tasks {
            let _ = task.await;
        }
    }
}

/// Keeps a connection to one node as long as it is known.
async fn follow(roster: Roster, caller: Caller, node: String, pins: Vec<String>, mut stop: Stop) {
    let mut bell = roster.bell();
    while let Some(place) = roster.place(&node) {
        let failed = tokio::select! {
            failed = attend(&roster, &caller, &node, place, &pins) => failed,
            () = moved(&roster, &node, place, &mut bell) => {
                roster.set(&node, NodeState::Calling);
                continue;
            }
            () = stop.wait() => return,
        };
        let silent = matches!(failed.fault, Some(Fault::Silent | Fault::PeerLost));
        let wait = if matches!(failed.fault, Some(Fault::Login | Fault::Passphrase | Fault::Refused | Fault::OneSided)) {
            AGAIN_REFUSED
        } else {
            AGAIN
        };
        roster.set(&node, NodeState::Closed(failed.fault, failed.why));
        if silent && roster.go_elsewhere(&node) {
            tokio::time::sleep(ELSEWHERE).await;
            continue;
        }
        tokio::select! {
            () = tokio::time::sleep(wait) => {}
            () = moved(&roster, &node, place, &mut bell) => {}
            () = stop.wait() => return,
        }
    }
}

/// Waits until the node is elsewhere, started anew, or gone.
async fn moved(roster: &Roster, node: &str, place: (SocketAddr, u64), bell: &mut watch::Receiver<u64>) {
    while roster.place(node) == Some(place) {
        if bell.changed().await.is_err() {
            std::future::pending::<()>().await;
        }
    }
}

async fn attend(roster: &Roster, caller: &Caller, node: &str, place: (SocketAddr, u64), pins: &[String]) -> Failed {
    let mut session = match Session::open(caller, place.0, pins).await {
        Ok(s) => s,
        Err(f) => return f,
    };
    loop {
        let turned = session.turn().await;
        while let Some(event) = session.listener.poll_event() {
            match event {
                ListenerEvent::Opened(hello) => roster.change(|known| {
                    // One known by address only gets its name now.
                    if let Some(k) = known.get_mut(node) {
                        k.entry.machine = super::plain_name(&hello.machine);
                    }
                }),
                ListenerEvent::Catalogue(c) => roster.set(node, NodeState::Open(super::plain_catalogue(c))),
                ListenerEvent::Refused(r) => {
                    let fault = super::fault_of(r.code);
                    session.conn.close(0u32.into(), b"");
                    return Failed::new(Some(fault), super::plain_name(&r.why));
                }
                ListenerEvent::Gone(why) => return Failed::new(Some(Fault::PeerLost), super::plain_name(&why)),
                _ => {}
            }
        }
        if let Err(f) = turned {
            return f;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(at: &[SocketAddr], boot: u64) -> NodeEntry {
        NodeEntry { machine: "tower".into(), node: "1".into(), boot, group: "open".into(), at: at.to_vec() }
    }

    #[test]
    fn a_machine_in_two_networks_stays_where_it_works_and_goes_to_where_it_was_heard_of_last() {
        let at = |n: u8| SocketAddr::from(([127, 59, 0, n], 7340));
        let mut k = Known::new(entry(&[at(1)], 7), at(1), false);
        assert_eq!(k.elsewhere(), None);
        for n in [2, 3, 1, 2] {
            k.entry = entry(&[at(n)], 7);
            k.heard();
        }
        assert_eq!((k.at, k.elsewhere()), (at(1), Some(at(2))), "the last one that is not in use");
        k.at = at(2);
        assert_eq!(k.elsewhere(), Some(at(1)));
        // However many addresses somebody claims to have, few are kept, the newest.
        for n in 0..200 {
            k.entry = entry(&[at(n), at(n + 1)], 7);
            k.heard();
        }
        assert!(k.places.len() <= PLACES_MAX && k.places.last().is_some_and(|p| p.0 == at(200)));
    }

    #[test]
    fn what_is_not_ours_is_no_name() {}
}
