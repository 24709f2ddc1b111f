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
        let named = match &key.order {
            Order::Take { feed, line } => [Some(("feed", feed, &feeds)), line.as_ref().map(|line| ("line", line, &lines))],
            Order::Wall { wall, line } => [Some(("line", wall, &lines)), line.as_ref().map(|line| ("line", line, &lines))],
            Order::Next { feed, line } => [Some(("feed", feed, &feeds)), Some(("line", line, &lines))],
            Order::Rota { name, .. } => [Some(("rota", name, &rotas)), None],
            Order::Preset { device, .. } => [Some(("device", device, &devices)), None],
        };
        for (kind, name, all) in named.into_iter().flatten().filter(|(_, name, all)| !all.contains(&name.as_str())) {
            let remedy = if all.is_empty() { format!("The sheet has no [[{kind}]] yet: add it.") } else { did_you_mean(name, all) };
            r.error(whole.keys_at, "keys", format!("{}: there is no {kind} \"{name}\".", key.key), remedy);
        }
    }
}
