//! Who is there and what they offer: a connection to every node of the group, for its catalogue.

use super::{
    caller::Caller,
    directory_client::spawn_client,
    dns::Heard,
    find::{self, LanPlan, OwnEntry},
    session::{Failed, Session},
};
use choir_core::facts::Fault;
use choir_host::{Backoff, Stop, lock};
use choir_proto::stave::{Catalogue, ListenerEvent, NodeEntry, SourceOffer, Unique, same_name};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::{IpAddr, SocketAddr},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

/// Nodes that one roster keeps, and of those announced from one address; more would be somebody
/// filling it.
const NODES_MAX: usize = 256;
const FROM_ONE_MAX: usize = 32;
/// A node that is not connected and has not been heard of for so long is forgotten.
const FORGOTTEN: Duration = Duration::from_secs(60);
/// How often it is looked for those.
const LOOK: Duration = Duration::from_secs(5);
/// An address is believed so long after it was heard: three announcements may be lost.
const BELIEVED: Duration = Duration::from_secs(16);
/// Addresses of one node that are kept.
const PLACES_MAX: usize = 8;
/// Names of other groups that are kept.
const STRANGERS: usize = 16;
/// Before another address of a node is called.
const ELSEWHERE: Duration = Duration::from_millis(50);
/// Between two calls of a node that is not there: at first, and at most.
const AGAIN: Duration = Duration::from_millis(500);
const AGAIN_MOST: Duration = Duration::from_secs(8);
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
    /// Who announced it first; none for a directory and the sheet.
    by: Option<IpAddr>,
    /// When it was heard of last.
    last: Instant,
    /// Counts addresses that are worth a call.
    news: u64,
    /// What it has said of itself once it had shown that it belongs to the group: name and start.
    confirmed: Option<(String, u64)>,
}

impl Known {
    fn new(entry: NodeEntry, at: SocketAddr, fixed: bool, by: Option<IpAddr>) -> Self {
        let (places, last) = (Vec::new(), Instant::now());
        let addresses = entry.at.clone();
        let mut known = Self { entry, at, fixed, state: NodeState::Calling, places, by, last, news: 0, confirmed: None };
        known.heard(&addresses);
        known
    }

    /// It was heard of just now, at these addresses; true when one of them is new.
    fn heard(&mut self, at: &[SocketAddr]) -> bool {
        let now = Instant::now();
        self.last = now;
        let believed = |place: &SocketAddr| self.places.iter().any(|(at, when)| at == place && when.elapsed() < BELIEVED);
        let is_new = at.iter().take(PLACES_MAX).any(|place| !believed(place));
        self.news += u64::from(is_new);
        self.places.retain(|(place, _)| !at.contains(place));
        self.places.extend(at.iter().take(PLACES_MAX).map(|at| (*at, now)));
        let over = self.places.len().saturating_sub(PLACES_MAX);
        self.places.drain(..over);
        is_new
    }

