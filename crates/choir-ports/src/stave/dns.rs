//! What a node says of itself by DNS-SD (section 7; RFC 6762, RFC 6763).

use choir_host::mdns::{self, Service, TTL};
use choir_proto::{
    onvif::device::plain,
    stave::{NodeEntry, SERVICE},
};
use std::net::{IpAddr, Ipv4Addr, SocketAddr};

/// A question for all nodes.
pub(super) fn question() -> Vec<u8> {
    mdns::question(&[SERVICE])
}

/// True for a question that a node answers.
pub(super) fn asks(data: &[u8]) -> bool {
    mdns::asked(data).is_some_and(|(_, services)| services.iter().any(|s| s == SERVICE))
}

/// A node as it announces itself at one of its addresses; `leaving` with no time to live.
pub(super) fn announcement(node: &NodeEntry, (ip, port): (Ipv4Addr, u16), leaving: bool) -> Vec<u8> {
    let facts = [("v", "1".to_owned()), ("node", node.node.clone()), ("boot", node.boot.to_string()), ("group", node.group.clone())];
    let service = Service {
        instance: node.machine.clone(),
        service: SERVICE.into(),
        host: format!("stave-{}", node.node),
        ip: Some(ip),
        port,
        ttl: if leaving { 0 } else { TTL },
        facts: facts.map(|(k, v)| (k.to_owned(), v)).into(),
    };
    mdns::announcement(0, &service)
}

/// A node that was heard of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Heard {
    pub entry: NodeEntry,
    pub leaving: bool,
    /// Whose packet it was, where it came by itself.
    pub by: Option<IpAddr>,
}

/// Reads announcements and answers.
pub(super) fn read(data: &[u8], from: IpAddr) -> Vec<Heard> {
    let heard = |s: Service| {
        let fact = |k: &str| s.facts.iter().find(|f| f.0 == k).map(|f| f.1.clone()).unwrap_or_default();
        let (machine, node) = (plain(&s.instance), plain(&fact("node")));
        if machine.is_empty() || node.is_empty() || node.len() > 64 {
            return None;
        }
        let at = vec![SocketAddr::new(s.ip.map_or(from, IpAddr::V4), s.port)];
        let entry = NodeEntry { machine, node, boot: fact("boot").parse().unwrap_or_default(), group: fact("group"), at };
        Some(Heard { entry, leaving: s.ttl == 0, by: Some(from) })
    };
    mdns::services(data).into_iter().filter(|s| s.service == SERVICE).filter_map(heard).collect()
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
            assert_eq!(read(&data, [127, 9, 9, 9].into()), [Heard { entry: node.clone(), leaving, by: Some([127, 9, 9, 9].into()) }]);
            assert!(!asks(&data));
            for cut in 0..data.len() {
                let _ = (read(&data[..cut], ip.into()), asks(&data[..cut]));
            }
        }
        assert!(asks(&question()) && read(&question(), ip.into()).is_empty());
    }
}
