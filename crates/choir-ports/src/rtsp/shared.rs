//! What all connections and feeds of a server share.

use super::{
    mount::{MountPoint, Play},
    options::Carrier,
    viewers::Lanes,
};
use choir_host::{lock, read, write};
use choir_proto::rtsp::{Action, Catalog, Mount, Request, Server, SessionId};
use std::{
    collections::{BTreeMap, HashMap},
    net::SocketAddr,
    sync::{Arc, Mutex, RwLock, RwLockReadGuard},
    time::Instant,
};

/// Feeds by their place, which is not used again.
#[derive(Default)]
pub(super) struct Mounts {
    next: usize,
    pub all: BTreeMap<usize, Arc<MountPoint>>,
}

/// What all connections and mounts of a server share.
pub(super) struct Shared {
    pub server: Mutex<Server>,
    mounts: RwLock<Mounts>,
    connections: Mutex<HashMap<u64, Arc<Lanes>>>,
    /// Which mount a session watches.
    watching: Mutex<HashMap<SessionId, usize>>,
    pub carrier: Carrier,
}

impl Catalog for Shared {
    fn find(&self, path: &str) -> Option<usize> {
        self.mounts().all.iter().find(|(_, m)| m.path == path).map(|(place, _)| *place)
    }
    fn mount(&self, place: usize) -> Mount {
        self.place(place).map_or_else(Mount::default, |m| m.offer())
    }
}

impl Shared {
    pub fn new(server: Server, carrier: Carrier) -> Self {
        Self { server: Mutex::new(server), mounts: RwLock::default(), connections: Mutex::default(), watching: Mutex::default(), carrier }
    }

    /// Serves a feed; gives its place.
    pub fn add(&self, mount: Arc<MountPoint>) -> usize {
        let mut mounts = write(&self.mounts);
        let place = mounts.next;
        mounts.next += 1;
        mounts.all.insert(place, mount);
        place
    }

    /// Lets go of the viewers of a feed, and serves it no longer.
    pub fn remove(&self, place: usize) {
        let viewers: Vec<_> = lock(&self.watching).iter().filter(|(_, p)| **p == place).map(|(id, _)| *id).collect();
        let mount = write(&self.mounts).all.remove(&place);
        for id in viewers {
            mount.iter().for_each(|m| m.stop(id));
            self.let_go(id);
        }
    }

    pub fn mounts(&self) -> RwLockReadGuard<'_, Mounts> {
        read(&self.mounts)
    }

    fn place(&self, place: usize) -> Option<Arc<MountPoint>> {
        self.mounts().all.get(&place).cloned()
    }

    /// The feed that is served under a path.
    pub fn at_path(&self, path: &str) -> Option<Arc<MountPoint>> {
        self.find(path).and_then(|place| self.place(place))
    }

    /// Answers a request, and does what follows from it.
    pub fn answer(&self, who: (u64, SocketAddr, SocketAddr), lanes: &Arc<Lanes>, request: &Request) {
        let (mut response, actions) = lock(&self.server).answer(Instant::now(), who, request, self);
        // The answer goes before the first packet; that to a PLAY waits for the keyframe that it
        // starts with.
        let starts = actions.iter().find_map(|a| if let Action::Start(id) = a { Some(*id) } else { None });
        let session = starts.and_then(|id| {
            let s = lock(&self.server).session(id)?.clone();
            Some((id, self.place(s.mount)?, s))
        });
        match session {
            Some((id, mount, s)) => {
                lock(&self.watching).insert(id, s.mount);
                // Its packets go over the connection that set it up, the answer over the one that
                // asked.
                let packets = lock(&self.connections).get(&s.connection).unwrap_or(lanes).clone();
                let play =
                    Play { response, request: request.clone(), base: format!("rtsp://{}/{}", who.2, mount.path), asked_on: lanes.clone() };
                mount.start(id, s, packets, play);
            }
            None => {
                self.carrier.options.answer(request, &mut response);
                lanes.message(response.to_bytes());
            }
        }
        self.act(actions);
    }

    pub fn act(&self, actions: Vec<Action>) {
        for action in actions {
            match action {
                // Begun with its answer.
                Action::Start(_) => {}
                Action::Pause(id) => {
                    let place = lock(&self.watching).get(&id).copied();
                    if let Some(mount) = place.and_then(|p| self.place(p)) {
                        mount.pause(id);
                    }
                }
                Action::End(id) => {
                    let place = lock(&self.watching).remove(&id);
                    if let Some(mount) = place.and_then(|p| self.place(p)) {
                        mount.stop(id);
                    }
                }
            }
        }
    }

    pub fn heard_on(&self, connection: u64, channel: u8, data: &[u8]) {
        let mount = {
            let mut server = lock(&self.server);
            server.heard_on(connection, Instant::now());
            server.reported_on(connection, channel)
        };
        self.report_from_viewer(mount, data);
    }

    pub fn report_from_viewer(&self, mount: Option<usize>, data: &[u8]) {
        if let Some(mount) = mount.and_then(|m| self.place(m)) {
            mount.report_from_viewer(data);
        }
    }

    pub fn connected(&self, connection: u64, lanes: Arc<Lanes>) {
        lock(&self.connections).insert(connection, lanes);
    }

    pub fn disconnected(&self, connection: u64) {
        lock(&self.connections).remove(&connection);
        let actions = lock(&self.server).connection_gone(connection);
        self.act(actions);
    }

    /// Ends a viewer from this side: its packets stop, and its connection is closed if they went
    /// over it.
    pub fn let_go(&self, id: SessionId) {
        lock(&self.watching).remove(&id);
        let session = lock(&self.server).end(id);
        if let Some(s) = session
            && let Some(lanes) = lock(&self.connections).get(&s.connection)
        {
            lanes.close();
        }
    }
}
