//! Services by DNS-SD over multicast (RFC 6762, RFC 6763): questions, announcements, and what
//! others announce.

use simple_dns::{
    CLASS, Label, Name, Packet, PacketFlag, QCLASS, QTYPE, Question, ResourceRecord, TYPE,
    rdata::{A, PTR, RData, SRV, TXT},
};
use std::{collections::HashMap, net::Ipv4Addr};

/// Longest DNS message that is read (RFC 6762, 17).
const DNS_MAX: usize = 9000;
/// Least length of a question and of a record, bytes: a name, type and class.
const ENTRY_MIN: usize = 5;
/// Seconds that an announcement is believed.
pub const TTL: u32 = 120;

/// One instance of a service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Service {
    /// Its own name, in plain UTF-8 (RFC 6763, 4.1.1).
    pub instance: String,
    /// `_rtsp._tcp.local.`, in lower case.
    pub service: String,
    /// Its host's name, without the domain.
    pub host: String,
    /// Where; `None` when the message does not say.
    pub ip: Option<Ipv4Addr>,
    /// Port.
    pub port: u16,
    /// Seconds to live; 0 says goodbye.
    pub ttl: u32,
    /// What it says of itself.
    pub facts: Vec<(String, String)>,
}

/// A message whose counts its length can hold.
fn parse(data: &[u8]) -> Option<Packet<'_>> {
    let counts = data.get(4..12)?.chunks_exact(2).map(|c| usize::from(u16::from_be_bytes([c[0], c[1]])));
    let entries: usize = counts.sum();
    if data.len() > DNS_MAX || entries * ENTRY_MIN > data.len() {
        return None;
    }
    Packet::parse(data).ok()
}

