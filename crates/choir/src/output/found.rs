//! The table of found devices.

use super::tables::fit;
use choir_core::find::Found;
use std::fmt::Write;

/// Devices with a number each, and below what is odd about them.
pub fn table(devices: &[Found], width: usize) -> String {
    if devices.is_empty() {
        return String::new();
    }
    let mut heads = vec![">#", "address", "what", "services", "login", "maker and model", "name", "hardware"];
    let mut rows: Vec<Vec<String>> = devices.iter().enumerate().map(|(n, d)| row(n + 1, d)).collect();
    // A column that nobody fills only takes room.
    for column in (0..heads.len()).rev() {
        if rows.iter().all(|r| r[column].is_empty()) {
            heads.remove(column);
            rows.iter_mut().for_each(|r| drop(r.remove(column)));
        }
    }
    let mut out = fit(&heads, &rows, width);
    for d in devices.iter().filter(|d| !d.flags.is_empty()) {
        let address = d.address.map_or_else(String::new, |a| a.to_string());
        for f in &d.flags {
            let _ = writeln!(out, "\n{address}: {}", f.word.replace('-', " ").to_uppercase());
            super::devices::wrapped(&mut out, &f.text, "    ", width);
        }
    }
    out
}

fn row(number: usize, d: &Found) -> Vec<String> {
    let services: Vec<String> = d.services.iter().map(|s| format!("{} {}", s.kind, s.port)).collect();
    let maker: Vec<String> = [d.maker.clone(), d.model.clone()].into_iter().flatten().collect();
    vec![
        number.to_string(),
        d.address.map_or_else(String::new, |a| a.to_string()),
        d.what.clone(),
        services.join(", "),
        d.login.map_or("", |l| if l { "wanted" } else { "none" }).to_owned(),
        maker.join(" "),
        d.name.clone().unwrap_or_default(),
        d.macs.iter().cloned().collect::<Vec<_>>().join(" "),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use choir_core::find::{Flag, Service, ServiceKind};

    #[test]
    fn every_column_that_has_something_is_shown() {
        let found = Found {
            address: Some([127, 20, 0, 9].into()),
            what: "encoder".into(),
            maker: Some("Quayside".into()),
            model: Some("Coracle Four".into()),
            services: [Service { kind: ServiceKind::Onvif, port: 8000, says: None }].into(),
            login: Some(true),
            flags: vec![Flag { word: "factory-address".into(), text: "give it its own".into() }],
            ..Found::default()
        };
        let text = table(&[found], 120);
        for wanted in ["127.20.0.9", "Quayside Coracle Four", "ONVIF 8000", "wanted", "FACTORY ADDRESS\n    give it its own"] {
            assert!(text.contains(wanted), "{wanted} in\n{text}");
        }
        assert!(!text.contains("hardware"), "{text}");
        assert_eq!(table(&[], 80), "");
    }
}
