//! `[stave]`: this machine on the LAN of named sources.

use crate::secret::Secret;
use std::net::{IpAddr, SocketAddr};

/// Group of those who name none.
pub const OPEN_GROUP: &str = "open";

/// Port that is tried first.
pub const PORT: u16 = 7340;

/// How this machine offers and finds names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StaveSettings {
    /// Its name; the system's where none is given.
    pub machine: Option<String>,
    /// Shows on one network are kept apart by it.
    pub group: String,
    /// Shared by all of the group.
    pub key: Option<Secret>,
    /// Own address at which it is served, and by whose network names are sought.
    pub address: Option<IpAddr>,
    /// Port; without one the usual, or any that is free.
    pub port: Option<u16>,
    /// Announce and seek by multicast.
    pub discover: bool,
    /// Nodes known by address.
    pub nodes: Vec<SocketAddr>,
    /// Directory node.
    pub directory: Option<SocketAddr>,
    /// Certificates of the only receivers that are let in, as 64 hexadecimal digits each; empty
    /// lets in all.
    pub receivers: Vec<String>,
    /// Certificates of the only sources that are taken.
    pub sources: Vec<String>,
}

impl Default for StaveSettings {
    fn default() -> Self {
        Self {
            machine: None,
            group: OPEN_GROUP.into(),
            key: None,
            address: None,
            port: None,
            discover: true,
            nodes: Vec::new(),
            directory: None,
            receivers: Vec::new(),
            sources: Vec::new(),
        }
    }
}

impl StaveSettings {
    /// How it is secured, in a word or two.
    #[must_use]
    pub fn secured(&self) -> &'static str {
        secured(self.key.is_some(), !self.receivers.is_empty())
    }
}

/// How a node is secured, in a word or two: by a group key, by the certificates that it lets in.
#[must_use]
pub const fn secured(key: bool, pinned: bool) -> &'static str {
    match (key, pinned) {
        (true, false) => "key",
        (true, true) => "key and pinned",
        (false, true) => "pinned",
        (false, false) => "open",
    }
}

/// Reads a certificate's fingerprint (SHA-256): 64 hexadecimal digits, with or without `sha256:`
/// and colons.
#[must_use]
pub fn fingerprint(text: &str) -> Option<String> {
    let digits = text.trim();
    let digits: String = digits.strip_prefix("sha256:").unwrap_or(digits).chars().filter(|c| *c != ':').collect();
    (digits.len() == 64 && digits.bytes().all(|b| b.is_ascii_hexdigit())).then(|| digits.to_ascii_lowercase())
}
