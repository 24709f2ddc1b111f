//! Pictures in the terminal, two pixels to a character.

use choir_show::still::Still;
use std::fmt::Write;

/// Stills beside each other, each in a column of this many characters.
pub(super) fn side_by_side(stills: &[Option<&Still>], column: usize) -> String {
    let rows = stills.iter().flatten().map(|s| s.height.div_ceil(2)).max().unwrap_or(0);
    let mut out = String::new();
    for row in 0..rows {
        for still in stills {
            let wide = still.map_or(0, |s| s.width);
            if let Some(still) = still {
                half_row(&mut out, still, row);
            }
            let _ = write!(out, "\x1b[0m{}", " ".repeat(column.saturating_sub(wide)));
        }
        out.push('\n');
    }
    out
}

fn half_row(out: &mut String, s: &Still, row: usize) {
    let at = |x: usize, y: usize| s.rgb.get((y * s.width + x) * 3..)?.first_chunk::<3>();
    for x in 0..s.width {
        let _ = match (at(x, 2 * row), at(x, 2 * row + 1)) {
            (Some([r, g, b]), Some([s, h, c])) => write!(out, "\x1b[38;2;{r};{g};{b}m\x1b[48;2;{s};{h};{c}m▀"),
            (Some([r, g, b]), None) => write!(out, "\x1b[0m\x1b[38;2;{r};{g};{b}m▀"),
            _ => write!(out, "\x1b[0m "),
        };
    }
}
