//! A directory: nodes tell it where they are, and are told who else is there. For networks without
//! multicast.

use super::{
    StaveError,
    node::{Node, NodePlan},
};
use choir_host::Stop;
use choir_proto::stave::NodeEntry;
use std::collections::BTreeMap;
use tokio::sync::watch;

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
