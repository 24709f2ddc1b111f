//! The header over IP: kind, length and sequence number before each message, one message a
//! datagram.

/// Port of VISCA over IP.
pub const PORT: u16 = 52_381;
/// Bytes of a header.
pub const LENGTH: usize = 8;

/// What follows the header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Payload {
    /// A command.
    Command,
    /// An inquiry.
    Inquiry,
    /// An answer to either.
    Reply,
    /// About the connection itself: `01` starts the numbers anew.
    Control,
    /// An answer to that; `0F 01` wrong number, `0F 02` wrong message.
    ControlReply,
}

const KINDS: [(Payload, [u8; 2]); 5] = [
    (Payload::Command, [0x01, 0x00]),
    (Payload::Inquiry, [0x01, 0x10]),
    (Payload::Reply, [0x01, 0x11]),
    (Payload::Control, [0x02, 0x00]),
    (Payload::ControlReply, [0x02, 0x01]),
];

/// A header.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Header {
    /// What follows.
    pub kind: Payload,
    /// Counts messages; an answer has its question's.
    pub sequence: u32,
}

impl Header {
    /// The datagram.
    #[must_use]
    pub fn datagram(&self, message: &[u8]) -> Vec<u8> {
        let kind = KINDS.iter().find(|(k, _)| *k == self.kind).map_or([0; 2], |(_, b)| *b);
        let mut out = Vec::with_capacity(LENGTH + message.len());
        out.extend(kind);
        out.extend((message.len() as u16).to_be_bytes());
        out.extend(self.sequence.to_be_bytes());
        out.extend_from_slice(message);
        out
    }

    /// Reads a datagram. `None` for what is none: the length must be that of the rest.
    #[must_use]
    pub fn read(datagram: &[u8]) -> Option<(Self, &[u8])> {
        let (head, message) = datagram.split_at_checked(LENGTH)?;
        let kind = KINDS.iter().find(|(_, b)| head.starts_with(b))?.0;
        let length = usize::from(u16::from_be_bytes([head[2], head[3]]));
        let sequence = u32::from_be_bytes([head[4], head[5], head[6], head[7]]);
        (length == message.len() && (1..=16).contains(&length)).then_some((Self { kind, sequence }, message))
    }
}
