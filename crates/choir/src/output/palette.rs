//! Colours that mean something, wherever they are shown, and whether there are any.

/// Red, green, blue.
pub type Rgb = (u8, u8, u8);

/// As it should be.
pub const GOOD: Rgb = (120, 200, 160);
/// Look at it.
pub const WARNING: Rgb = (235, 190, 90);
/// Does not work.
pub const BAD: Rgb = (240, 100, 95);
/// Says little.
pub const QUIET: Rgb = (140, 150, 165);

/// Colour on a terminal, unless `NO_COLOR` is set (to anything but nothing) or the terminal has
/// none.
pub fn colours(terminal: bool) -> bool {
    let set = |name: &str| std::env::var(name).ok().filter(|v| !v.is_empty());
    terminal && set("NO_COLOR").is_none() && set("TERM").is_none_or(|t| t != "dumb")
}
