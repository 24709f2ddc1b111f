//! Pictures that are encoded here: slates and walls, and feeds of which a destination takes another
//! size, rate or bitrate than their lines bring.

mod canvas;
mod convert;
mod overlay;
mod pace;
mod pictures;
mod shared;

pub(crate) use pictures::{Pictures, Spend};
pub(crate) use shared::Encoding;

#[cfg(test)]
mod tests;
