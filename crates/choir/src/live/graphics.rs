//! Real pictures, where the terminal says that it draws sixels: asked once, never guessed.
//! Elsewhere pictures are made of half blocks.

use super::sixel;
use choir_show::still::{Still, filling};
use crossterm::{cursor::MoveTo, queue, style::Print, terminal};
use ratatui::{buffer::Buffer, layout::Rect};
use rustix::{
    event::{PollFd, PollFlags, Timespec, poll},
    io::read,
    stdio::stdin,
};
use std::{
    cell::{Cell, RefCell},
    io::{self, Write},
    sync::Arc,
    time::{Duration, Instant},
};

/// How long a terminal has to answer.
const PATIENCE: Duration = Duration::from_millis(300);
/// Asks for the size of a cell in pixels, and for what the terminal can do: the latter all answer.
const QUESTION: &str = "\x1b[16t\x1b[c";
/// Among the features that a terminal names: sixels.
const SIXELS: &str = "4";

/// Draws pictures in pixels.
#[derive(Debug, Default)]
pub struct Graphics {
    /// Pixels of a cell; none where the terminal cannot.
    cell: Option<(u16, u16)>,
    /// Something lies over the pictures.
    covered: Cell<bool>,
    /// Pictures of this drawing, and those that stand on the screen.
    wanted: RefCell<Vec<Placed>>,
    shown: RefCell<Vec<Placed>>,
}

#[derive(Debug, Clone, PartialEq)]
struct Placed {
    area: Rect,
    still: Arc<Still>,
}

impl Graphics {
    /// Asks the terminal, which must be in raw mode with nobody else reading from it.
    pub fn detect() -> Self {
        let answer = ask().unwrap_or_default();
        let window = || {
            let w = terminal::window_size().ok()?;
            Some((w.width / w.columns.max(1), w.height / w.rows.max(1)))
        };
        let cell = draws_sixels(&answer).then(|| cell_of(&answer).or_else(window)).flatten();
        Self { cell: cell.filter(|c| c.0 > 1 && c.1 > 1), ..Self::default() }
    }

    /// Pixels that an area has.
    pub fn pixels(&self, area: (u16, u16)) -> Option<(usize, usize)> {
        self.cell.map(|c| (usize::from(c.0) * usize::from(area.0), usize::from(c.1) * usize::from(area.1)))
    }

    /// What is drawn next lies under something else, or no longer.
    pub fn cover(&self, covered: bool) {
        self.covered.set(covered);
    }

    /// Keeps an area for a picture: false when it must be made of characters.
    pub fn place(&self, still: &Arc<Still>, area: Rect, buffer: &mut Buffer) -> bool {
        if self.cell.is_none() || self.covered.get() || area.is_empty() {
            return false;
        }
        for position in area.positions() {
            if let Some(cell) = buffer.cell_mut(position) {
                cell.reset();
                cell.set_skip(true);
            }
        }
        self.wanted.borrow_mut().push(Placed { area, still: still.clone() });
        true
    }

    /// Before a drawing.
    pub fn begin(&self) {
        self.wanted.borrow_mut().clear();
    }

    /// The screen has been wiped.
    pub fn forget(&self) {
        self.shown.borrow_mut().clear();
    }

    /// A picture that stood on the screen does not any more: characters do not know that they have
    /// to wipe it away.
    pub fn leaves_something(&self) -> bool {
        let wanted = self.wanted.borrow();
        let gone = self.shown.borrow().iter().any(|s| wanted.iter().all(|w| w.area != s.area));
        if gone {
            self.forget();
        }
        gone
    }

    /// Puts the pictures on the screen that are others than those that stand there.
    pub fn finish(&self, out: &mut impl Write) -> io::Result<()> {
        let wanted = std::mem::take(&mut *self.wanted.borrow_mut());
        let Some((cell_width, cell_height)) = self.cell else { return Ok(()) };
        for placed in wanted.iter().filter(|p| !self.shown.borrow().contains(p)) {
            let Placed { area, still } = placed;
            let room = (usize::from(cell_width) * usize::from(area.width), usize::from(cell_height) * usize::from(area.height));
            let (width, height) = filling((still.width, still.height), room);
            let (left, top) = ((room.0 - width) / 2 / usize::from(cell_width), (room.1 - height) / 2 / usize::from(cell_height));
            queue!(out, MoveTo(area.x + left as u16, area.y + top as u16), Print(sixel::encode(still, width, height)))?;
        }
        *self.shown.borrow_mut() = wanted;
        out.flush()
    }
}