    fn is_open(&self) -> bool {
        matches!(self.state, NodeState::Open(_))
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
    /// What this node says of itself.
    own: OwnEntry,
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
            renamed,
            own: own.clone(),
            strangers: Mutex::default(),
            interfaces: ways.lan.map(|_| interfaces.1),
            tasks: Mutex::default(),
        };
        let roster = Self(Arc::new(inner));
        let mut tasks = Vec::new();
        if let Some(lan) = ways.lan {
            let tell = find::Tell { heard: heard_tx.clone(), interfaces: interfaces.0 };
            tasks.push(find::spawn(lan, own.clone(), tell, stop.clone()));
            tasks.push(roster.ring_with_interfaces(stop.clone()));
        }
        if let Some(at) = ways.directory {
            tasks.push(spawn_client(caller.clone(), at, own, heard_tx.clone(), stop.clone()));
        }
        let (me, caller, pins, mut end) = (roster.clone(), caller.clone(), ways.pins.clone(), stop.clone());
        for at in ways.nodes {
            let entry = NodeEntry { machine: String::new(), node: format!("at {at}"), boot: 0, group: caller.group().into(), at: vec![at] };
            me.learn(Heard { entry, leaving: false, by: None }, true, &caller, &pins, stop);
        }
        // Only those who hear hold it from here: without any there is nobody to learn of.
        drop(heard_tx);
        let own_node = caller.entry().node;
        let mut look = tokio::time::interval(LOOK);
        tasks.push(tokio::spawn(async move {
            loop {
                let h = tokio::select! {
                    h = heard.recv() => h,
                    _ = look.tick() => {
                        me.expire();
                        continue;
                    }
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
                    me.learn(h, false, &caller, &pins, &end);
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

    /// A node was heard of: called when it is new. An announcement is nobody's word: it says where
    /// else a node may be asked for when it is not to be had where it was, and nothing more. What
    /// the node is called and when it was started it says itself, once it has shown its key.
    fn learn(&self, heard: Heard, fixed: bool, caller: &Caller, pins: &[String], stop: &Stop) {
        let Heard { entry, by, .. } = heard;
        let Some(at) = entry.at.first().copied() else { return };
        let mut is_new = false;
        {
            let mut known = lock(&self.0.known);
            match known.get_mut(&entry.node) {
                // What is called like a fixed node is not it.
                Some(k) if k.fixed != fixed => return,
                Some(k) => {
                    if !k.heard(&entry.at) {
                        return;
                    }
                }
                None => {
                    if !make_room(&mut known, by) {
                        return;
                    }
                    known.insert(entry.node.clone(), Known::new(entry.clone(), at, fixed, by));
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

    /// A node is said to leave: one that is connected says so itself.
    fn forget(&self, entry: &NodeEntry) {
        self.change(|known| {
            if known.get(&entry.node).is_some_and(|k| !k.is_open()) {
                known.remove(&entry.node);
            }
        });
    }

    /// Forgets those that have not been heard of for long.
    fn expire(&self) {
        let gone = |k: &Known| !k.fixed && !k.is_open() && k.last.elapsed() > FORGOTTEN;
        if lock(&self.0.known).values().any(gone) {
            self.change(|known| known.retain(|_, k| !gone(k)));
        }
    }

    /// Where another node has this machine's name, by its own word, the one that started later gets
    /// a number behind its own.
    fn settle_name(&self, node: &str) {
        let confirmed = lock(&self.0.known).get(node).filter(|k| !k.fixed).and_then(|k| k.confirmed.clone());
        let Some((name, boot)) = confirmed else { return };
        let mut own = lock(&self.0.own);
        let Some(me) = own.as_mut().filter(|me| same_name(&me.machine, &name) && (me.boot, me.node.as_str()) >= (boot, node)) else {
            return;
        };
        me.machine = numbered(&me.machine);
        self.0.renamed.send_replace(Some(me.machine.clone()));
    }

    fn place(&self, node: &str) -> Option<(SocketAddr, u64)> {
        lock(&self.0.known).get(node).map(|k| (k.at, k.news))
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
    let (mut bell, mut pause) = (roster.bell(), Backoff::new(AGAIN, AGAIN_MOST));
    while let Some((at, news)) = roster.place(&node) {
        let failed = tokio::select! {
            failed = attend(&roster, &caller, &node, at, &pins) => failed,
            () = until(&roster, &node, &mut bell, |place| place.is_none()) => return,
            () = stop.wait() => return,
        };
        let refused = matches!(failed.fault, Some(Fault::Login | Fault::Passphrase | Fault::Refused | Fault::OneSided));
        let was_open = lock(&roster.0.known).get(&node).is_some_and(Known::is_open);
        if was_open {
            pause.reset();
        }
        let wait = if refused { AGAIN_REFUSED } else { pause.pause() };
        roster.set(&node, NodeState::Closed(failed.fault, failed.why));
        // Whoever answered there may not have been the one.
        let wait = if roster.go_elsewhere(&node) { ELSEWHERE } else { wait };
        tokio::select! {
            () = tokio::time::sleep(wait) => {}
            // Where it was not before, or again.
            () = async {
                until(&roster, &node, &mut bell, |place| place.is_none_or(|p| p.1 != news)).await;
                tokio::time::sleep(ELSEWHERE).await;
            } => {}
            () = stop.wait() => return,
        }
        // A new address is tried before the one that has failed.
        if roster.place(&node).is_some_and(|p| p.0 == at && p.1 != news) {
            roster.go_elsewhere(&node);
        }
    }
}

/// Waits until a node's place is such.
async fn until(roster: &Roster, node: &str, bell: &mut watch::Receiver<u64>, is: impl Fn(Option<(SocketAddr, u64)>) -> bool) {
    while !is(roster.place(node)) {
        if bell.changed().await.is_err() {
            std::future::pending::<()>().await;
        }
    }
}

/// Whether another node may be kept: where there are too many, one that has not shown its key and
/// was not heard of for the longest time gives way.
fn make_room(known: &mut BTreeMap<String, Known>, by: Option<IpAddr>) -> bool {
    if by.is_some() && known.values().filter(|k| k.by == by).count() >= FROM_ONE_MAX {
        return false;
    }
    if known.len() < NODES_MAX {
        return true;
    }
    let oldest = known.iter().filter(|(_, k)| !k.fixed && !k.is_open() && k.confirmed.is_none()).min_by_key(|(_, k)| k.last);
    let Some(oldest) = oldest.map(|(node, _)| node.clone()) else { return false };
    known.remove(&oldest);
    true
}

/// The next name of a machine whose own is taken.
fn numbered(name: &str) -> String {
    let mut names = Unique::default();
    // What it has already counts on from there.
    let (stem, number) = split_number(name);
    (0..number).for_each(|_| drop(names.take(stem)));
    names.take(stem)
}

/// `boathouse (2)` is the second of `boathouse`.
fn split_number(name: &str) -> (&str, u32) {
    let numbered = name.strip_suffix(')').and_then(|n| n.rsplit_once(" ("));
    numbered.and_then(|(stem, n)| Some((stem, n.parse().ok().filter(|n| (2..1000).contains(n))?))).unwrap_or((name, 1))
}

async fn attend(roster: &Roster, caller: &Caller, node: &str, at: SocketAddr, pins: &[String]) -> Failed {
    let mut session = match Session::open(caller, at, pins).await {
        Ok(s) => s,
        Err(f) => return f,
    };
    loop {
        let turned = session.turn().await;
        while let Some(event) = session.listener.poll_event() {
            match event {
                ListenerEvent::Opened(hello) => {
                    let mut is_other = false;
                    roster.change(|known| {
                        let Some(k) = known.get_mut(node) else { return };
                        // One known by address only may be any.
                        is_other = !k.fixed && hello.node != node;
                        if !is_other {
                            let machine = super::plain_name(&hello.machine);
                            k.confirmed = Some((machine.clone(), hello.boot));
                            (k.entry.machine, k.entry.boot) = (machine, hello.boot);
                        }
                    });
                    if is_other {
                        session.conn.close(0u32.into(), b"");
                        return Failed::new(Some(Fault::Silent), format!("another node answers at {at}"));
                    }
                }
                ListenerEvent::Catalogue(c) => {
                    let c = super::plain_catalogue(c);
                    roster.change(|known| {
                        if let Some((k, name)) = known.get_mut(node).zip(c.machine.clone()) {
                            k.entry.machine.clone_from(&name);
                            k.confirmed.iter_mut().for_each(|(was, _)| was.clone_from(&name));
                        }
                    });
                    roster.set(node, NodeState::Open(c));
                    roster.settle_name(node);
                }
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

    fn entry(node: &str, at: &[SocketAddr], boot: u64) -> NodeEntry {
        NodeEntry { machine: "tower".into(), node: node.into(), boot, group: "open".into(), at: at.to_vec() }
    }

    fn at(n: u8) -> SocketAddr {
        SocketAddr::from(([127, 59, 0, n], 7340))
    }

    #[test]
    fn a_machine_in_two_networks_stays_where_it_works_and_goes_to_where_it_was_heard_of_last() {
        let mut k = Known::new(entry("1", &[at(1)], 7), at(1), false, None);
        assert_eq!(k.elsewhere(), None);
        for n in [2, 3, 1, 2] {
            k.heard(&[at(n)]);
        }
        assert_eq!((k.at, k.elsewhere()), (at(1), Some(at(2))), "the last one that is not in use");
        k.at = at(2);
        assert_eq!(k.elsewhere(), Some(at(1)));
        // However many addresses somebody claims to have, few are kept, the newest.
        for n in 0..200 {
            k.heard(&[at(n), at(n + 1)]);
        }
        assert!(k.places.len() <= PLACES_MAX && k.places.last().is_some_and(|p| p.0 == at(200)));
        // What was heard already is no news.
        let news = k.news;
        assert!(!k.heard(&[at(200)]) && k.news == news && k.heard(&[at(201)]));
    }

    #[test]
    fn forged_announcements_fill_nothing() {
        let mut known = BTreeMap::new();
        let add = |known: &mut BTreeMap<String, Known>, node: String, by: u8| {
            let by = Some(IpAddr::from([127, 59, 1, by]));
            let room = make_room(known, by);
            if room {
                known.insert(node.clone(), Known::new(entry(&node, &[at(1)], 7), at(1), false, by));
            }
            room
        };
        // One that has shown its key, and is connected.
        add(&mut known, "true".into(), 0);
        let open = known.get_mut("true").expect("kept");
        (open.state, open.confirmed) = (NodeState::Open(Catalogue::default()), Some(("tower".into(), 7)));
        let from_one = (0..1000).filter(|n| add(&mut known, format!("one {n}"), 1)).count();
        assert_eq!(from_one, FROM_ONE_MAX);
        for n in 0..2000 {
            add(&mut known, format!("many {n}"), (n % 200) as u8 + 2);
        }
        assert!(known.len() <= NODES_MAX && known.contains_key("true"));
        // Another one still gets in, in place of one of them.
        assert!(add(&mut known, "late".into(), 250) && known.contains_key("late") && known.len() <= NODES_MAX);
    }

    #[test]
    fn numbers_behind_names_count_on() {
        assert_eq!(split_number("boathouse"), ("boathouse", 1));
        assert_eq!(split_number("boathouse (2)"), ("boathouse", 2));
        assert_eq!(split_number("boathouse (x)"), ("boathouse (x)", 1));
        assert_eq!((numbered("boathouse"), numbered("boathouse (2)")), ("boathouse (2)".into(), "boathouse (3)".into()));
    }
}
