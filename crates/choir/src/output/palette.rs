//! Colours that mean something, and whether there are any.

pub use choir_show::palette::{BAD, GOOD, QUIET, Rgb, WARNING};

/// Colour on a terminal, unless `NO_COLOR` is set (to anything but nothing) or the terminal has
/// none.
pub fn colours(terminal: bool) -> bool {
    let set = |name: &str| std::env::var(name).ok().filter(|v| !v.is_empty());
    terminal && set("NO_COLOR").is_none() && set("TERM").is_none_or(|t| t != "dumb")
}
