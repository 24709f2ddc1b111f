//! An SRT caller made by hand: it says what no good peer would.

use choir_proto::srt::{
    AcceptRule, Endpoint, LinkConfig, RuleId, Seq, StreamMatch,
    wire::{Control, DataHeader, Extension, Handshake, HandshakeType, HsCaps, KeyFlag, Packet},
};
use std::{
    net::SocketAddr,
    time::{Duration, Instant},
};

/// A caller.
#[derive(Debug)]
pub struct Hand {
    /// Where it calls from.
    pub from: SocketAddr,
    /// Its socket ID.
    pub id: u32,
}

impl Hand {
    /// One at this port.
    #[must_use]
    pub fn new(port: u16, id: u32) -> Self {
        Self { from: ([127, 20, 0, 9], port).into(), id }
    }

    /// Says something, to a connection or to the listener (0).
    pub fn send(&self, end: &mut Endpoint, now: Instant, to: u32, control: Control) {
        let mut data = Vec::new();
        control.encode(0, to, &mut data);
        end.handle_datagram(now, self.from, &data);
    }

    /// Everything for this caller that the endpoint wants out.
    pub fn take(&self, end: &mut Endpoint, now: Instant) -> Vec<Vec<u8>> {
        end.handle_timeout(now);
        let (mut out, mut buf) = (Vec::new(), Vec::new());
        while let Some(t) = end.poll_transmit(now, 1, &mut buf) {
            if t.to == self.from {
                out.push(buf.clone());
            }
            buf.clear();
        }
        out
    }

    /// The control packets of that.
    pub fn controls(&self, end: &mut Endpoint, now: Instant) -> Vec<Control> {
        let parse = |d: &Vec<u8>| match Packet::parse(d) {
            Ok(Packet::Control { control, .. }) => Some(control),
            _ => None,
        };
        self.take(end, now).iter().filter_map(parse).collect()
    }

    /// The handshakes of that.
    pub fn handshakes(&self, end: &mut Endpoint, now: Instant) -> Vec<Handshake> {
        let only = |c| if let Control::Handshake(h) = c { Some(*h) } else { None };
        self.controls(end, now).into_iter().filter_map(only).collect()
    }

    /// Its handshake of this kind, without extensions.
    #[must_use]
    pub fn handshake(&self, kind: HandshakeType) -> Handshake {
        Handshake {
            version: 5,
            encryption: 0,
            extension_field: 0,
            initial_seq: Seq::new(7),
            mtu: 1500,
            window: 8192,
            kind,
            socket_id: self.id,
            cookie: 0,
            peer_ip: Handshake::ip_field(self.from.ip()),
            extensions: Vec::new(),
        }
    }

    /// Gives the cookie that the listener returned, with a conclusion changed by `change`. What is
    /// answered.
    pub fn conclude(&self, end: &mut Endpoint, now: Instant, change: impl Fn(&mut Handshake)) -> Option<Handshake> {
        let induction = Handshake { version: 4, extension_field: 2, ..self.handshake(HandshakeType::Induction) };
        self.send(end, now, 0, Control::Handshake(Box::new(induction)));
        let cookie = self.handshakes(end, now).first()?.cookie;
        let mut h = Handshake { cookie, extension_field: 1, ..self.handshake(HandshakeType::Conclusion) };
        h.extensions = vec![Extension::HsReq(HsCaps { version: 0x01_03_00, flags: 0x3F, receiver_delay: 120, sender_delay: 120 })];
        change(&mut h);
        self.send(end, now, 0, Control::Handshake(Box::new(h)));
        while let Some(check) = end.poll_key_check(now) {
            end.handle_key_check(now, check.run());
        }
        self.handshakes(end, now).pop()
    }

    /// Sends a packet of media in the clear; `at` is its number and timestamp (µs).
    pub fn data(&self, end: &mut Endpoint, now: Instant, to: u32, at: (u32, u32), payload: &[u8]) {
        let header = DataHeader {
            seq: Seq::new(at.0),
            in_order: false,
            position: 3,
            key: KeyFlag::Clear,
            resent: false,
            message: at.0 & 0x03FF_FFFF,
            timestamp: at.1,
            destination: to,
        };
        let mut packet = Vec::new();
        header.encode(&mut packet);
        packet.extend_from_slice(payload);
        end.handle_datagram(now, self.from, &packet);
    }

    /// What the endpoint delivers until then, looking each ten milliseconds: first bytes of the
    /// payloads, and when.
    pub fn delivered(end: &mut Endpoint, from: Instant, to: Instant) -> Vec<(u8, Duration)> {
        let (mut out, mut at) = (Vec::new(), from);
        while at <= to {
            end.handle_timeout(at);
            while let Some(d) = end.poll_delivery() {
                out.push((d.payload[0], at - from));
            }
            at += Duration::from_millis(10);
        }
        out
    }
}

/// A listener for one caller, in the clear, and its time.
#[must_use]
#[allow(clippy::disallowed_methods, reason = "a test starts its clock somewhere")]
pub fn listener(callers_send: bool) -> (Endpoint, Instant) {
    let now = Instant::now();
    (listener_of(callers_send, LinkConfig::default(), now), now)
}

/// The same, with settings.
#[must_use]
pub fn listener_of(callers_send: bool, config: LinkConfig, now: Instant) -> Endpoint {
    let mut end = Endpoint::new([127, 20, 0, 2].into(), now, [3; 32]);
    end.listen(AcceptRule { id: RuleId(1), stream: StreamMatch::Any, config, max_callers: 1, held: false, callers_send });
    end
}
