//! Finding devices: listening to what they say, asking all at once, reading the neighbour table,
//! and a bounded, paced sweep. Nothing here ever sends a password.

mod follow;
mod multicast;
mod neighbours;
mod pacer;
mod probe;

pub use follow::{CannotFollow, Follow};
pub use multicast::new_id;
pub use pacer::Pacer;

use choir_core::find::{Evidence, Found, Scan, Table};
use choir_host::clock::sleep_until;
use choir_host::interfaces::own_interfaces;
use pacer::{HOSTS_AT_ONCE, PACKETS_PER_SECOND};
use std::{
    io,
    net::{IpAddr, Ipv4Addr},
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    sync::{Semaphore, mpsc},
    task::JoinSet,
};

/// How long answers to the last question are waited for.
const TAIL: Duration = Duration::from_millis(600);

/// How to look.
#[derive(Debug, Clone)]
pub struct FindOptions {
    /// Packets a second that the sweep sends at most.
    pub packets_per_second: u32,
    /// Factory addresses beside the usual ones.
    pub factory: Vec<Ipv4Addr>,
    /// At least this long, to hear who comes.
    pub listen: Duration,
}

impl Default for FindOptions {
    fn default() -> Self {
        Self { packets_per_second: PACKETS_PER_SECOND, factory: Vec::new(), listen: Duration::from_secs(2) }
    }
}

/// What happens while it looks.
#[derive(Debug, Clone)]
pub enum FindEvent {
    /// It listens, and asks.
    Begun,
    /// A device, new or better known.
    Device(Box<Found>),
    /// Addresses asked, of how many.
    Progress(usize, usize),
    /// Something could not be done; the rest goes on.
    Note(String),
}

/// What was found.
#[derive(Debug, Clone, Default)]
pub struct FindResult {
    /// Devices in order of their addresses.
    pub devices: Vec<Found>,
    /// Addresses asked.
    pub asked: usize,
    /// Of those, that answered at all.
    pub answering: usize,
}

/// One sign and where it came from.
pub(crate) enum Sign {
    Of(Ipv4Addr, Evidence),
    /// An address was asked, and whether it answered at all.
    Asked(bool),
    /// A device said that its ONVIF is at this port.
    At(Ipv4Addr, u16),
    Note(String),
}

type Signs = mpsc::Sender<Sign>;

/// Looks for devices until all has been asked, or `stop` comes; events go to `events` as they come.
///
/// # Errors
/// The system does not tell its interfaces.
pub async fn find(
    scan: Scan,
    options: &FindOptions,
    events: mpsc::Sender<FindEvent>,
    stop: impl Future<Output = ()>,
) -> io::Result<FindResult> {
    let own = own_interfaces()?;
    let mut table = Table::new(&own, &options.factory);
    let (signs, mut incoming) = mpsc::channel(1024);
    let pacer = Arc::new(Pacer::new(options.packets_per_second));
    let mut helpers = JoinSet::new();
    let answers = neighbours::Answers::open();
    for interface in &scan.interfaces {
        multicast::start(interface, &signs, &mut helpers);
    }
    let _ = events.send(FindEvent::Begun).await;
    let addresses: Arc<[Ipv4Addr]> = scan.addresses.into();
    neighbours::start(addresses.clone(), signs.clone(), answers, &mut helpers);
    let mut sweep = start_sweep(&addresses, &pacer, &signs);
    let mut result = FindResult::default();
    let start = Instant::now();
    let mut end: Option<Instant> = None;
    let mut looked: Vec<(Ipv4Addr, u16)> = Vec::new();
    tokio::pin!(stop);
    loop {
        let sign = tokio::select! {
            sign = incoming.recv() => sign,
            Some(_) = sweep.join_next() => {
                if sweep.is_empty() {
                    end = Some((Instant::now() + TAIL).max(start + options.listen));
                }
                continue;
            }
            () = sleep_until(end) => break,
            () = &mut stop => break,
        };
        match sign {
            Some(Sign::Of(ip, evidence)) => {
                // Who was not asked and can be reached is not what is looked for; who cannot be
                // reached is lost.
                if addresses.binary_search(&ip).is_err() && own.iter().any(|i| i.reaches(ip)) {
                    continue;
                }
                if table.add(ip, evidence)
                    && let Some(found) = table.get(ip)
                {
                    let _ = events.send(FindEvent::Device(Box::new(found))).await;
                }
            }
            Some(Sign::Asked(alive)) => {
                result.asked += 1;
                result.answering += usize::from(alive);
                let _ = events.send(FindEvent::Progress(result.asked, addresses.len())).await;
            }
            // At a port that the sweep does not ask; only inside what was to be asked.
            Some(Sign::At(ip, port)) => {
                if addresses.binary_search(&ip).is_ok() && !probe::asks(port) && !looked.contains(&(ip, port)) && looked.len() < 1024 {
                    looked.push((ip, port));
                    end = None;
                    start_web(ip, port, &pacer, &signs, &mut sweep);
                }
            }
            Some(Sign::Note(text)) => {
                let _ = events.send(FindEvent::Note(text)).await;
            }
            None => break,
        }
    }
    result.devices = table.all();
    Ok(result)
}

