//! A source's way to its multicast group.

use bytes::Bytes;
use choir_host::udp::UdpPort;
use choir_proto::stave::{Ask, Carriage, GroupOffer, GroupWriter, Lane, Offered, Repair, StreamOffer, Verdict};
use std::{
    io,
    net::{IpAddr, SocketAddr},
    time::Instant,
};

/// A group to send to as well.
#[derive(Debug, Clone)]
pub struct GroupPlan {
    /// Where.
    pub to: SocketAddr,
    /// Own address by which it is sent.
    pub interface: Option<IpAddr>,
}

/// A source's way to its group.
pub(super) struct GroupOut {
    to: SocketAddr,
    socket: UdpPort,
    writer: GroupWriter,
    lane: Lane,
    turn: u32,
}

impl GroupOut {
    pub fn open(plan: &GroupPlan) -> io::Result<Self> {
        let socket = UdpPort::to_group(plan.to.ip(), plan.interface, 1)?;
        let codecs = ["h264", "h265", "jpeg"].map(str::to_owned).to_vec();
        let ask = Ask { source: String::new(), grade: None, patience_ms: 2000, codecs, carriage: Carriage::Multicast };
        Ok(Self { to: plan.to, socket, writer: GroupWriter::new(choir_host::secret_random()?), lane: Lane::new(ask, &[]), turn: 0 })
    }

    pub fn set_offered(&mut self, streams: &[StreamOffer]) {
        self.lane.set_offered(streams);
        while let Some(play) = self.lane.poll_play() {
            self.turn = play.turn;
        }
    }

    /// True when this stream is what the group carries.
    pub fn carries(&self, stream: Option<u8>) -> bool {
        stream.is_some() && self.lane.stream() == stream
    }

    pub fn offer(&self, stream: u8) -> Option<GroupOffer> {
        self.carries(Some(stream)).then(|| self.writer.offer(self.to, self.turn as u16))
    }

    pub fn again(&self, repair: &Repair) -> Vec<Bytes> {
        self.writer.again(repair)
    }

    pub fn deliver(&mut self, now: Instant, stream: u8, unit: &Offered, payload: &Bytes) {
        let Verdict::Send { key, head, .. } = self.lane.offer(now, stream, unit) else { return };
        self.lane.done(key);
        for packet in self.writer.write(&head.write(), payload, unit.pts as u32) {
            // What the system does not take now is repaired.
            let _ = self.socket.send(self.to, None, &packet);
        }
    }
}
