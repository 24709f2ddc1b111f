//! The table of names on the LAN.

use super::tables;
use choir_core::{
    units::{Bitrate, say_rate, say_size},
    view::{NamedStreamView, NodeView},
};
use choir_proto::foreign;

/// Text from the network as a terminal may show it.
pub fn plain(text: &str) -> String {
    foreign::plain(text, 80)
}

/// A machine by its name, or by its address before it has said one.
pub fn called(node: &NodeView) -> String {
    if node.machine.is_empty() { node.at.clone() } else { format!("{} ({})", plain(&node.machine), node.at) }
}

/// A row for each stream of each name; the first has what belongs to the name.
pub fn table(nodes: &[NodeView], width: usize) -> String {
    let heads = ["name", "machine", "grade", "codec", "size", ">rate", ">bitrate", ">viewers", "tally", "secured", "sound", "camera", "at"];
    let mut rows = Vec::new();
    for node in nodes {
        for name in &node.names {
            let silent = NamedStreamView { grade: "nothing comes in yet".into(), ..NamedStreamView::default() };
            let streams = if name.streams.is_empty() { std::slice::from_ref(&silent) } else { &name.streams[..] };
            for (n, s) in streams.iter().enumerate() {
                let once = |text: String| if n == 0 { text } else { String::new() };
                rows.push(vec![
                    once(plain(&name.name)),
                    once(plain(&node.machine)),
                    s.grade.clone(),
                    plain(&s.codec),
                    s.size.map(say_size).unwrap_or_default(),
                    s.rate.map(say_rate).unwrap_or_default(),
                    if s.rate_bps > 0 { Bitrate(s.rate_bps).to_string() } else { String::new() },
                    once(name.viewers.to_string()),
                    once(name.tally.map_or("-", |t| t.words()).to_owned()),
                    once(plain(&node.secured)),
                    s.sound.as_deref().map(plain).unwrap_or_default(),
                    once(if name.steered { "steered" } else { "-" }.to_owned()),
                    once(node.at.clone()),
                ]);
            }
        }
    }
    if rows.is_empty() {
        return String::new();
    }
    tables::fit(&heads, &rows, width)
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::view::{NameView, TallyView};

    #[test]
    fn a_name_has_a_row_for_each_stream_and_its_own_facts_once() {
        let stream = |grade: &str, size, rate_bps| NamedStreamView {
            grade: grade.into(),
            codec: "h264".into(),
            size: Some(size),
            rate: Some(25.0),
            rate_bps,
            sound: Some("aac 2x48 kHz".into()),
        };
        let name = NameView {
            name: "Finish\u{7} Tower".into(),
            carries: String::new(),
            viewers: 2,
            tally: Some(TallyView::OnAir),
            steered: true,
            multicast: false,
            streams: vec![stream("long-gop", (1280, 720), 5_000_000), stream("sub", (320, 180), 400_000)],
        };
        let silent = NameView { name: "Start Pontoon".into(), streams: Vec::new(), tally: None, ..name.clone() };
        let node = NodeView {
            machine: "boathouse".into(),
            at: "127.20.0.1:7340".into(),
            open: true,
            why: String::new(),
            secured: "key".into(),
            names: vec![name, silent],
        };
        let text = table(&[node], usize::MAX);
        let rows: Vec<&str> = text.lines().collect();
        assert_eq!(rows.len(), 4, "{text}");
        assert!(
            rows[1].starts_with("Finish Tower   boathouse  long-gop") && rows[1].contains("on air") && rows[1].contains("5.0 Mbps"),
            "{text}"
        );
        assert!(rows[2].starts_with("      ") && rows[2].contains("sub") && rows[2].contains("400 kbps"), "{text}");
        assert!(rows[3].contains("nothing comes in yet"), "{text}");
        assert!(table(&[], 80).is_empty());
    }
}
