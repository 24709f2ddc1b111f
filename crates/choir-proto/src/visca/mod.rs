//! VISCA: the steering protocol of PTZ cameras, over a serial-like stream or over IP.
//!
//! [`wire`] writes commands and reads answers; [`header`] is what stands before them over IP (UDP,
//! port 52381); [`Controller`] asks one camera and repeats what is not answered. VISCA is published
//! in the command lists of camera makers; what is here is what these lists have in common.

mod controller;
pub mod header;
pub mod wire;

pub use controller::{Carrier, Controller, Outcome, Refusal, Ticket};
pub use header::{Header, Payload};
pub use wire::{Ask, Drive, Reply, Stream};
