//! Tells a directory of this node, and learns from it of the others.

use super::{caller::Caller, dns::Heard, find::OwnEntry, session::Session};
use choir_host::{Stop, lock};
use choir_proto::stave::{ListenerEvent, NodeEntry};
use std::{net::SocketAddr, time::Duration};
use tokio::{sync::mpsc, task::JoinHandle};

const AGAIN: Duration = Duration::from_millis(500);

/// Tells a directory of this node, and `heard` of the others.
pub(super) fn spawn_client(caller: Caller, at: SocketAddr, own: OwnEntry, heard: mpsc::Sender<Heard>, mut stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let mut known: Vec<NodeEntry> = Vec::new();
        loop {
            tokio::select! {
                () = attend(&caller, at, &own, &heard, &mut known) => {}
                () = stop.wait() => return,
            }
            tokio::select! {
                () = tokio::time::sleep(AGAIN) => {}
                () = stop.wait() => return,
            }
        }
    })
}

async fn attend(caller: &Caller, at: SocketAddr, own: &OwnEntry, heard: &mpsc::Sender<Heard>, known: &mut Vec<NodeEntry>) {
    let Ok(mut session) = Session::open(caller, at, &[]).await else { return };
    let mine = lock(own).clone();
    if let Some(entry) = mine {
        session.listener.announce(entry);
    }
    loop {
        let turned = session.turn().await;
        while let Some(event) = session.listener.poll_event() {
            let ListenerEvent::Nodes(nodes) = event else { continue };
            let now: Vec<NodeEntry> = nodes.nodes.into_iter().take(256).collect();
            // What a directory does not tell any more has left it: it says goodbye for it.
            let gone: Vec<NodeEntry> = known.iter().filter(|k| now.iter().all(|n| n.node != k.node)).cloned().collect();
            for (entry, leaving) in now.iter().cloned().map(|n| (n, false)).chain(gone.into_iter().map(|n| (n, true))) {
                let entry = NodeEntry { machine: super::plain_name(&entry.machine), ..entry };
                let _ = heard.send(Heard { entry, leaving, by: None }).await;
            }
            *known = now;
        }
        if turned.is_err() {
            return;
        }
    }
}
