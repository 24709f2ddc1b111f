//! Keys: what their orders name must be there.

use super::Whole;
use crate::{model::Order, sheet::reader::Reader, spelling::did_you_mean};

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole) {
    let s = &whole.sheet;
    let lines: Vec<&str> = whole.line_names.iter().map(String::as_str).collect();
    let feeds: Vec<&str> = s.feeds.iter().map(|f| f.name.as_str()).collect();
    let rotas: Vec<&str> = s.rotas.iter().map(|r| r.name.as_str()).collect();
    let devices: Vec<&str> = s.devices.iter().map(|d| d.name.as_str()).collect();
    for key in &s.keys {
        let named: Vec<(&str, &str, &[&str])> = match &key.order {
            Order::Take { feed, line } => {
                let line = line.iter().map(|line| ("line", line.as_str(), &lines[..]));
                std::iter::once(("feed", feed.as_str(), &feeds[..])).chain(line).collect()
            }
            Order::Wall { wall, line } => {
                let line = line.iter().map(|line| ("line", line.as_str(), &lines[..]));
                std::iter::once(("line", wall.as_str(), &lines[..])).chain(line).collect()
            }
            Order::Next { feed, line } => vec![("feed", feed, &feeds), ("line", line, &lines)],
            Order::Rota { name, .. } => vec![("rota", name, &rotas)],
            Order::Preset { device, .. } => vec![("device", device, &devices)],
        };
        for (kind, name, all) in named.into_iter().filter(|(_, name, all)| !all.contains(name)) {
            let remedy = if all.is_empty() { format!("The sheet has no [[{kind}]] yet: add it.") } else { did_you_mean(name, all) };
            r.error(whole.keys_at, "keys", format!("{}: there is no {kind} \"{name}\".", key.key), remedy);
        }
    }
}
