//! What is said to a device by ONVIF, without a connection: requests as texts, answers as values.
//!
//! | file | idea |
//! |---|---|
//! | [`xml`] | reading XML from strangers into a bounded tree |
//! | [`soap`] | envelopes, the proof of the password, faults as sentences |
//! | [`device`] | identity, clock, services, network, users, restart |
//! | [`media`] | streams and their encoders, by the first and the second media service |
//! | [`ptz`] | presets, moves, position |
//! | [`discovery`] | WS-Discovery: asking who is there, and what is said on arrival |
//!
//! Sources: ONVIF Core, Media, Media 2 and PTZ Service Specifications; WS-Discovery (April 2005).

pub mod device;
pub mod discovery;
pub mod media;
pub mod ptz;
pub mod soap;
pub mod xml;

pub use soap::{Call, Fault, SoapError, Token};
pub use xml::{Element, XmlError, escape};
