//! `choir find`: devices on the network, and into the sheet with them.

use super::{answer_to, confirm, interrupted, replace_text};
use crate::{
    args::FindArgs,
    exit::{FAILED, Failure, SYSTEM, USAGE},
    output::{found, plural, redraw::Redraw, tables},
};
use choir_core::{
    find::{Found, RANGE_MAX, plan},
    sheet::{add_devices, read_sheet},
};
use choir_devices::discover::{FindEvent, FindOptions, FindResult, find};
use choir_host::interfaces::own_interfaces;
use std::{
    collections::{BTreeMap, HashSet},
    fs,
    io::{self, IsTerminal, stdin},
    net::Ipv4Addr,
    path::Path,
};
use tokio::sync::mpsc;

pub async fn run(args: FindArgs) -> Result<(), Failure> {
    if args.add.is_some() && args.choose.is_none() && !stdin().is_terminal() {
        return Err(Failure::new(USAGE, "no terminal to choose on: add --choose all, or --choose with numbers or addresses"));
    }
    let own = own_interfaces().map_err(|e| Failure::new(SYSTEM, format!("this machine's interfaces cannot be read: {e}")))?;
    let scan = plan(args.what.as_deref(), &own).map_err(|e| Failure::new(USAGE, e.to_string()))?;
    let count = scan.addresses.len();
    if count > RANGE_MAX {
        confirm(&format!("scanning {count} addresses takes about {} s.", count / 60), args.yes).await?;
    }
    let defaults = FindOptions::default();
    let options = FindOptions {
        packets_per_second: args.pace.unwrap_or(defaults.packets_per_second),
        factory: args.factory.clone(),
        listen: args.listen,
    };
    let ways: Vec<&str> = scan.interfaces.iter().map(|i| i.name.as_str()).collect();
    let by = if ways.is_empty() { "multicast is off".to_owned() } else { format!("by multicast on {}", ways.join(", ")) };
    let of = if count == 1 { "1 address".to_owned() } else { format!("{count} addresses") };
    let begun = format!("asking {of}, {by}");
    let (tx, rx) = mpsc::channel(256);
    let drawing = tokio::spawn(draw(rx, begun, !args.json));
    let result = find(scan, &options, tx, interrupted()).await;
    let _ = drawing.await;
    let result = result.map_err(|e| Failure::new(SYSTEM, e.to_string()))?;
    if args.json {
        println!("{}", serde_json::to_string_pretty(&result.devices).unwrap_or_default());
    } else {
        println!("{}", found::table(&result.devices, tables::width()));
    }
    eprintln!("{}", summary(&result, count));
    if let Some(sheet) = &args.add {
        add(sheet, &result.devices, args.choose.as_deref()).await?;
    }
    if result.devices.is_empty() { Err(Failure::told(FAILED)) } else { Ok(()) }
}

fn summary(r: &FindResult, count: usize) -> String {
    let found = plural(r.devices.len(), "device");
    let end = if r.asked < count { format!("; ended early, {} of {count} addresses asked", r.asked) } else { String::new() };
    format!("{found} found; {} of {} addresses answered{end}", r.answering, r.asked)
}

/// Draws the table as it grows, where somebody can see it.
async fn draw(mut events: mpsc::Receiver<FindEvent>, begun: String, table: bool) {
    let mut block = Redraw::new();
    let (mut devices, mut progress): (BTreeMap<Ipv4Addr, Found>, _) = (BTreeMap::new(), (0, 0));
    while let Some(event) = events.recv().await {
        match event {
            FindEvent::Begun => eprintln!("{begun}"),
            FindEvent::Device(f) => {
                devices.extend(f.address.map(|a| (a, *f)));
            }
            FindEvent::Progress(n, of) => progress = (n, of),
            FindEvent::Note(text) => {
                block.clear();
                eprintln!("note: {text}");
            }
        }
        // What has come in the meantime is drawn with it.
        if !block.is_live() || !events.is_empty() {
            continue;
        }
        let all: Vec<Found> = devices.values().cloned().collect();
        let asked = format!("{} of {} addresses asked, {}", progress.0, progress.1, plural(all.len(), "device"));
        block.draw(|width| if table { found::table(&all, width) } else { String::new() }, &asked);
    }
}

/// Writes the chosen ones into the sheet.
async fn add(sheet: &Path, devices: &[Found], choose: Option<&str>) -> Result<(), Failure> {
    if devices.is_empty() {
        return Ok(());
    }
    let before = match fs::read_to_string(sheet) {
        Ok(text) => text,
        Err(e) if e.kind() == io::ErrorKind::NotFound => String::new(),
        Err(e) => return Err(Failure::new(USAGE, format!("{}: cannot be read: {e}", sheet.display()))),
    };
    let list = match choose {
        Some(list) => list.to_owned(),
        None => {
            answer_to(&format!("Which devices to write into {}? (numbers separated by commas, all, or nothing) ", sheet.display())).await?
        }
    };
    let chosen = chosen(&list, devices).map_err(|e| Failure::new(USAGE, e))?;
    let old = read_sheet(&before).0;
    let known: HashSet<std::net::IpAddr> = old.iter().flat_map(|s| s.devices.iter().map(|d| d.address)).collect();
    let mut names: HashSet<String> = old.iter().flat_map(|s| s.devices.iter().map(|d| d.name.clone())).collect();
    let mut new = Vec::new();
    for d in chosen {
        let Some(address) = d.address else { continue };
        if known.contains(&address.into()) {
            eprintln!("{address} is in the sheet already");
            continue;
        }
        if let Some(device) = d.as_device(&names) {
            names.insert(device.name.clone());
            new.push(device);
        }
    }
    if new.is_empty() {
        eprintln!("nothing was written");
        return Ok(());
    }
    let after = add_devices(&before, &new).map_err(|e| Failure::new(FAILED, format!("{}: {e}", sheet.display())))?;
    replace_text(sheet, &after)?;
    for d in &new {
        eprintln!("{}: {} is device \"{}\", control {}", sheet.display(), d.address, d.name, d.control);
    }
    eprintln!("If a login is required, add user and password = {{ file = \"PATH\" }} to the entry.");
    Ok(())
}

/// Numbers of the table, addresses, or all.
fn chosen<'a>(list: &str, devices: &'a [Found]) -> Result<Vec<&'a Found>, String> {
    if list.eq_ignore_ascii_case("all") {
        return Ok(devices.iter().collect());
    }
    let one = |word: &str| {
        let by_number = word.parse::<usize>().ok().and_then(|n| devices.get(n.checked_sub(1)?));
        let by_address = || devices.iter().find(|d| d.address.is_some_and(|a| a.to_string() == word));
        by_number
            .or_else(by_address)
            .ok_or_else(|| format!("\"{word}\" is neither a number of the table (1 to {}) nor an address in it", devices.len()))
    };
    list.split(',').map(str::trim).filter(|w| !w.is_empty()).map(one).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn devices_are_chosen_by_number_address_or_all() {
        let one = |n: u8| Found { address: Some([127, 20, 0, n].into()), ..Found::default() };
        let devices = [one(9), one(11), one(12)];
        let last = |list: &str| chosen(list, &devices).map(|c| c.iter().filter_map(|d| Some(d.address?.octets()[3])).collect::<Vec<_>>());
        assert_eq!(last("all"), Ok(vec![9, 11, 12]));
        assert_eq!(last("1, 127.20.0.12"), Ok(vec![9, 12]));
        assert_eq!(last(""), Ok(vec![]));
        for bad in ["0", "4", "127.20.0.10", "x"] {
            assert!(last(bad).is_err(), "{bad}");
        }
    }
}
