//! Colours that mean something, wherever they are shown.

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