/// Asks all addresses.
fn start_sweep(addresses: &Arc<[Ipv4Addr]>, pacer: &Arc<Pacer>, signs: &Signs) -> JoinSet<()> {
    let mut sweep = JoinSet::new();
    let places = Arc::new(Semaphore::new(HOSTS_AT_ONCE));
    let (addresses, pacer, signs) = (addresses.clone(), pacer.clone(), signs.clone());
    sweep.spawn(async move {
        let mut hosts = JoinSet::new();
        for ip in addresses.iter().copied() {
            let Ok(place) = places.clone().acquire_owned().await else { return };
            let (pacer, signs) = (pacer.clone(), signs.clone());
            hosts.spawn(async move {
                let alive = probe::host(ip, &pacer, &signs).await;
                let _ = signs.send(Sign::Asked(alive)).await;
                drop(place);
            });
            // What is done is let go of, so that memory does not grow with the range.
            while hosts.try_join_next().is_some() {}
        }
        while hosts.join_next().await.is_some() {}
    });
    sweep
}

/// Asks at a port beside the usual ones.
fn start_web(ip: Ipv4Addr, port: u16, pacer: &Arc<Pacer>, signs: &Signs, sweep: &mut JoinSet<()>) {
    let (pacer, signs) = (pacer.clone(), signs.clone());
    sweep.spawn(async move { probe::web(ip, port, &pacer, &signs).await });
}

/// Who has this address, in words; `None` when nobody answers there.
pub async fn who_has(ip: Ipv4Addr) -> Option<String> {
    let (signs, mut incoming) = mpsc::channel(64);
    let pacer = Pacer::new(PACKETS_PER_SECOND);
    let asking = async {
        let alive = probe::host(ip, &pacer, &signs).await;
        drop(signs);
        alive
    };
    let collecting = async {
        let mut table = Table::new(&[], &[]);
        while let Some(sign) = incoming.recv().await {
            if let Sign::Of(ip, evidence) = sign {
                table.add(ip, evidence);
            }
        }
        table
    };
    let (alive, table) = tokio::join!(asking, collecting);
    let mac = neighbours::known(ip);
    if let Some(found) = table.get(ip) {
        let name = [found.maker, found.model].into_iter().flatten().collect::<Vec<_>>().join(" ");
        return Some(if name.is_empty() { format!("a {} answers there", found.what) } else { format!("{name} answers there") });
    }
    // On loopback the system itself answers for everybody.
    match mac {
        Some(mac) => Some(format!("the device with the hardware address {mac} has it")),
        None if alive && !ip.is_loopback() => Some("something answers there".into()),
        None => None,
    }
}

/// IPv4 of an address.
pub(crate) fn v4(ip: IpAddr) -> Option<Ipv4Addr> {
    match ip {
        IpAddr::V4(ip) => Some(ip),
        IpAddr::V6(ip) => ip.to_ipv4_mapped(),
    }
}
