//! `[keys]`: what keys do in this show.

use super::{places::start, reader::Reader};
use crate::model::{KeyOrder, ORDERS, Order};
use toml_edit::TableLike;

/// Keys that no view uses itself.
const KEYS: [&str; 12] = ["F1", "F2", "F3", "F4", "F5", "F6", "F7", "F8", "F9", "F10", "F11", "F12"];

impl Reader<'_> {
    pub(super) fn key_orders(&mut self, root: &dyn TableLike) -> Vec<KeyOrder> {
        let Some(item) = root.get("keys") else { return Vec::new() };
        let Some(table) = item.as_table_like() else {
            self.error(start(item.span()), "keys", "keys must be a table.", "Write [keys], with lines like F1 = \"take FEED LINE\".");
            return Vec::new();
        };
        self.known(table, "keys", &KEYS);
        let mut all = Vec::new();
        for key in KEYS {
            let Some((text, at)) = self.string(table, "keys", key) else { continue };
            match Order::parse(&text) {
                Some(order) => all.push(KeyOrder { key: key.into(), order }),
                None => self.error(at, "keys", format!("{key}: \"{text}\" is no order."), ORDERS),
            }
        }
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sheet::read_sheet;

    fn read(keys: &str) -> Result<Vec<String>, Vec<String>> {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[keys]\n{keys}\n\
             [[line]]\nname = \"dock\"\nfrom = \"srt://127.0.0.1:7101?mode=listener\"\n\
             [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = \"srt://127.0.0.1:7201\"\n"
        );
        let (sheet, findings) = read_sheet(&text);
        let says = |k: &KeyOrder| format!("{} {}", k.key, k.order);
        sheet
            .map(|s| s.keys.iter().map(says).collect())
            .ok_or_else(|| findings.iter().map(|f| format!("{} {}", f.what, f.remedy)).collect())
    }

    #[test]
    fn keys_are_read_in_their_order_and_what_they_name_must_be_there() {
        let wanted = ["F2 take desk dock", "F10 take desk"].map(str::to_owned).to_vec();
        assert_eq!(read("F10 = \"take desk\"\nF2 = \"take desk dock\""), Ok(wanted));
        for (keys, says) in [
            ("F1 = \"cut desk\"", "is no order. Allowed: take FEED"),
            ("x = \"take desk\"", "unknown here"),
            ("F1 = \"take dsk\"", "there is no feed \"dsk\". Did you mean \"desk\"?"),
            ("F1 = \"take desk dok\"", "there is no line \"dok\""),
            ("F1 = \"rota start intervals\"", "there is no rota \"intervals\""),
            ("F1 = \"ptz crane goto 1\"", "there is no device \"crane\""),
        ] {
            let found = read(keys).expect_err(keys);
            assert!(found.iter().any(|f| f.contains(says)), "{keys}: {found:?}");
        }
    }
}
