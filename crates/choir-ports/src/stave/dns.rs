//! What a node says of itself by DNS-SD (section 7; RFC 6762, RFC 6763).

use choir_proto::{
    onvif::device::plain,
    stave::{NodeEntry, SERVICE},
};
use hickory_proto::{
    op::{Message, MessageType, Query},
    rr::{
        Name, RData, Record, RecordType,
        rdata::{A, PTR, SRV, TXT},
    },
};
use std::{
    collections::HashMap,
    net::{IpAddr, Ipv4Addr, SocketAddr},
};

const TTL: u32 = 120;
/// Longest DNS message that is read.
const DNS_MAX: usize = 9000;

/// A question for all nodes.
pub(super) fn question() -> Vec<u8> {
    let mut m = Message::new();
    if let Ok(name) = Name::from_ascii(SERVICE) {
        m.add_query(Query::query(name, RecordType::PTR));
    }
    m.to_vec().unwrap_or_default()
}

/// True for a question that a node answers.
pub(super) fn asks(data: &[u8]) -> bool {
    if data.len() > DNS_MAX {
        return false;
    }
    let Ok(service) = Name::from_ascii(SERVICE) else { return false };
    Message::from_vec(data).is_ok_and(|m| {
        m.message_type() == MessageType::Query
            && m.queries().iter().any(|q| q.name() == &service && matches!(q.query_type(), RecordType::PTR | RecordType::ANY))
    })
}

/// A node as it announces itself at one of its addresses; `leaving` with no time to live.
pub(super) fn announcement(node: &NodeEntry, at: (Ipv4Addr, u16), leaving: bool) -> Vec<u8> {
    build(node, at, leaving).and_then(|m| m.to_vec().ok()).unwrap_or_default()
}

fn build(node: &NodeEntry, (ip, port): (Ipv4Addr, u16), leaving: bool) -> Option<Message> {
    let ttl = if leaving { 0 } else { TTL };
    let service = Name::from_ascii(SERVICE).ok()?;
    let instance = Name::from_labels([node.machine.as_bytes(), b"_stave", b"_udp", b"local"]).ok()?;
    let host = Name::from_labels([format!("stave-{}", node.node).as_bytes(), b"local"]).ok()?;
    let facts = vec!["v=1".to_owned(), format!("node={}", node.node), format!("boot={}", node.boot), format!("group={}", node.group)];
    let mut m = Message::new();
    m.set_message_type(MessageType::Response).set_authoritative(true);
    m.add_answer(Record::from_rdata(service, ttl, RData::PTR(PTR(instance.clone()))));
    m.add_additional(Record::from_rdata(instance.clone(), ttl, RData::SRV(SRV::new(0, 0, port, host.clone()))));
    m.add_additional(Record::from_rdata(instance, ttl, RData::TXT(TXT::new(facts))));
    m.add_additional(Record::from_rdata(host, ttl, RData::A(A(ip))));
    Some(m)
}

/// A node that was heard of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Heard {
    pub entry: NodeEntry,
    pub leaving: bool,
}

/// Reads announcements and answers.
pub(super) fn read(data: &[u8], from: IpAddr) -> Vec<Heard> {
    let parsed = (data.len() <= DNS_MAX).then(|| Message::from_vec(data).ok()).flatten();
    let Some(message) = parsed.filter(|m| m.message_type() == MessageType::Response) else { return Vec::new() };
    let records: Vec<&Record> = message.answers().iter().chain(message.additionals()).collect();
    let lower = |n: &Name| n.to_ascii().to_lowercase();
    let mut hosts: HashMap<String, Ipv4Addr> = HashMap::new();
    let mut facts: HashMap<String, HashMap<String, String>> = HashMap::new();
    for r in &records {
        match r.data() {
            RData::A(a) => drop(hosts.insert(lower(r.name()), a.0)),
            RData::TXT(t) => {
                let pairs = t.iter().filter_map(|b| std::str::from_utf8(b).ok()?.split_once('='));
                facts.insert(lower(r.name()), pairs.map(|(k, v)| (k.to_owned(), v.to_owned())).collect());
            }
            _ => {}
        }
    }
    let mut found = Vec::new();
    for r in records {
        let RData::SRV(srv) = r.data() else { continue };
        let name = lower(r.name());
        if !name.ends_with(SERVICE) {
            continue;
        }
        let Some(said) = facts.get(&name) else { continue };
        let fact = |k: &str| said.get(k).cloned().unwrap_or_default();
        let at = hosts.get(&lower(srv.target())).map_or(from, |ip| IpAddr::V4(*ip));
        let machine = plain(&String::from_utf8_lossy(r.name().iter().next().unwrap_or_default()));
        let node = plain(&fact("node"));
        if machine.is_empty() || node.is_empty() || node.len() > 64 {
            continue;
        }
        let entry = NodeEntry {
            machine,
            node,
            boot: fact("boot").parse().unwrap_or_default(),
            group: fact("group"),
            at: vec![SocketAddr::new(at, srv.port())],
        };
        found.push(Heard { entry, leaving: r.ttl() == 0 });
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_announced_is_heard() {
        let ip = Ipv4Addr::new(127, 20, 0, 1);
        let node = NodeEntry {
            machine: "Boat House (2)".into(),
            node: "00ff".into(),
            boot: 77,
            group: "regatta".into(),
            at: vec![SocketAddr::new(ip.into(), 7340)],
        };
        for leaving in [false, true] {
            let data = announcement(&node, (ip, 7340), leaving);
            assert_eq!(read(&data, [127, 9, 9, 9].into()), [Heard { entry: node.clone(), leaving }]);
            assert!(!asks(&data));
            for cut in 0..data.len() {
                let _ = (read(&data[..cut], ip.into()), asks(&data[..cut]));
            }
        }
        assert!(asks(&question()) && read(&question(), ip.into()).is_empty());
    }
}
