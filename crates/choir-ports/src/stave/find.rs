//! Announcing and seeking nodes by multicast: one task for each interface that it may use, as these
//! come and go.

use super::dns;
use choir_core::network::Span;
use choir_host::{
    End, Stop,
    interfaces::own_interfaces,
    lock,
    multicast::{MDNS, MulticastSocket},
};
use choir_proto::stave::NodeEntry;
use std::{
    collections::BTreeMap,
    net::{IpAddr, Ipv4Addr, SocketAddr},
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};
use tokio::{
    sync::{mpsc, watch},
    task::JoinHandle,
};

/// What is said to all is lost easily: said and asked so often at the start, then now and then.
const FIRST: [Duration; 4] = [Duration::ZERO, Duration::from_millis(150), Duration::from_millis(400), Duration::from_secs(1)];
const LATER: Duration = Duration::from_secs(5);

/// Questions that are answered, by each interface.
const ANSWERS_A_SECOND: u32 = 20;

/// How often it is looked for interfaces that have come, gone, or got another address.
const LOOK: Duration = Duration::from_millis(500);

/// By which interfaces.
#[derive(Debug, Clone, Copy)]
pub struct LanPlan {
    address: Option<IpAddr>,
}

impl LanPlan {
    /// The interface that has this address; without one all but loopback.
    #[must_use]
    pub fn by(address: Option<IpAddr>) -> Self {
        Self { address }
    }

    /// Own addresses to speak by, at present, and their networks.
    fn interfaces(&self) -> Vec<(Ipv4Addr, Span)> {
        let of_system = |wanted: &dyn Fn(Ipv4Addr) -> bool| {
            let all = own_interfaces().unwrap_or_default().into_iter().filter(|i| wanted(i.ip));
            all.map(|i| (i.ip, Span::around(i.ip, i.prefix))).collect()
        };
        match self.address {
            // Of loopback every address is this machine's.
            Some(IpAddr::V4(ip)) if ip.is_loopback() => vec![(ip, Span::around(ip, 8))],
            Some(IpAddr::V4(ip)) => of_system(&|own| own == ip),
            Some(IpAddr::V6(_)) => Vec::new(),
            None => of_system(&|own| !own.is_loopback()),
        }
    }
}

/// What this node says of itself; none only listens.
pub(super) type OwnEntry = Arc<Mutex<Option<NodeEntry>>>;

/// What a seeker tells.
#[derive(Clone)]
pub(super) struct Tell {
    /// Who was heard.
    pub heard: mpsc::Sender<dns::Heard>,
    /// Interfaces that are used at present, once they have been looked for.
    pub interfaces: watch::Sender<Option<usize>>,
}

/// Seeks, and announces `own`, until the stop.
pub(super) fn spawn(plan: LanPlan, own: OwnEntry, tell: Tell, mut stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let mut open: BTreeMap<Ipv4Addr, (End, JoinHandle<()>)> = BTreeMap::new();
        let mut tick = tokio::time::interval(LOOK);
        loop {
            tokio::select! {
                _ = tick.tick() => {}
                () = stop.wait() => break,
            }
            let now = plan.interfaces();
            // One whose socket failed is opened anew as well.
            open.retain(|ip, (end, task)| {
                let stays = now.iter().any(|n| n.0 == *ip) && !task.is_finished();
                if !stays {
                    end.now();
                }
                stays
            });
            for (ip, network) in now {
                if open.contains_key(&ip) {
                    continue;
                }
                let Ok(socket) = MulticastSocket::open(MDNS, ip) else { continue };
                let (end, ends) = Stop::new();
                let lan = Lan { socket, ip, network, own: own.clone(), tell: tell.clone() };
                open.insert(ip, (end, tokio::spawn(lan.run(ends))));
            }
            tell.interfaces.send_if_modified(|n| n.replace(open.len()) != Some(open.len()));
        }
        for (end, task) in open.into_values() {
            end.now();
            let _ = task.await;
        }
    })
}

/// Answers to questions, so many a second.
#[derive(Default)]
struct Answers(Option<(Instant, u32)>);

impl Answers {
    fn may(&mut self, now: Instant) -> bool {
        let (since, count) = self.0.get_or_insert((now, 0));
        if now.saturating_duration_since(*since) >= Duration::from_secs(1) {
            (*since, *count) = (now, 0);
        }
        *count += 1;
        *count <= ANSWERS_A_SECOND
    }
}

struct Lan {
    socket: MulticastSocket,
    ip: Ipv4Addr,
    network: Span,
    own: OwnEntry,
    tell: Tell,
}

impl Lan {
    async fn run(mut self, mut stop: Stop) {
        let (mut got, mut answers) = (Vec::new(), Answers::default());
        let start = tokio::time::Instant::now();
        let mut turn = 0;
        loop {
            let next = FIRST.get(turn).map_or_else(|| start + FIRST[3] + LATER * (turn - FIRST.len() + 1) as u32, |d| start + *d);
            tokio::select! {
                () = self.socket.receive(&mut got) => {}
                () = tokio::time::sleep_until(next) => {
                    turn += 1;
                    self.socket.send(&dns::question());
                    self.say(None, false);
                }
                () = stop.wait() => {
                    self.say(None, true);
                    return;
                }
            }
            for (from, data) in got.drain(..) {
                if dns::asks(&data) {
                    // Only neighbours ask, and not by the hundred (RFC 6762, 5.5 and 6).
                    if self.network.holds(from.ip()) && answers.may(Instant::now()) {
                        self.say(Some(from), false);
                    }
                    continue;
                }
                for h in dns::read(&data, from.ip()) {
                    if self.tell.heard.send(h).await.is_err() {
                        return;
                    }
                }
            }
        }
    }

    fn say(&self, to: Option<SocketAddr>, leaving: bool) {
        let own = lock(&self.own).clone();
        let Some(own) = own else { return };
        let Some(port) = own.at.first().map(SocketAddr::port) else { return };
        let here = match own.at[0].ip() {
            IpAddr::V4(ip) if !ip.is_unspecified() => ip,
            _ => self.ip,
        };
        let data = dns::announcement(&own, (here, port), leaving);
        match to.filter(|t| t.port() != MDNS.port()) {
            // Asked from another port: the answer goes there (RFC 6762, 6.7).
            Some(to) => self.socket.send_to(to, &data),
            None => self.socket.send(&data),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_of_questions_gets_few_answers() {
        let (mut answers, now) = (Answers::default(), Instant::now());
        let given = |answers: &mut Answers, at: Instant| (0..1000).filter(|_| answers.may(at)).count();
        assert_eq!(given(&mut answers, now), ANSWERS_A_SECOND as usize);
        assert_eq!(given(&mut answers, now + Duration::from_secs(1)), ANSWERS_A_SECOND as usize);
    }
}
