//! A feed that players take from a port of ours.

use super::push::about;
use crate::{LinkStatus, UnitOutlet};
use choir_core::{
    facts::{Contact, Notice, Waiting},
    secret::SecretText,
};
use choir_host::lock;
use choir_proto::rtmp::{Amf, OutTag, Server, TagWriter};
use std::{
    collections::VecDeque,
    net::SocketAddr,
    sync::{
        Arc, Mutex,
        atomic::{AtomicUsize, Ordering},
    },
};
use tokio::sync::broadcast;

/// Messages that a player may be behind: some seconds; then it goes on at a keyframe.
const BEHIND_MAX: usize = 512;
/// Players of one feed.
const PLAYERS_MAX: usize = 64;

/// A feed that is served to players.
pub struct RtmpServePlan {
    /// The path before the name.
    pub app: String,
    /// The name, which may be a secret.
    pub name: SecretText,
    /// The feed's units.
    pub outlet: Arc<UnitOutlet>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// What its players take.
pub(super) struct Stage {
    tags: broadcast::Sender<Arc<OutTag>>,
    writer: Mutex<TagWriter>,
    players: AtomicUsize,
}

impl Stage {
    pub fn new() -> Self {
        Self { tags: broadcast::channel(BEHIND_MAX).0, writer: Mutex::default(), players: AtomicUsize::new(0) }
    }

    /// Takes the feed's units as long as it is let run, or until the feed has ended.
    pub async fn run(&self, outlet: &UnitOutlet, status: &LinkStatus) {
        let (mut units, mut made) = (VecDeque::new(), Vec::new());
        loop {
            outlet.filled().await;
            let ended = outlet.has_ended();
            outlet.take_into(&mut units);
            let mut writer = lock(&self.writer);
            units.drain(..).for_each(|unit| writer.push(&unit, &mut made));
            drop(writer);
            let bytes: usize = made.iter().map(|t| t.body.len()).sum();
            let players = self.players.load(Ordering::Relaxed) as u64;
            status.update(|l| {
                l.counters.packets += made.len() as u64 * players;
                l.counters.bytes += bytes as u64 * players;
            });
            // Nobody may be listening.
            made.drain(..).for_each(|tag| drop(self.tags.send(Arc::new(tag))));
            if ended {
                return;
            }
        }
    }

    /// A player more or less is told.
    fn count(&self, status: &LinkStatus, by: isize) {
        let players = self.players.fetch_add(by.cast_unsigned(), Ordering::AcqRel).wrapping_add_signed(by);
        status.update(|l| {
            l.how = Some(match players {
                0 => "no player".into(),
                1 => "1 player by RTMP".into(),
                n => format!("{n} players by RTMP"),
            });
            l.contact = if players == 0 { Contact::Waiting(Waiting::Viewers) } else { Contact::Up };
        });
    }

    /// Lets one in; none when there are too many.
    pub fn enter(self: &Arc<Self>, from: SocketAddr, status: &Arc<LinkStatus>) -> Option<Player> {
        if self.players.load(Ordering::Acquire) >= PLAYERS_MAX {
            return None;
        }
        status.set_asked_for();
        if self.players.load(Ordering::Acquire) == 0 {
            status.begin_session();
        }
        self.count(status, 1);
        Some(Player { stage: self.clone(), tags: self.tags.subscribe(), status: status.clone(), from, on: false, slow: false })
    }
}

/// One that plays.
pub(super) struct Player {
    stage: Arc<Stage>,
    tags: broadcast::Receiver<Arc<OutTag>>,
    status: Arc<LinkStatus>,
    from: SocketAddr,
    /// It has begun with a keyframe.
    on: bool,
    slow: bool,
}

impl Drop for Player {
    fn drop(&mut self) {
        self.stage.count(&self.status, -1);
    }
}

impl Player {
    /// Waits for the next message and hands it to the connection; false at the end of the feed.
    pub async fn next(&mut self, server: &mut Server) -> bool {
        match self.tags.recv().await {
            Ok(tag) => {
                if !self.on && tag.keyframe {
                    self.on = true;
                    let writer = lock(&self.stage.writer);
                    let about: Vec<(String, Amf)> = about(&writer);
                    let settings = writer.settings(tag.time);
                    drop(writer);
                    server.tell(about);
                    settings.iter().for_each(|t| server.send(t));
                }
                if self.on {
                    server.send(&tag);
                }
                true
            }
            Err(broadcast::error::RecvError::Lagged(_)) => {
                self.on = false;
                if !std::mem::replace(&mut self.slow, true) {
                    self.status.note(Notice::ViewerSlow(self.from));
                }
                true
            }
            Err(broadcast::error::RecvError::Closed) => false,
        }
    }
}
