//! A wall: lines beside each other in one picture, which is itself a line.

use super::{
    Link,
    fields::{Collector, Form, Value},
};
use crate::units::{Bitrate, parse_bitrate, parse_size, say_size};

const SHEET_KEYS: &[&str] = &["kind", "grid", "lines", "size", "rate", "bitrate"];
const URL_KEYS: &[&str] = &["lines", "size", "rate", "bitrate"];
/// Fields in each direction.
const GRID: std::ops::RangeInclusive<u8> = 1..=5;
/// Pictures a second.
const RATES: std::ops::RangeInclusive<u8> = 1..=30;
/// Least and greatest size, pixels.
const SIZES: [(u32, u32); 2] = [(320, 180), (1920, 1080)];

/// A picture made of lines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WallLink {
    /// Fields across and down.
    pub grid: (u8, u8),
    /// Which lines, row by row; without any, all of the sheet but walls.
    pub lines: Vec<String>,
    /// Pixels.
    pub size: (u32, u32),
    /// Pictures a second.
    pub rate: u8,
    /// Of the picture.
    pub bitrate: Bitrate,
}

impl Default for WallLink {
    fn default() -> Self {
        Self { grid: (2, 2), lines: Vec::new(), size: (1280, 720), rate: 10, bitrate: Bitrate(3_000_000) }
    }
}

fn grid(text: &str) -> Option<(u8, u8)> {
    let (across, down) = text.split_once('x')?;
    let side = |n: &str| n.parse().ok().filter(|n| GRID.contains(n));
    side(across).zip(side(down))
}

impl Collector {
    /// With the grid having been read from a URL, or from the fields.
    pub(super) fn wall(&mut self, place: Option<&str>) -> Option<Link> {
        self.known(if self.form() == Form::Url { URL_KEYS } else { SHEET_KEYS });
        let usual = WallLink::default();
        let given = place.map(|text| (text.to_owned(), self.at())).or_else(|| self.text("grid"));
        let grid = given.map_or(Some(usual.grid), |(text, at)| {
            let read = grid(&text);
            if read.is_none() {
                self.problem(at, format!("\"{text}\" is not a grid."), "Write fields across and down, \"2x2\" to \"5x5\".");
            }
            read
        });
        let lines = self.text("lines").map_or_else(Vec::new, |(text, at)| {
            let lines: Vec<String> = text.split([',', ' ']).filter(|l| !l.is_empty()).map(str::to_owned).collect();
            let room = grid.map_or(usize::MAX, |(a, b)| usize::from(a) * usize::from(b));
            if lines.len() > room {
                self.problem(at, format!("{} lines do not fit into {room} fields.", lines.len()), "Name fewer, or make the grid larger.");
            }
            lines
        });
        let size = self.text("size").map_or(usual.size, |(text, at)| {
            let fits =
                |(w, h): &(u32, u32)| (SIZES[0].0..=SIZES[1].0).contains(w) && (SIZES[0].1..=SIZES[1].1).contains(h) && w % 2 + h % 2 == 0;
            parse_size(&text).ok().filter(fits).unwrap_or_else(|| {
                self.problem(at, format!("\"{text}\" is not a size of a wall."), "Allowed: 320x180 to 1920x1080, even numbers.");
                usual.size
            })
        });
        let rate = self.take("rate").map_or(usual.rate, |(value, at)| {
            let rate = match value {
                Value::Number(n) => u8::try_from(n).ok(),
                Value::Text(t) => t.parse().ok(),
                _ => None,
            };
            rate.filter(|r| RATES.contains(r)).unwrap_or_else(|| {
                self.problem(at, "rate is not a number of pictures a second.", "Allowed: 1 to 30.");
                usual.rate
            })
        });
        let bitrate = self.text("bitrate").map_or(usual.bitrate, |(text, at)| {
            parse_bitrate(&text).unwrap_or_else(|e| {
                self.problem(at, format!("bitrate {}", e.what), e.allowed);
                usual.bitrate
            })
        });
        grid.map(|grid| Link::Wall(WallLink { grid, lines, size, rate, bitrate }))
    }
}

/// As a URL.
pub(super) fn show(w: &WallLink, add: fn(&mut String, char, &str, &str)) -> String {
    let usual = WallLink::default();
    let mut url = format!("wall://{}x{}", w.grid.0, w.grid.1);
    let settings = [
        ("lines", (!w.lines.is_empty()).then(|| w.lines.join(","))),
        ("size", (w.size != usual.size).then(|| say_size(w.size))),
        ("rate", (w.rate != usual.rate).then(|| w.rate.to_string())),
        ("bitrate", (w.bitrate != usual.bitrate).then(|| format!("{}kbps", w.bitrate.0 / 1000))),
    ];
    for (key, value) in settings {
        if let Some(value) = value {
            add(&mut url, '?', key, &value);
        }
    }
    url
}

#[cfg(test)]
mod tests {
    use crate::link::{parse_url, show_url};

    #[test]
    fn a_wall_is_read_and_shown() {
        for url in ["wall://2x2", "wall://5x3?lines=dock,jury", "wall://3x3?size=1920x1080&rate=25&bitrate=6000kbps"] {
            let (link, problems) = parse_url(url);
            assert_eq!(problems, [], "{url}");
            assert_eq!(link.as_ref().map(show_url).as_deref(), Some(url));
        }
        for (url, says) in [
            ("wall://6x2", "not a grid"),
            ("wall://2", "not a grid"),
            ("wall://1x1?lines=a,b", "2 lines do not fit into 1 fields"),
            ("wall://2x2?size=40x40", "not a size"),
            ("wall://2x2?size=1281x720", "not a size"),
            ("wall://2x2?rate=0", "1 to 30"),
            ("wall://2x2?bitrate=much", "bitrate"),
            ("wall://2x2?fps=3", "not a setting"),
        ] {
            let (link, problems) = parse_url(url);
            assert!(link.is_none() && problems.iter().any(|p| format!("{} {}", p.what, p.remedy).contains(says)), "{url}: {problems:?}");
        }
    }
}
