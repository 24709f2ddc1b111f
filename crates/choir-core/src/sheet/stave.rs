//! `[stave]`, and a feed's name on the LAN.

use super::{places::start, reader::Reader};
use crate::{
    link::{Link, StaveLink, group_place, stave_name_problem},
    secret::Secret,
    stave::{StaveSettings, fingerprint},
};
use std::net::SocketAddr;
use toml_edit::{Item, TableLike};

const KEYS: &[&str] = &["machine", "group", "key", "address", "port", "discover", "nodes", "directory", "receivers", "sources"];
const FEED_KEYS: &[&str] = &["name", "multicast", "steer"];
const SUBJECT: &str = "stave";

impl Reader<'_> {
    pub(super) fn stave_settings(&mut self, root: &dyn TableLike) -> StaveSettings {
        let mut settings = StaveSettings::default();
        let Some(item) = root.get("stave") else { return settings };
        let Some(table) = item.as_table_like() else {
            self.error(start(item.span()), SUBJECT, "stave must be a table.", "Write [stave].");
            return settings;
        };
        self.known(table, SUBJECT, KEYS);
        settings.machine = self.stave_name(table, "machine");
        if let Some(group) = self.stave_name(table, "group") {
            settings.group = group;
        }
        settings.key = table.get("key").and_then(|item| self.stave_key(item));
        settings.address = self.string(table, SUBJECT, "address").and_then(|(text, at)| {
            let ip = text.parse().ok();
            if ip.is_none() {
                self.error(at, SUBJECT, format!("\"{text}\" is not an address."), "Write this machine's own address on the LAN.");
            }
            ip
        });
        settings.port = table.get("port").and_then(|item| {
            let port = item.as_integer().and_then(|n| u16::try_from(n).ok()).filter(|p| *p > 0);
            if port.is_none() {
                self.error(start(item.span()), SUBJECT, "port must be a number.", "Allowed: 1 to 65535.");
            }
            port
        });
        settings.discover = self.flag(table, SUBJECT, "discover").unwrap_or(true);
        settings.nodes = self.texts(table, SUBJECT, "nodes").into_iter().filter_map(|(t, at)| self.stave_place(&t, at)).collect();
        settings.directory = self.string(table, SUBJECT, "directory").and_then(|(t, at)| self.stave_place(&t, at));
        settings.receivers = self.fingerprints(table, "receivers");
        settings.sources = self.fingerprints(table, "sources");
        settings
    }

    fn stave_name(&mut self, table: &dyn TableLike, key: &str) -> Option<String> {
        let (name, at) = self.string(table, SUBJECT, key)?;
        if let Some(why) = stave_name_problem(&name) {
            self.error(at, SUBJECT, format!("not a valid {key}: {why}."), "Use a short name that can be read aloud.");
            return None;
        }
        Some(name)
    }

    fn stave_key(&mut self, item: &Item) -> Option<Secret> {
        match item.as_table_like() {
            Some(table) => self.secret(table, SUBJECT),
            None => {
                let what = "the group key must not stand in the sheet.";
                self.error(start(item.span()), SUBJECT, what, "Write key = { env = \"NAME\" } or { file = \"PATH\" }.");
                None
            }
        }
    }

    fn stave_place(&mut self, text: &str, at: usize) -> Option<SocketAddr> {
        let place = text.parse().ok();
        if place.is_none() {
            self.error(at, SUBJECT, format!("\"{text}\" is not an address and port."), "Write it like \"127.20.0.2:7340\".");
        }
        place
    }

    fn fingerprints(&mut self, table: &dyn TableLike, key: &str) -> Vec<String> {
        let mut found = Vec::new();
        for (text, at) in self.texts(table, SUBJECT, key) {
            match fingerprint(&text) {
                Some(f) => found.push(f),
                None => {
                    let what = format!("{key}: not the fingerprint of a certificate.");
                    self.error(at, SUBJECT, what, "Write the SHA-256 of the certificate: 64 hexadecimal digits.");
                }
            }
        }
        found
    }

    /// `stave = "Finish Tower"` of a feed.
    pub(super) fn feed_stave(&mut self, table: &dyn TableLike, subject: &str) -> Option<Link> {
        let item = table.get("stave")?;
        let at = start(item.span());
        let (name, inner) = match (item.as_str(), item.as_table_like()) {
            (Some(name), _) => (name.to_owned(), None),
            (None, Some(inner)) => {
                self.known(inner, subject, FEED_KEYS);
                (self.string(inner, subject, "name").map(|n| n.0).unwrap_or_default(), Some(inner))
            }
            (None, None) => {
                self.error(at, subject, "stave must be a name.", "Write stave = \"Finish Tower\" or stave = { name = \"...\" }.");
                return None;
            }
        };
        if let Some(why) = stave_name_problem(&name) {
            self.error(
                at,
                subject,
                format!("not a valid name for a source: {why}."),
                "Use one that can be read aloud, like \"Finish Tower\".",
            );
            return None;
        }
        let mut link = StaveLink::named(&name);
        link.steer = inner.and_then(|inner| self.flag(inner, subject, "steer")).unwrap_or(false);
        if let Some(inner) = inner
            && let Some((text, at)) = self.string(inner, subject, "multicast")
        {
            match group_place(&text) {
                Ok(to) => link.multicast = Some(to),
                Err((what, remedy)) => self.error(at, subject, what, remedy),
            }
        }
        Some(Link::Stave(link))
    }
}
