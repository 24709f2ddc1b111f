//! A head that turns: where it looks at any time, from its last order.

use super::scene::seen_at;
use std::{
    sync::{Mutex, PoisonError},
    time::{Duration, Instant},
};

/// Of the range in a second, at full speed.
const SPEED: f64 = 0.8;
/// Of the range in a second, on the way to a place.
const TRAVEL: f64 = 2.0;

/// Pan and tilt from -1 to 1, zoom from 0 to 1.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Place {
    /// Pan.
    pub pan: f64,
    /// Tilt.
    pub tilt: f64,
    /// Zoom.
    pub zoom: f64,
}

impl Place {
    /// Where it looks once a point of its picture (-1 to 1 from the middle, right and up) is in the
    /// middle, and its zoom has moved by this much.
    fn framed(self, x: f64, y: f64, zoom: f64) -> Self {
        let to = (self.zoom + zoom).clamp(0.0, 1.0);
        let (sees, will_see) = (seen_at(self.zoom), seen_at(to));
        // The scene is twice as wide as the widest picture, whose window stays within it.
        let one = |at: f64, by: f64| (at * (2.0 - sees) + by * sees) / (2.0 - will_see);
        Self { pan: one(self.pan, x).clamp(-1.0, 1.0), tilt: one(self.tilt, y).clamp(-1.0, 1.0), zoom: to }
    }

    fn along(self, by: Self, times: f64) -> Self {
        Self {
            pan: (self.pan + by.pan * times).clamp(-1.0, 1.0),
            tilt: (self.tilt + by.tilt * times).clamp(-1.0, 1.0),
            zoom: (self.zoom + by.zoom * times).clamp(0.0, 1.0),
        }
    }

    fn towards(self, to: Self, step: f64) -> Self {
        let near = |a: f64, b: f64| if (b - a).abs() <= step { b } else { a + step.copysign(b - a) };
        Self { pan: near(self.pan, to.pan), tilt: near(self.tilt, to.tilt), zoom: near(self.zoom, to.zoom) }
    }
}

#[derive(Debug, Clone, Copy)]
enum Order {
    Rest,
    /// At these speeds, until then.
    Drive(Place, Option<Instant>),
    Travel(Place),
}

#[derive(Debug)]
struct Now {
    place: Place,
    since: Instant,
    order: Order,
}

/// A head.
#[derive(Debug)]
pub struct Head(Mutex<Now>);

impl Default for Head {
    fn default() -> Self {
        Self(Mutex::new(Now { place: Place::default(), since: Instant::now(), order: Order::Rest }))
    }
}

impl Head {
    fn look<T>(&self, change: impl FnOnce(&mut Now) -> T) -> T {
        let mut s = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let now = Instant::now();
        let passed = now.saturating_duration_since(s.since).as_secs_f64();
        match s.order {
            Order::Rest => {}
            Order::Drive(speed, until) => {
                let over = until.is_some_and(|u| u <= now);
                let passed = until.map_or(passed, |u| passed.min(u.saturating_duration_since(s.since).as_secs_f64()));
                s.place = s.place.along(speed, passed * SPEED);
                if over {
                    s.order = Order::Rest;
                }
            }
            Order::Travel(to) => {
                s.place = s.place.towards(to, passed * TRAVEL);
                if s.place == to {
                    s.order = Order::Rest;
                }
            }
        }
        s.since = now;
        change(&mut s)
    }

    /// Where it looks.
    pub fn place(&self) -> Place {
        self.look(|s| s.place)
    }

    /// It turns.
    pub fn moving(&self) -> bool {
        self.look(|s| !matches!(s.order, Order::Rest))
    }

    /// Turns at these speeds (-1 to 1), at most for a time.
    pub fn drive(&self, speed: Place, at_most: Option<Duration>) {
        self.look(|s| s.order = Order::Drive(speed, at_most.map(|d| s.since + d)));
    }

    /// Turns on with a changed speed, as VISCA has one order for each pair of axes.
    pub fn change(&self, change: impl FnOnce(&mut Place)) {
        self.look(|s| {
            let mut speed = if let Order::Drive(speed, _) = s.order { speed } else { Place::default() };
            change(&mut speed);
            s.order = if speed == Place::default() { Order::Rest } else { Order::Drive(speed, None) };
        });
    }

    /// Goes to a place.
    pub fn travel(&self, to: Place) {
        self.look(|s| s.order = Order::Travel(to));
    }

    /// Brings a point of its picture to the middle, and moves the zoom.
    pub fn frame(&self, x: f64, y: f64, zoom: f64) {
        self.look(|s| s.order = Order::Travel(s.place.framed(x, y, zoom)));
    }

    /// Stands still.
    pub fn stop(&self) {
        self.look(|s| s.order = Order::Rest);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_drive_ends_with_its_time_and_a_range_with_its_ends() {
        let head = Head::default();
        head.drive(Place { pan: 1.0, tilt: -1.0, zoom: 1.0 }, Some(Duration::ZERO));
        assert!(!head.moving());
        assert_eq!(head.place(), Place::default(), "no time, no way");
        // As if it had been ordered long ago.
        head.0.lock().expect("lock").order = Order::Drive(Place { pan: 1.0, tilt: -1.0, zoom: 1.0 }, None);
        head.0.lock().expect("lock").since -= Duration::from_secs(60);
        assert_eq!(head.place(), Place { pan: 1.0, tilt: -1.0, zoom: 1.0 });
        assert!(head.moving(), "it pushes against its end until it is stopped");
        head.stop();
        assert!(!head.moving());
        head.travel(Place { pan: -1.0, tilt: 0.0, zoom: 0.5 });
        head.0.lock().expect("lock").since -= Duration::from_secs(60);
        assert_eq!(head.place(), Place { pan: -1.0, tilt: 0.0, zoom: 0.5 });
        assert!(!head.moving(), "it has arrived");
    }

    #[test]
    fn each_pair_of_axes_is_changed_by_itself() {
        let head = Head::default();
        head.change(|s| s.pan = 0.5);
        head.change(|s| s.zoom = 0.5);
        head.change(|s| s.pan = 0.0);
        assert!(head.moving(), "it still zooms");
        head.change(|s| s.zoom = 0.0);
        assert!(!head.moving());
    }
}
