//! Finding devices: which addresses to ask, and what the answers add up to.

mod range;
mod table;

pub use range::{Interface, RANGE_MAX, RangeError, Scan, mask, plan};
pub use table::{Evidence, Flag, Found, Service, ServiceKind, Table};

pub(crate) use table::FACTORY;
