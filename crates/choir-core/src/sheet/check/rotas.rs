//! Rotas: one at a time for a feed, and only a clip is on once.

use super::Whole;
use crate::{link::Link, model::Lasts, sheet::reader::Reader, spelling::did_you_mean};

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole) {
    let lines: Vec<&str> = whole.line_names.iter().map(String::as_str).collect();
    let feeds: Vec<&str> = whole.feeds().map(|(f, _)| f.name.as_str()).collect();
    let rotas = &whole.sheet.rotas;
    for (n, (rota, spot)) in rotas.iter().zip(&whole.rota_spots).enumerate() {
        let subject = format!("rota \"{}\"", rota.name);
        if !feeds.contains(&rota.feed.as_str()) {
            r.error(spot.of_value("feed"), &subject, format!("there is no feed \"{}\".", rota.feed), did_you_mean(&rota.feed, &feeds));
        }
        let other = rotas[..n].iter().find(|other| rota.starts && other.starts && other.feed == rota.feed);
        if let Some(other) = other {
            let what = format!("{} starts on {} with the show as well.", other.name, rota.feed);
            r.error(spot.of_value("start"), &subject, what, "Let one of them start, and start the other by hand.");
        }
        for (n, step) in rota.steps.iter().enumerate() {
            let at = spot.of_value(&format!("steps.{n}"));
            if !lines.contains(&step.line.as_str()) {
                r.error(at, &subject, format!("there is no line \"{}\".", step.line), did_you_mean(&step.line, &lines));
            }
            let endless = |link: &Link| !matches!(link, Link::File(f) if !f.repeat);
            if step.lasts == Lasts::Once && whole.sheet.line(&step.line).is_some_and(|l| endless(&l.from)) {
                let what = format!("{} has no end, so it cannot be on once.", step.line);
                r.error(at, &subject, what, "Write for = \"20 s\", or name a clip that does not repeat.");
            }
        }
    }
}