/// What the terminal answers, up to the end of what all answer.
fn ask() -> io::Result<String> {
    let mut out = io::stdout();
    out.write_all(QUESTION.as_bytes())?;
    out.flush()?;
    let (end, mut answer) = (Instant::now() + PATIENCE, Vec::new());
    loop {
        let left = end.saturating_duration_since(Instant::now());
        let wait = Timespec { tv_sec: 0, tv_nsec: i64::from(left.subsec_nanos()) };
        if left.is_zero() || poll(&mut [PollFd::from_borrowed_fd(stdin(), PollFlags::IN)], Some(&wait))? == 0 {
            break;
        }
        let mut piece = [0; 256];
        let n = read(stdin(), &mut piece)?;
        answer.extend_from_slice(&piece[..n]);
        if n == 0 || features(&String::from_utf8_lossy(&answer)).is_some() {
            break;
        }
    }
    Ok(String::from_utf8_lossy(&answer).into_owned())
}

/// `62;4;22` of `CSI ? 62 ; 4 ; 22 c`.
fn features(answer: &str) -> Option<&str> {
    let (_, rest) = answer.split_once("\x1b[?")?;
    rest.split_once('c').map(|(features, _)| features)
}

fn draws_sixels(answer: &str) -> bool {
    features(answer).is_some_and(|f| f.split(';').skip(1).any(|n| n == SIXELS))
}

/// Width and height of `CSI 6 ; height ; width t`.
fn cell_of(answer: &str) -> Option<(u16, u16)> {
    let (_, rest) = answer.split_once("\x1b[6;")?;
    let (height, width) = rest.split_once('t')?.0.split_once(';')?;
    Some((width.parse().ok()?, height.parse().ok()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_terminal_that_says_so_gets_pixels() {
        assert!(draws_sixels("\x1b[6;17;8t\x1b[?62;4;22c"));
        assert!(!draws_sixels("\x1b[?4;22c"), "that is its kind, not what it can do");
        assert!(!draws_sixels("\x1b[?62;14c") && !draws_sixels("") && !draws_sixels("q4;4c"));
        assert_eq!(cell_of("\x1b[6;17;8t\x1b[?62;4c"), Some((8, 17)));
        assert_eq!(cell_of("\x1b[6;;t"), None);
    }

    #[test]
    fn a_picture_is_drawn_once_and_one_that_goes_is_wiped_away() {
        let graphics = Graphics { cell: Some((8, 16)), ..Graphics::default() };
        let still = Arc::new(Still { width: 32, height: 18, rgb: vec![200; 32 * 18 * 3], source: (32, 18) });
        let (area, mut buffer) = (Rect::new(2, 1, 20, 10), Buffer::empty(Rect::new(0, 0, 40, 20)));
        let draw = |place: bool, buffer: &mut Buffer| {
            graphics.begin();
            let placed = place && graphics.place(&still, area, buffer);
            let (gone, mut out) = (graphics.leaves_something(), Vec::new());
            graphics.finish(&mut out).expect("written");
            (placed, gone, String::from_utf8_lossy(&out).into_owned())
        };
        let (placed, gone, out) = draw(true, &mut buffer);
        assert!(placed && !gone && out.contains("\x1bP0;1;0q\"1;1;160;90"), "{out}");
        assert!(buffer[(3, 3)].skip && !buffer[(1, 1)].skip);
        assert_eq!(draw(true, &mut buffer), (true, false, String::new()));
        graphics.forget();
        assert!(draw(true, &mut buffer).2.contains("\x1bP"), "the screen was wiped");
        assert_eq!(draw(false, &mut buffer), (false, true, String::new()));
        graphics.cover(true);
        assert!(!draw(true, &mut buffer).0, "something lies over it");
        assert!(!Graphics::default().place(&still, area, &mut buffer));
        assert_eq!((filling((320, 180), (160, 160)), filling((320, 180), (1000, 90))), ((160, 90), (160, 90)));
    }
}
