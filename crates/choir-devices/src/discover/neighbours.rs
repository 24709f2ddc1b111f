//! Hardware addresses: the system's neighbour table, and where this process may, every answer to
//! the system's own questions, since the table keeps only one of two that answer.

use super::{Sign, Signs};
use choir_core::find::Evidence;
use socket2::{Domain, Protocol, Socket, Type};
use std::{fs, io::Read, net::Ipv4Addr, sync::Arc, time::Duration};
use tokio::{io::unix::AsyncFd, task::JoinSet};

const TABLE: &str = "/proc/net/arp";
const LOOK_EVERY: Duration = Duration::from_millis(300);
/// ETH_P_ARP.
const ARP: u16 = 0x0806;

/// Address and hardware address of each complete line.
fn read_table(text: &str) -> Vec<(Ipv4Addr, String)> {
    let line = |l: &str| {
        let mut columns = l.split_whitespace();
        let ip = columns.next()?.parse().ok()?;
        let flags = columns.nth(1)?;
        let mac = columns.next()?;
        let complete = u32::from_str_radix(flags.trim_start_matches("0x"), 16).ok()? & 2 != 0;
        (complete && mac != "00:00:00:00:00:00").then(|| (ip, mac.to_owned()))
    };
    text.lines().skip(1).filter_map(line).collect()
}

/// The hardware address that the system knows for an address.
pub(super) fn known(ip: Ipv4Addr) -> Option<String> {
    read_table(&fs::read_to_string(TABLE).ok()?).into_iter().find(|(a, _)| *a == ip).map(|(_, m)| m)
}

/// The sender of an ARP packet (RFC 826).
fn sender(packet: &[u8]) -> Option<(Ipv4Addr, String)> {
    let p = packet.get(..28)?;
    // Ethernet and IPv4.
    if p[..6] != [0, 1, 8, 0, 6, 4] {
        return None;
    }
    let mac: Vec<String> = p[8..14].iter().map(|b| format!("{b:02x}")).collect();
    let ip = Ipv4Addr::new(p[14], p[15], p[16], p[17]);
    (!ip.is_unspecified()).then(|| (ip, mac.join(":")))
}

/// Every ARP packet that reaches this machine, where this process may hear them.
pub(super) struct Answers(Option<AsyncFd<Socket>>);

impl Answers {
    /// To be opened before anything is sent: of two that answer at one address, each answers once.
    pub(super) fn open() -> Self {
        // Needs CAP_NET_RAW; without it the table must do.
        let socket = Socket::new(Domain::PACKET, Type::DGRAM, Some(Protocol::from(i32::from(ARP.to_be())))).ok();
        let socket = socket.filter(|s| s.set_nonblocking(true).is_ok());
        // Its replacement is unsafe for types that may change their descriptor; this one never
        // does.
        #[allow(deprecated, reason = "keeps this workspace free of unsafe code")]
        Self(socket.and_then(|s| AsyncFd::new(s).ok()))
    }
}

/// Watches both for the addresses that are asked (in order), for ever.
pub(super) fn start(asked: Arc<[Ipv4Addr]>, signs: Signs, answers: Answers, helpers: &mut JoinSet<()>) {
    helpers.spawn(async move {
        tokio::join!(watch_table(&asked, &signs), watch_answers(&asked, &signs, answers));
    });
}

async fn tell(asked: &[Ipv4Addr], ip: Ipv4Addr, mac: String, signs: &Signs) {
    if asked.binary_search(&ip).is_ok() {
        let _ = signs.send(Sign::Of(ip, Evidence::Mac(mac))).await;
    }
}

async fn watch_table(asked: &[Ipv4Addr], signs: &Signs) {
    let mut tick = tokio::time::interval(LOOK_EVERY);
    loop {
        tick.tick().await;
        // Not on this system: the rest goes on.
        let Ok(text) = fs::read_to_string(TABLE) else { return };
        for (ip, mac) in read_table(&text) {
            tell(asked, ip, mac, signs).await;
        }
    }
}

async fn watch_answers(asked: &[Ipv4Addr], signs: &Signs, answers: Answers) {
    let Some(socket) = answers.0 else { return };
    let mut buffer = [0; 64];
    while let Ok(mut guard) = socket.readable().await {
        match guard.try_io(|s| s.get_ref().read(&mut buffer)) {
            Ok(Ok(n)) => {
                if let Some((ip, mac)) = sender(&buffer[..n]) {
                    tell(asked, ip, mac, signs).await;
                }
            }
            Ok(Err(_)) => return,
            Err(_) => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_table_and_the_packets_are_read() {
        let text = "IP address       HW type     Flags       HW address            Mask     Device\n\
            10.77.0.9        0x1         0x2         02:aa:00:00:00:01     *        eth0\n\
            10.77.0.10       0x1         0x0         00:00:00:00:00:00     *        eth0\nnonsense\n";
        assert_eq!(read_table(text), [(Ipv4Addr::new(10, 77, 0, 9), "02:aa:00:00:00:01".to_owned())]);
        let mut packet = vec![0, 1, 8, 0, 6, 4, 0, 2, 2, 0xAA, 0, 0, 0, 1, 10, 77, 0, 9];
        packet.extend([0; 10]);
        assert_eq!(sender(&packet), Some((Ipv4Addr::new(10, 77, 0, 9), "02:aa:00:00:00:01".to_owned())));
        assert_eq!((sender(&packet[..27]), sender(&[0; 28])), (None, None));
    }
}
