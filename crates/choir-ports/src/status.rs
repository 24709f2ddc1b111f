//! How one way in or out stands: written by its port, read by the show.

use choir_core::{
    health::{Contact, Fault},
    view::TallyView,
};
use choir_host::{clock::unix_ms, lock};
use choir_proto::srt::{ConnId, KeyState, LinkStats, Window};
use std::{
    net::SocketAddr,
    sync::{
        Arc, Mutex,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::sync::{Notify, watch};

/// One connected peer.
#[derive(Debug, Clone)]
pub struct PeerLive {
    /// The connection.
    pub conn: ConnId,
    /// Its address.
    pub addr: SocketAddr,
    /// Since when, here and ms since 1970.
    pub since: (Instant, u64),
    /// Counters.
    pub stats: LinkStats,
    /// Least headroom since last taken.
    pub window: Window,
}

/// The present state of a way in or out.
#[derive(Debug, Clone)]
pub struct Live {
    /// How it stands.
    pub contact: Contact,
    /// What keeps it from coming up, while it is lost.
    pub fault: Option<Fault>,
    /// SRT peers.
    pub peers: Vec<PeerLive>,
    /// Payload bytes of ways without SRT, and of ended connections.
    pub bytes: u64,
    /// Packets likewise.
    pub packets: u64,
    /// Packets received, lost and reordered by a way that numbers them without SRT.
    pub counters: LinkStats,
    /// The other end of such a way.
    pub peer: Option<SocketAddr>,
    /// Its round-trip time, where it can be told.
    pub rtt: Option<Duration>,
    /// How it travels, in words.
    pub how: Option<String>,
    /// Addresses that viewers paste.
    pub paste: Vec<String>,
    /// Since when a way without SRT is up.
    pub since: Option<(Instant, u64)>,
    /// Counters of connections that have ended, added up.
    pub ended: LinkStats,
    /// Connections so far.
    pub sessions: u32,
    /// Encryption as last seen, also from a refused attempt.
    pub key_state: Option<KeyState>,
    /// Sentences for the event list, taken by the show. Bounded.
    pub notes: Vec<(bool, String)>,
    /// Inode of the socket, to find its drops.
    pub socket: Option<u64>,
}

/// What a way awaits before its port has said anything.
pub const STARTING: &str = "starting";

/// Most notes kept between two looks: a caller that is refused four times a second is told once.
const NOTES_MAX: usize = 32;

/// Between two requests for a keyframe: encoders that are asked more often than this only get worse.
const KEYFRAME_REST: Duration = Duration::from_millis(500);

/// Shared between a port and the show.
#[derive(Debug)]
pub struct LinkStatus {
    live: Mutex<Live>,
    held: AtomicBool,
    played_out: watch::Sender<bool>,
    /// Somebody has asked for what is served here.
    asked_for: AtomicBool,
    /// Counts the keyframes asked for: by receivers of a way out, by a feed that is to take a way in.
    keyframes: watch::Sender<u64>,
    last_ask: Mutex<Option<Instant>>,
    /// The port of a way in can pass the question on.
    asks_keyframes: AtomicBool,
    /// The device behind it can be asked instead, as far as is known.
    asks_device: AtomicBool,
    /// Of a way out, what its receivers show; of a way in, what is to be said to its source.
    tally: watch::Sender<Option<TallyView>>,
    pub(super) wake: Arc<Notify>,
}

impl LinkStatus {
    /// A status that awaits something.
    #[must_use]
    pub fn new(awaits: &str) -> Arc<Self> {
        Arc::new(Self {
            live: Mutex::new(Live {
                contact: Contact::Awaited(awaits.to_owned()),
                fault: None,
                peers: Vec::new(),
                bytes: 0,
                packets: 0,
                counters: LinkStats::default(),
                peer: None,
                rtt: None,
                how: None,
                paste: Vec::new(),
                since: None,
                ended: LinkStats::default(),
                sessions: 0,
                key_state: None,
                notes: Vec::new(),
                socket: None,
            }),
            held: AtomicBool::new(false),
            played_out: watch::channel(false).0,
            asked_for: AtomicBool::new(false),
            keyframes: watch::channel(0).0,
            last_ask: Mutex::default(),
            asks_keyframes: AtomicBool::new(false),
            asks_device: AtomicBool::new(false),
            tally: watch::channel(None).0,
            wake: Arc::default(),
        })
    }

    /// A copy of the present state. The notes and the headroom windows are taken with it.
    #[must_use]
    pub fn take(&self) -> Live {
        let mut live = lock(&self.live);
        let copy = live.clone();
        live.notes.clear();
        for peer in &mut live.peers {
            peer.window = Window::default();
        }
        copy
    }

    /// A copy, with nothing taken.
    #[must_use]
    pub fn look(&self) -> Live {
        lock(&self.live).clone()
    }

    pub(crate) fn update(&self, change: impl FnOnce(&mut Live)) {
        change(&mut lock(&self.live));
    }

    pub(crate) fn set_contact(&self, contact: Contact) {
        self.update(|l| l.contact = contact);
    }

    /// Says that it is lost, and what keeps it from coming up.
    pub(crate) fn set_lost(&self, fault: Option<Fault>, why: String) {
        self.update(|l| {
            l.contact = Contact::Lost(why);
            l.fault = fault;
        });
    }

    /// A way out without a handshake is up from the start.
    pub(super) fn set_open(&self) {
        self.update(|l| {
            l.since = Some((Instant::now(), unix_ms()));
            l.contact = Contact::Up;
            l.sessions = 1;
        });
    }

    /// Adds a sentence for the event list. `bad` when it is trouble.
    pub fn note(&self, bad: bool, text: String) {
        self.update(|l| {
            if l.notes.len() < NOTES_MAX && l.notes.last().is_none_or(|(_, last)| *last != text) {
                l.notes.push((bad, text));
            }
        });
    }

    /// Says that somebody has asked for what is served here.
    pub(super) fn set_asked_for(&self) {
        self.asked_for.store(true, Ordering::Release);
    }

    /// True once somebody has asked for what is served here.
    #[must_use]
    pub fn is_asked_for(&self) -> bool {
        self.asked_for.load(Ordering::Acquire)
    }

    /// Says that a source has come to its end.
    pub(super) fn set_played_out(&self) {
        self.played_out.send_replace(true);
    }

    /// Waits until a source has come to its end.
    pub async fn played_out(&self) {
        let _ = self.played_out.subscribe().wait_for(|done| *done).await;
    }

    /// Sets what is shown of it.
    pub fn set_tally(&self, tally: Option<TallyView>) {
        self.tally.send_if_modified(|t| std::mem::replace(t, tally) != tally);
    }

    /// What is shown of it, as it changes.
    #[must_use]
    pub fn tally(&self) -> watch::Receiver<Option<TallyView>> {
        self.tally.subscribe()
    }

    /// Asks for a keyframe, unless one was asked for just now; false when nobody can be asked.
    pub fn ask_keyframe(&self) -> bool {
        let mut last = lock(&self.last_ask);
        let now = Instant::now();
        if last.is_none_or(|at| now.saturating_duration_since(at) >= KEYFRAME_REST) {
            *last = Some(now);
            self.keyframes.send_modify(|n| *n += 1);
        }
        self.asks_keyframes() || self.asks_device.load(Ordering::Acquire)
    }

    /// Changes whenever a keyframe is asked for.
    #[must_use]
    pub fn keyframe_asks(&self) -> watch::Receiver<u64> {
        self.keyframes.subscribe()
    }

    pub(crate) fn set_asks_keyframes(&self, can: bool) {
        self.asks_keyframes.store(can, Ordering::Release);
    }

    /// Says whether the device behind it can be asked for a keyframe instead.
    pub fn set_asks_device(&self, can: bool) {
        self.asks_device.store(can, Ordering::Release);
    }

    /// True while the source of this way in can be asked for a keyframe on the way itself.
    #[must_use]
    pub fn asks_keyframes(&self) -> bool {
        self.asks_keyframes.load(Ordering::Acquire)
    }

    /// Waits until it is held or released. Safe to cancel.
    pub(crate) async fn woken(&self) {
        self.wake.notified().await;
    }

    /// Holds or releases it.
    pub fn set_held(&self, held: bool) {
        self.held.store(held, Ordering::Release);
        self.wake.notify_one();
    }

    /// True while held.
    #[must_use]
    pub fn is_held(&self) -> bool {
        self.held.load(Ordering::Acquire)
    }
}

/// Adds up what an ended connection had counted.
pub fn add_up(total: &mut LinkStats, s: &LinkStats) {
    macro_rules! add {
        ($($field:ident),*) => { $(total.$field += s.$field;)* };
    }
    add!(
        sent,
        sent_bytes,
        resent,
        reported_lost,
        send_dropped,
        window_dropped,
        given_up,
        received,
        received_bytes,
        lost,
        recovered,
        reordered,
        skipped,
        came_late,
        duplicates,
        undecrypted,
        beyond_window,
        delivered,
        naks_sent,
        key_refreshes
    );
}