/// Labels as text in lower case, with a dot behind each.
fn dotted(labels: &[Label<'_>]) -> String {
    labels.iter().map(|l| format!("{l}.").to_lowercase()).collect()
}

/// A question to all for these services.
#[must_use]
pub fn question(services: &[&str]) -> Vec<u8> {
    let mut packet = Packet::new_query(0);
    for service in services {
        let name = Name::new_unchecked(service.trim_end_matches('.'));
        packet.questions.push(Question::new(name, QTYPE::TYPE(TYPE::PTR), QCLASS::CLASS(CLASS::IN), false));
    }
    packet.build_bytes_vec().unwrap_or_default()
}

/// The number of a question and the services that it asks for; `None` for anything else.
#[must_use]
pub fn asked(data: &[u8]) -> Option<(u16, Vec<String>)> {
    let packet = parse(data).filter(|p| !p.has_flags(PacketFlag::RESPONSE))?;
    let wanted = packet.questions.iter().filter(|q| matches!(q.qtype, QTYPE::TYPE(TYPE::PTR) | QTYPE::ANY));
    Some((packet.id(), wanted.map(|q| dotted(q.qname.get_labels())).collect()))
}

/// A service as it is announced, as answer to question `id` (0 to all).
#[must_use]
pub fn announcement(id: u16, s: &Service) -> Vec<u8> {
    let service = s.service.trim_end_matches('.');
    let below = |first: &str| {
        let rest = Name::new_unchecked(service);
        let labels: Vec<Label<'_>> =
            std::iter::once(Label::new_unchecked(first.as_bytes().to_vec())).chain(rest.get_labels().iter().cloned()).collect();
        Name::new_with_labels(&labels).into_owned()
    };
    let instance = below(&s.instance);
    let host = Name::new_with_labels(&[Label::new_unchecked(s.host.as_bytes().to_vec()), Label::new_unchecked(&b"local"[..])]);
    let record = |name: Name<'static>, rdata| ResourceRecord::new(name, CLASS::IN, s.ttl, rdata);
    let mut packet = Packet::new_reply(id);
    packet.set_flags(PacketFlag::AUTHORITATIVE_ANSWER);
    packet.answers.push(record(Name::new_unchecked(service).into_owned(), RData::PTR(PTR(instance.clone()))));
    let srv = SRV { priority: 0, weight: 0, port: s.port, target: host.clone() };
    packet.additional_records.push(record(instance.clone(), RData::SRV(srv)));
    let facts: Vec<String> = s.facts.iter().map(|(k, v)| format!("{k}={v}")).collect();
    if !facts.is_empty() {
        let mut txt = TXT::new();
        for fact in &facts {
            // Longer than 255 bytes cannot be said.
            let _ = txt.add_string(fact);
        }
        packet.additional_records.push(record(instance, RData::TXT(txt.into_owned())));
    }
    if let Some(ip) = s.ip {
        packet.additional_records.push(record(host, RData::A(A { address: ip.into() })));
    }
    packet.build_bytes_vec().unwrap_or_default()
}

/// The services that a message announces.
#[must_use]
pub fn services(data: &[u8]) -> Vec<Service> {
    let Some(packet) = parse(data).filter(|p| p.has_flags(PacketFlag::RESPONSE)) else { return Vec::new() };
    let records = || packet.answers.iter().chain(&packet.additional_records);
    let mut hosts: HashMap<String, Ipv4Addr> = HashMap::new();
    let mut facts: HashMap<String, Vec<(String, String)>> = HashMap::new();
    for r in records() {
        let name = dotted(r.name.get_labels());
        match &r.rdata {
            RData::A(a) => drop(hosts.insert(name, a.address.into())),
            RData::TXT(txt) => {
                let text = |b: &[u8]| std::str::from_utf8(b).map(str::to_owned).ok();
                let pairs = txt.iter_raw().filter_map(|(k, v)| Some((text(k)?, text(v?)?)));
                facts.insert(name, pairs.collect());
            }
            _ => {}
        }
    }
    let service = |r: &ResourceRecord<'_>| {
        let RData::SRV(srv) = &r.rdata else { return None };
        let (first, rest) = r.name.get_labels().split_first()?;
        Some(Service {
            instance: first.to_string(),
            service: dotted(rest),
            host: srv.target.get_labels().first().map(ToString::to_string).unwrap_or_default(),
            ip: hosts.get(&dotted(srv.target.get_labels())).copied(),
            port: srv.port,
            ttl: r.ttl,
            facts: facts.get(&dotted(r.name.get_labels())).cloned().unwrap_or_default(),
        })
    };
    records().filter_map(service).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn tower() -> Service {
        Service {
            instance: "Finish. Tower (2)".into(),
            service: "_rtsp._tcp.local.".into(),
            host: "Tower".into(),
            ip: Some(Ipv4Addr::new(127, 20, 0, 11)),
            port: 8554,
            ttl: TTL,
            facts: vec![("v".into(), "1".into()), ("group".into(), "regatta".into())],
        }
    }

    #[test]
    fn what_is_announced_is_read_whatever_the_name_and_cut_anywhere() {
        let plain = Service { facts: Vec::new(), ..tower() };
        for s in [tower(), plain, Service { ttl: 0, ip: None, ..tower() }] {
            let data = announcement(0, &s);
            assert_eq!(services(&data), [s]);
            assert!(asked(&data).is_none());
            for cut in 0..data.len() {
                let _ = (services(&data[..cut]), asked(&data[..cut]));
            }
        }
    }

    #[test]
    fn questions_are_read_and_junk_costs_nothing() {
        let data = question(&["_rtsp._tcp.local.", "_ONVIF._tcp.local."]);
        assert_eq!(asked(&data), Some((0, vec!["_rtsp._tcp.local.".into(), "_onvif._tcp.local.".into()])));
        assert!(services(&data).is_empty());
        // It claims more records than it has bytes.
        let mut lies = announcement(0, &tower());
        lies[6..8].copy_from_slice(&[0xFF, 0xFF]);
        assert!(services(&lies).is_empty());
        // A name that points at itself.
        let mut looped = data.clone();
        looped[12..14].copy_from_slice(&[0xC0, 12]);
        let _ = asked(&looped);
        assert!(asked(&vec![0; DNS_MAX + 1]).is_none());
    }
}
