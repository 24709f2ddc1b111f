//! What the engineer sets on one link. Units are in the types; defaults are the trade's.

use std::{fmt, time::Duration};
use zeroize::Zeroizing;

/// Largest payload of one packet: MTU 1500 less IP, UDP and SRT headers.
pub const PAYLOAD_MAX: usize = 1456;
/// Most packets that one direction of one connection may hold, whatever is configured: about 95 MB.
pub const MAX_WINDOW: u32 = 65_536;

/// Key length of the stream encryption, in the same three sizes for passphrase key and stream key.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum KeyLength {
    /// AES-128.
    #[default]
    Aes128,
    /// AES-192.
    Aes192,
    /// AES-256.
    Aes256,
}

impl KeyLength {
    /// 16, 24 or 32.
    #[must_use]
    pub const fn bytes(self) -> usize {
        match self {
            Self::Aes128 => 16,
            Self::Aes192 => 24,
            Self::Aes256 => 32,
        }
    }
    /// The value of the handshake's encryption field: 2, 3 or 4.
    #[must_use]
    pub const fn code(self) -> u16 {
        (self.bytes() / 8) as u16
    }
    /// From a length in bytes.
    #[must_use]
    pub const fn from_bytes(n: usize) -> Option<Self> {
        match n {
            16 => Some(Self::Aes128),
            24 => Some(Self::Aes192),
            32 => Some(Self::Aes256),
            _ => None,
        }
    }
}

impl fmt::Display for KeyLength {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "AES-{}", self.bytes() * 8)
    }
}

/// A passphrase of 10 to 79 bytes. Never printed; wiped when dropped.
#[derive(Clone, PartialEq, Eq)]
pub struct Passphrase(Zeroizing<String>);

/// A passphrase outside 10..=79 bytes (draft, section on key material).
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the passphrase has {length} characters; it needs 10 to 79")]
pub struct PassphraseError {
    /// Bytes it had.
    pub length: usize,
}

impl Passphrase {
    /// # Errors
    /// Outside 10 to 79 bytes.
    pub fn new(text: impl Into<String>) -> Result<Self, PassphraseError> {
        let text = text.into();
        if (10..=79).contains(&text.len()) { Ok(Self(Zeroizing::new(text))) } else { Err(PassphraseError { length: text.len() }) }
    }
    pub(crate) fn bytes(&self) -> &[u8] {
        self.0.as_bytes()
    }
}

impl fmt::Debug for Passphrase {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Passphrase(hidden)")
    }
}

/// How fast a sender may go, retransmissions included.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ceiling {
    /// No ceiling: for a LAN, and for benches.
    Unlimited,
    /// A fixed number of bits per second.
    Fixed(u64),
    /// The input's own peak rate over the last second, plus this many percent.
    Overhead(u16),
}

/// When the stream key is changed, in packets sent with it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Refresh {
    /// Packets under one key; the default 2^24 is five hours at 8 Mbit/s.
    pub after: u64,
    /// How many packets before the switch the new key is announced.
    pub announce: u64,
}

impl Default for Refresh {
    fn default() -> Self {
        Self { after: 1 << 24, announce: 1 << 12 }
    }
}

/// One link's settings.
#[derive(Debug, Clone)]
pub struct LinkConfig {
    /// How long this end wants to hold back what it receives. Default 120 ms; range 0 to 65 535 ms.
    pub receive_latency: Duration,
    /// How long the peer should hold back what we send. Default 120 ms; the greater wish of both
    /// ends wins.
    pub send_latency: Duration,
    /// With a passphrase the link is encrypted, and a clear peer is refused.
    pub passphrase: Option<Passphrase>,
    /// Key length that a caller asks for; the listener takes the caller's.
    pub key_length: KeyLength,
    /// Sent by a caller, at most 512 bytes.
    pub stream_id: Option<String>,
    /// Sender's ceiling. Default: measured input plus 25 %.
    pub ceiling: Ceiling,
    /// Most packets held per direction. Default 8192, up to [`MAX_WINDOW`].
    pub window: u32,
    /// Silence after which the connection is lost. Default 5 s.
    pub idle_timeout: Duration,
    /// How long a caller keeps asking, or an end waits for the one that it is to meet. Default 3 s;
    /// from the peer's first answer it has 1.5 s at least.
    pub connect_timeout: Duration,
    /// Most time that a gap is given to close by itself when the path reorders. Default 20 ms; 0
    /// reports at once.
    pub reorder_limit: Duration,
    /// Key refresh.
    pub refresh: Refresh,
    /// First sequence number to send; drawn by lot when absent. For tests of the wrap.
    pub initial_seq: Option<super::Seq>,
}

impl Default for LinkConfig {
    fn default() -> Self {
        Self {
            receive_latency: Duration::from_millis(120),
            send_latency: Duration::from_millis(120),
            passphrase: None,
            key_length: KeyLength::default(),
            stream_id: None,
            ceiling: Ceiling::Overhead(25),
            window: 8192,
            idle_timeout: Duration::from_secs(5),
            connect_timeout: Duration::from_secs(3),
            reorder_limit: Duration::from_millis(20),
            refresh: Refresh::default(),
            initial_seq: None,
        }
    }
}

impl LinkConfig {
    /// Both latencies at once, as most engineers set them.
    #[must_use]
    pub fn with_latency(mut self, latency: Duration) -> Self {
        self.receive_latency = latency;
        self.send_latency = latency;
        self
    }
    pub(crate) fn window(&self) -> u32 {
        self.window.clamp(32, MAX_WINDOW)
    }
}
