//! Changes that commands make to a sheet. Everything else in it, comments too, stays as it was
//! written.

mod entries;

pub use entries::{NewFeed, NewLine, add_feed, add_line, add_take, remove_entry, rename_entry, write_advice};

use super::read_sheet;
use crate::{Grade, device::NewDevice};
use std::net::IpAddr;
use toml_edit::{ArrayOfTables, DocumentMut, InlineTable, Item, Table, TableLike, Value, value};

/// Why a sheet was not changed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// Not TOML, or not one of ours.
    #[error("the sheet cannot be changed: {0}")]
    Unreadable(String),
    /// No such entry.
    #[error("the sheet has no device \"{0}\" of its own entry: change it there by hand")]
    NoEntry(String),
    /// No such line or feed.
    #[error("the sheet has no {0} \"{1}\"")]
    NoSuch(&'static str, String),
    /// It cannot go.
    #[error("line \"{0}\" is used by {1}: change that first")]
    InUse(String, String),
    /// Latency and overhead are for SRT.
    #[error("line \"{0}\" does not come by SRT: there is no latency to set")]
    NotSrt(String),
}

fn parse(text: &str) -> Result<DocumentMut, EditError> {
    text.parse().map_err(|e: toml_edit::TomlError| EditError::Unreadable(e.message().to_owned()))
}

/// The changed text, unless the change has made a good sheet bad.
fn checked(before: &str, document: &DocumentMut) -> Result<String, EditError> {
    let after = document.to_string();
    let errors = |text: &str| read_sheet(text).1.into_iter().filter(|f| f.grade == Grade::Error).collect::<Vec<_>>();
    let found = errors(&after);
    match found.first() {
        Some(f) if found.len() > errors(before).len() => Err(EditError::Unreadable(format!("{}: {}", f.subject, f.what))),
        _ => Ok(after),
    }
}

/// Adds devices at the end of a sheet; an empty text becomes a new sheet.
///
/// # Errors
/// The sheet is not one.
pub fn add_devices(text: &str, devices: &[NewDevice]) -> Result<String, EditError> {
    let new = text.trim().is_empty();
    let mut document = parse(if new { "[show]\nname = \"New show\"\n" } else { text })?;
    let item = document.entry("device").or_insert_with(|| Item::ArrayOfTables(ArrayOfTables::new()));
    let Some(array) = item.as_array_of_tables_mut() else {
        return Err(EditError::Unreadable("device must be written as [[device]]".into()));
    };
    for d in devices {
        let mut table = Table::new();
        for (key, text) in [("name", &d.name), ("title", &d.title), ("kind", &d.kind), ("address", &d.address), ("control", &d.control)] {
            table.insert(key, value(text.as_str()));
        }
        array.push(table);
    }
    checked(if new { "" } else { text }, &document)
}

fn entry<'a>(document: &'a mut DocumentMut, name: &str) -> Result<&'a mut Table, EditError> {
    let tables = document.get_mut("device").and_then(Item::as_array_of_tables_mut);
    let found = tables.into_iter().flat_map(ArrayOfTables::iter_mut).find(|t| t.get("name").and_then(Item::as_str) == Some(name));
    // One of a row has no entry of its own.
    found.filter(|t| t.get("count").is_none()).ok_or_else(|| EditError::NoEntry(name.to_owned()))
}

/// Writes a device's new address, and its wanted network settings when `network` gives them: `None`
/// leaves them, an empty text is DHCP.
///
/// # Errors
/// The sheet is not one, or has no such entry.
pub fn set_address(text: &str, name: &str, ip: IpAddr, network: Option<(&str, Option<&str>)>) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let table = entry(&mut document, name)?;
    let port = table.get("address").and_then(Item::as_str).and_then(|a| a.parse::<std::net::SocketAddr>().ok()).map(|a| a.port());
    let address = port.map_or_else(|| ip.to_string(), |p| std::net::SocketAddr::new(ip, p).to_string());
    put(table, "address", address);
    match network {
        Some(("", _)) => put(table, "network", "dhcp"),
        Some((fixed, gateway)) => {
            let mut inline = InlineTable::new();
            inline.insert("address", fixed.into());
            let _ = gateway.map(|g| inline.insert("gateway", g.into()));
            put(table, "network", inline);
        }
        None => {}
    }
    checked(text, &document)
}

