//! A directory: nodes tell it where they are, and are told who else is there. For networks without multicast.

use super::{
    StaveError,
    dns::Heard,
    find::OwnEntry,
    node::{Node, NodePlan},
    session::Session,
};
use choir_host::{Stop, lock};
use choir_proto::stave::{ListenerEvent, NodeEntry};
use std::{collections::BTreeMap, net::SocketAddr, time::Duration};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

const AGAIN: Duration = Duration::from_millis(500);

/// A directory that runs.
pub struct Directory {
    /// The node that serves it.
    pub node: Node,
    /// Who is there, as it changes.
    pub nodes: watch::Receiver<BTreeMap<u64, NodeEntry>>,
}

/// Serves a directory. It ends with `stop`.
///
/// # Errors
/// As [`Node::start`].
pub async fn serve_directory(plan: NodePlan, stop: &Stop) -> Result<Directory, StaveError> {
    let node = Node::start(plan, stop).await?;
    let nodes = node.keep_directory();
    Ok(Directory { node, nodes })
}

/// Tells a directory of this node, and `heard` of the others.
pub(super) fn spawn_client(node: Node, at: SocketAddr, own: OwnEntry, heard: mpsc::Sender<Heard>, mut stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let mut known: Vec<NodeEntry> = Vec::new();
        loop {
            tokio::select! {
                () = attend(&node, at, &own, &heard, &mut known) => {}
                () = stop.wait() => return,
            }
            tokio::select! {
                () = tokio::time::sleep(AGAIN) => {}
                () = stop.wait() => return,
            }
        }
    })
}

async fn attend(node: &Node, at: SocketAddr, own: &OwnEntry, heard: &mpsc::Sender<Heard>, known: &mut Vec<NodeEntry>) {
    let Ok(mut session) = Session::open(node, at, &[]).await else { return };
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
                let _ = heard.send(Heard { entry, leaving }).await;
            }
            *known = now;
        }
        if turned.is_err() {
            return;
        }
    }
}
