//! A click or a box on a camera's picture.

use choir_show::ptz::PictureBox;
use crossterm::event::{MouseButton, MouseEvent, MouseEventKind};
use ratatui::layout::{Position, Rect};
use std::cell::Cell;

/// What the mouse does on a picture.
#[derive(Debug, Default)]
pub struct Aim {
    /// Where the picture is drawn; empty without one.
    drawn: Cell<Rect>,
    /// Where the button went down, and where the mouse is now.
    held: Option<(Position, Position)>,
}

impl Aim {
    /// Notes where the picture is.
    pub fn drawn_at(&self, area: Rect) {
        self.drawn.set(area);
    }

    /// The box that is being drawn, in cells; none of a click so far.
    pub fn drawing(&self) -> Option<Rect> {
        let (from, to) = self.held?;
        let cells = Rect::new(from.x.min(to.x), from.y.min(to.y), from.x.abs_diff(to.x) + 1, from.y.abs_diff(to.y) + 1);
        // A hand that trembles clicks all the same.
        (cells.width > 2 && cells.height > 1).then_some(cells)
    }

    /// Takes what the mouse does; gives the part of the picture that is wanted once the button is
    /// released.
    pub fn mouse(&mut self, mouse: MouseEvent) -> Option<PictureBox> {
        let picture = self.drawn.get();
        let at = Position::new(mouse.column, mouse.row);
        match mouse.kind {
            MouseEventKind::Down(MouseButton::Left) => self.held = picture.contains(at).then_some((at, at)),
            MouseEventKind::Drag(MouseButton::Left) => {
                if let Some((_, to)) = &mut self.held {
                    *to = Position::new(at.x.clamp(picture.left(), picture.right() - 1), at.y.clamp(picture.top(), picture.bottom() - 1));
                }
            }
            MouseEventKind::Up(MouseButton::Left) => {
                let drawing = self.drawing();
                let (from, _) = self.held.take()?;
                return Some(share(picture, drawing, from));
            }
            _ => {}
        }
        None
    }
}

/// The part of the picture that cells are.
fn share(picture: Rect, drawing: Option<Rect>, click: Position) -> PictureBox {
    let (w, h) = (f64::from(picture.width), f64::from(picture.height));
    match drawing {
        Some(cells) => PictureBox {
            left: f64::from(cells.x - picture.x) / w,
            top: f64::from(cells.y - picture.y) / h,
            width: f64::from(cells.width) / w,
            height: f64::from(cells.height) / h,
        },
        // The middle of the cell.
        None => PictureBox {
            left: (f64::from(click.x - picture.x) + 0.5) / w,
            top: (f64::from(click.y - picture.y) + 0.5) / h,
            width: 0.0,
            height: 0.0,
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crossterm::event::KeyModifiers;

    fn mouse(aim: &mut Aim, kind: fn(MouseButton) -> MouseEventKind, column: u16, row: u16) -> Option<PictureBox> {
        aim.mouse(MouseEvent { kind: kind(MouseButton::Left), column, row, modifiers: KeyModifiers::NONE })
    }

    #[test]
    fn a_click_is_a_point_and_a_box_a_part_of_the_picture() {
        let mut aim = Aim::default();
        use MouseEventKind::{Down, Drag, Up};
        assert_eq!((mouse(&mut aim, Down, 5, 5), mouse(&mut aim, Up, 5, 5)), (None, None), "no picture");
        aim.drawn_at(Rect::new(10, 4, 40, 10));
        assert_eq!((mouse(&mut aim, Down, 5, 5), mouse(&mut aim, Up, 20, 8)), (None, None), "beside it");
        mouse(&mut aim, Down, 20, 6);
        mouse(&mut aim, Drag, 21, 6);
        assert_eq!(aim.drawing(), None);
        let point = mouse(&mut aim, Up, 21, 6).expect("a point");
        assert_eq!(point, PictureBox { left: 10.5 / 40.0, top: 0.25, width: 0.0, height: 0.0 });
        // From right below to left above, and beyond the edge.
        mouse(&mut aim, Down, 29, 8);
        mouse(&mut aim, Drag, 2, 6);
        assert_eq!(aim.drawing(), Some(Rect::new(10, 6, 20, 3)));
        let part = mouse(&mut aim, Up, 2, 6).expect("a part");
        assert_eq!(part, PictureBox { left: 0.0, top: 0.2, width: 0.5, height: 0.3 });
        assert_eq!(aim.drawing(), None);
    }
}