/// Replaces a value, of a table of either form, and keeps what stands behind it on its line.
fn put(table: &mut dyn TableLike, key: &str, new: impl Into<Value>) {
    let mut new = new.into();
    if let Some(old) = table.get(key).and_then(Item::as_value) {
        *new.decor_mut() = old.decor().clone();
    }
    table.insert(key, Item::Value(new));
}

/// Writes a preset's name for a device whose protocol has none.
///
/// # Errors
/// The sheet is not one, or has no such entry.
pub fn set_preset_name(text: &str, name: &str, number: u8, preset: &str) -> Result<String, EditError> {
    let mut document = parse(text)?;
    let table = entry(&mut document, name)?;
    let presets = table.entry("presets").or_insert_with(|| value(InlineTable::new()));
    let Some(presets) = presets.as_table_like_mut() else { return Err(EditError::Unreadable("presets must be a table".into())) };
    presets.insert(&number.to_string(), value(preset));
    checked(text, &document)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::device::device_name;
    use std::collections::HashSet;

    const SHEET: &str = "# ours\n[show]\nname = \"Tarn Hollow Regatta\"\n\n[[device]] # the tower\nname = \"finish-tower\"\n\
        address = \"127.20.0.11:8000\" # from DHCP\ncontrol = \"onvif\"\n\n[[device]]\nname = \"lane\"\naddress = \"127.20.0.21\"\n\
        control = \"visca\"\ncount = 2\n";

    #[test]
    fn a_change_leaves_the_rest_as_it_was() {
        let moved =
            set_address(SHEET, "finish-tower", [127, 20, 0, 12].into(), Some(("127.20.0.12/24", Some("127.20.0.1")))).expect("changed");
        let wanted = "address = \"127.20.0.12:8000\" # from DHCP\ncontrol = \"onvif\"\nnetwork = { address = \"127.20.0.12/24\", gateway = \"127.20.0.1\" }\n";
        assert!(moved.contains(wanted) && moved.contains("# ours") && moved.contains("# the tower"), "{moved}");
        let back = set_address(&moved, "finish-tower", [127, 20, 0, 9].into(), Some(("", None))).expect("changed");
        assert!(back.contains("network = \"dhcp\"") && read_sheet(&back).0.is_some(), "{back}");
        let named = set_preset_name(SHEET, "finish-tower", 3, "Finish line").expect("changed");
        let named = set_preset_name(&named, "finish-tower", 3, "Finish \"line\"").expect("changed");
        let sheet = read_sheet(&named).0.expect("a sheet");
        assert_eq!(sheet.devices[0].presets.get(&3).map(String::as_str), Some("Finish \"line\""));
        assert_eq!(set_preset_name(SHEET, "lane-2", 1, "x"), Err(EditError::NoEntry("lane-2".into())));
        assert!(set_address("nonsense", "a", [127, 0, 0, 1].into(), None).is_err());
    }

    #[test]
    fn devices_are_added_under_names_of_their_own() {
        let mut taken: HashSet<String> = HashSet::from(["finish-tower".into()]);
        let mut names = Vec::new();
        for description in ["Finish Tower!", "finish tower", "  ", "Ölpegel 3000 with a name that is much too long"] {
            let name = device_name(description, &taken);
            taken.insert(name.clone());
            names.push(name);
        }
        assert_eq!(names, ["finish-tower-2", "finish-tower-3", "device", "lpegel-3000-with-a-name-that"]);
        let device = |name: &str| NewDevice {
            name: name.into(),
            title: "Encoder".into(),
            kind: "encoder".into(),
            address: "127.20.0.9:8000".into(),
            control: "onvif".into(),
        };
        let new = add_devices("", &[device("launch")]).expect("a new sheet");
        assert_eq!(read_sheet(&new).0.expect("a sheet").devices[0].name, "launch");
        let more = add_devices(SHEET, &[device("launch")]).expect("added");
        assert!(more.starts_with(SHEET), "{more}");
        assert!(add_devices(SHEET, &[device("finish-tower")]).is_err(), "a name twice");
        assert!(add_devices("device = 1", &[device("launch")]).is_err());
    }
}
