//! Rotas, and what is left of them.

use super::tables::table;
use choir_core::{
    units::say_duration,
    view::{RotaStepView, RotaView},
};
use std::time::Duration;

fn time(ms: u64) -> String {
    say_duration(Duration::from_millis(ms.div_ceil(1000) * 1000))
}

/// A table.
pub fn list(all: &[RotaView]) -> String {
    let row = |r: &RotaView| {
        let now = r.steps.get(r.step - 1).map(|s| s.line.clone()).unwrap_or_default();
        vec![r.name.clone(), r.feed.clone(), r.state.clone(), format!("{} of {}", r.step, r.steps.len()), now, left(r), next(r)]
    };
    let rows: Vec<Vec<String>> = all.iter().map(row).collect();
    table(&["rota", "feed", "state", "step", "line", "left", "then"], &rows)
}

/// What is left of the present step.
fn left(r: &RotaView) -> String {
    match r.left_ms {
        Some(ms) => time(ms),
        None if r.state == "stopped" => "-".into(),
        None => "to its end".into(),
    }
}

fn next(r: &RotaView) -> String {
    let step = |s: &RotaStepView| s.lasts_ms.map_or_else(|| format!("{} once", s.line), |ms| format!("{} {}", s.line, time(ms)));
    let then = r.steps.get(r.step).or_else(|| r.steps.first().filter(|_| r.repeat));
    then.map_or_else(|| "end".into(), step)
}

/// Those that run, in a few words: `intervals 2/3 12 s`.
pub fn short(all: &[RotaView]) -> Option<String> {
    let one =
        |r: &RotaView| format!("{} {}/{} {}", r.name, r.step, r.steps.len(), if r.state == "paused" { "paused".into() } else { left(r) });
    let said: Vec<String> = all.iter().filter(|r| r.state != "stopped").map(one).collect();
    (!said.is_empty()).then(|| said.join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_on_what_is_left_and_what_comes_are_said() {
        let step = |line: &str, lasts_ms| RotaStepView { line: line.into(), lasts_ms };
        let mut rota = RotaView {
            name: "intervals".into(),
            feed: "desk".into(),
            state: "running".into(),
            step: 1,
            steps: vec![step("dock", Some(20_000)), step("trailer", None)],
            left_ms: Some(11_100),
            repeat: false,
        };
        let says = |r: &RotaView| {
            list(std::slice::from_ref(r)).lines().nth(1).unwrap_or_default().split_whitespace().collect::<Vec<_>>().join(" ")
        };
        assert_eq!(says(&rota), "intervals desk running 1 of 2 dock 12.0 s trailer once");
        assert_eq!(short(std::slice::from_ref(&rota)).as_deref(), Some("intervals 1/2 12.0 s"));
        (rota.step, rota.left_ms) = (2, None);
        assert_eq!(says(&rota), "intervals desk running 2 of 2 trailer to its end end");
        rota.repeat = true;
        assert!(says(&rota).ends_with("to its end dock 20.0 s"));
        rota.state = "stopped".into();
        assert_eq!((says(&rota).contains(" - "), short(&[rota])), (true, None));
    }
}
