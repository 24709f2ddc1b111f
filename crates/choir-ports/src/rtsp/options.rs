//! How a server behaves.

use choir_host::udp::UdpPort;
use choir_proto::{
    rtp::PackedUnit,
    rtsp::{Request, Response, Scheme},
};
use std::borrow::Cow;

type TouchResponse = dyn Fn(&Request, &mut Response) + Send + Sync;
type TouchPacket = dyn Fn(&mut Vec<u8>) -> bool + Send + Sync;

/// What a server does about UDP.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum UdpManner {
    /// It sends.
    Sent,
    /// It refuses.
    Refused,
    /// It agrees, and sends nothing.
    Silent,
}

/// How a server behaves, apart from what it serves. Whoever tests receivers can have it change its
/// answers and packets.
pub struct ServerOptions {
    /// How credentials are to be proved.
    pub scheme: Scheme,
    /// SHA-256 is taken as well.
    pub better: bool,
    /// Has the last word on each answer.
    pub response: Option<Box<TouchResponse>>,
    /// Has the last word on each packet; false drops it.
    pub packet: Option<Box<TouchPacket>>,
    /// Sender reports are sent.
    pub reports: bool,
    /// Packets go by UDP.
    pub udp: UdpManner,
}

impl Default for ServerOptions {
    fn default() -> Self {
        Self { scheme: Scheme::Md5, better: true, response: None, packet: None, reports: true, udp: UdpManner::Sent }
    }
}

impl ServerOptions {
    pub(super) fn answer(&self, request: &Request, response: &mut Response) {
        if let Some(touch) = &self.response {
            touch(request, response);
        }
    }

    pub(super) fn touch<'a>(&self, unit: &'a PackedUnit) -> Cow<'a, PackedUnit> {
        let Some(touch) = &self.packet else { return Cow::Borrowed(unit) };
        let packets = unit.packets().filter_map(|p| {
            let mut p = p.to_vec();
            touch(&mut p).then_some(p)
        });
        let packets: Vec<Vec<u8>> = packets.collect();
        Cow::Owned(PackedUnit::of(packets.iter().map(Vec::as_slice), unit.keyframe))
    }
}

/// What the packets of all feeds of a server go by.
pub(super) struct Carrier {
    udp: (UdpPort, UdpPort),
    pub options: ServerOptions,
}

impl Carrier {
    pub const fn new(udp: (UdpPort, UdpPort), options: ServerOptions) -> Self {
        Self { udp, options }
    }

    /// Its sockets for media and reports.
    pub const fn sockets(&self) -> [&UdpPort; 2] {
        [&self.udp.0, &self.udp.1]
    }

    pub fn rtp(&self) -> Option<&UdpPort> {
        Some(&self.udp.0).filter(|_| self.options.udp == UdpManner::Sent)
    }

    pub fn rtcp(&self) -> Option<&UdpPort> {
        Some(&self.udp.1).filter(|_| self.options.udp == UdpManner::Sent)
    }
}
