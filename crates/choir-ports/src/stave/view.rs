//! What is known of the LAN, as views show it.

use super::{
    node::tally_view,
    roster::{Known, NodeState, Roster},
};
use choir_core::view::{NameView, NamedStreamView, NodeView};
use choir_proto::stave::{SourceOffer, StreamOffer};

impl Roster {
    /// All nodes with their names.
    #[must_use]
    pub fn view(&self) -> Vec<NodeView> {
        self.known().iter().map(node).collect()
    }
}

fn node(k: &Known) -> NodeView {
    let (open, why, secured) = match &k.state {
        NodeState::Open(c) => (true, String::new(), c.secured.clone()),
        NodeState::Calling => (false, "being called".into(), String::new()),
        NodeState::Closed(_, why) => (false, why.clone(), String::new()),
    };
    let mut names: Vec<NameView> = k.sources().iter().map(name).collect();
    names.sort_by(|a, b| a.name.cmp(&b.name));
    NodeView { machine: k.entry.machine.clone(), at: k.at.to_string(), open, why, secured, names }
}

fn name(s: &SourceOffer) -> NameView {
    NameView {
        name: s.name.clone(),
        carries: s.carries.clone(),
        viewers: s.viewers,
        tally: tally_view(s.tally.into()),
        steered: s.camera,
        multicast: s.multicast,
        streams: s.streams.iter().map(stream).collect(),
    }
}

fn stream(s: &StreamOffer) -> NamedStreamView {
    NamedStreamView {
        grade: s.grade.to_string(),
        codec: s.codec.clone(),
        size: s.size,
        rate: s.rate,
        rate_bps: s.bitrate,
        sound: s.sound.as_ref().map(|a| format!("{} {}x{} kHz", a.codec, a.channels, f64::from(a.sample_rate) / 1000.0)),
    }
}
