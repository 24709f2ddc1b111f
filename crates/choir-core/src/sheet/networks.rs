//! `[[network]]`: what the show's streams cross.

use super::{
    places::{start, texts},
    reader::Reader,
};
use crate::{
    advice::PathFacts,
    network::{Network, NetworkKind, Span},
    units::{Bitrate, parse_bitrate, parse_share},
};
use toml_edit::{Item, TableLike};

const KEYS: &[&str] =
    &["name", "title", "kind", "range", "capacity", "reserve", "path", "outside", "nat", "public-address", "dhcp", "factory"];
const PATH_KEYS: &[&str] = &["rtt", "jitter", "loss", "loss-back", "burst"];

impl Reader<'_> {
    pub(super) fn network(&mut self, table: &dyn TableLike, at: usize) -> Option<Network> {
        let (name, subject) = self.name(table, "network", at);
        let s = subject.as_str();
        self.known(table, s, KEYS);
        let title = self.string(table, s, "title").map(|t| t.0);
        let words: Vec<&str> = NetworkKind::WORDS.iter().map(|(w, _)| *w).collect();
        let kind = self.one_of(table, s, "kind", &words).and_then(|w| NetworkKind::from_word(&w)).unwrap_or(NetworkKind::Lan);
        let range = self.spans(table, s, "range");
        let (capacity_in, capacity_out) = self.capacity(table, s);
        let reserve = self.parsed(table, s, "reserve", parse_share).unwrap_or(Network::RESERVE);
        let path = table.get("path").and_then(|item| self.path(item, s));
        let outside = self.flag(table, s, "outside").unwrap_or(matches!(kind, NetworkKind::Uplink | NetworkKind::Relay));
        let nat = self.flag(table, s, "nat").unwrap_or(false);
        let public_address = self.string(table, s, "public-address").map(|a| a.0);
        let dhcp = self.spans(table, s, "dhcp").into_iter().next();
        let mut factory = Vec::new();
        for (text, at) in self.texts(table, s, "factory") {
            match text.parse() {
                Ok(ip) => factory.push(ip),
                Err(_) => self.error(at, s, format!("\"{text}\" is not an IPv4 address."), "Write factory = [\"127.20.0.9\"]."),
            }
        }
        let name = name?;
        Some(Network {
            title: title.unwrap_or_else(|| name.clone()),
            name,
            kind,
            range,
            capacity_in,
            capacity_out,
            reserve,
            path,
            outside,
            nat,
            public_address,
            dhcp,
            factory,
        })
    }

    pub(super) fn texts(&mut self, table: &dyn TableLike, subject: &str, key: &str) -> Vec<(String, usize)> {
        let Some(item) = table.get(key) else { return Vec::new() };
        texts(item).unwrap_or_else(|| {
            self.error(start(item.span()), subject, format!("{key} must be texts."), format!("Write {key} = [\"...\", \"...\"]."));
            Vec::new()
        })
    }

    pub(super) fn flag(&mut self, table: &dyn TableLike, subject: &str, key: &str) -> Option<bool> {
        let item = table.get(key)?;
        let flag = item.as_bool();
        if flag.is_none() {
            self.error(start(item.span()), subject, format!("{key} must be true or false."), "Without quotes.");
        }
        flag
    }

    fn spans(&mut self, table: &dyn TableLike, subject: &str, key: &str) -> Vec<Span> {
        let mut spans = Vec::new();
        for (text, at) in self.texts(table, subject, key) {
            match Span::parse(&text) {
                Some(span) => spans.push(span),
                None => self.error(
                    at,
                    subject,
                    format!("{key} \"{text}\" is not a range of addresses."),
                    "Write \"127.20.0.0/16\" or \"127.20.0.100-127.20.0.199\".",
                ),
            }
        }
        spans
    }

    /// One number for both directions, or one for each.
    fn capacity(&mut self, table: &dyn TableLike, subject: &str) -> (Option<Bitrate>, Option<Bitrate>) {
        match table.get("capacity").and_then(Item::as_table_like) {
            Some(each) => {
                self.known(each, subject, &["in", "out"]);
                (self.parsed(each, subject, "in", parse_bitrate), self.parsed(each, subject, "out", parse_bitrate))
            }
            None => {
                let both = self.parsed(table, subject, "capacity", parse_bitrate);
                (both, both)
            }
        }
    }

    /// `path = { rtt = "80 ms", loss = "2%", burst = 3 }`.
    pub(super) fn path(&mut self, item: &Item, subject: &str) -> Option<PathFacts> {
        let at = start(item.span());
        let Some(table) = item.as_table_like() else {
            self.error(at, subject, "path must be a table.", "Write path = { rtt = \"80 ms\", loss = \"2%\", burst = 3 }.");
            return None;
        };
        self.known(table, subject, PATH_KEYS);
        let Some(rtt) = self.duration(table, subject, "rtt") else {
            if table.get("rtt").is_none() {
                self.error(at, subject, "the path has no round-trip time.", "Add rtt = \"80 ms\"; \"choir path\" measures it.");
            }
            return None;
        };
        let jitter = self.duration(table, subject, "jitter").unwrap_or_default();
        let loss = self.parsed(table, subject, "loss", parse_share).unwrap_or(0.0);
        let loss_back = self.parsed(table, subject, "loss-back", parse_share);
        let burst = table.get("burst").map(|item| {
            let burst = item.as_float().or_else(|| item.as_integer().map(|n| n as f64)).filter(|b| (1.0..=1000.0).contains(b));
            if burst.is_none() {
                self.error(start(item.span()), subject, "burst is not a number of packets.", "Allowed: 1 to 1000.");
            }
            burst.unwrap_or(1.0)
        });
        Some(PathFacts { rtt, jitter, loss, loss_back, burst: burst.unwrap_or(1.0) })
    }
}
