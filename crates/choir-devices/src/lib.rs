//! Devices: finding them, speaking ONVIF and VISCA with one, reading, setting and moving them.
//!
//! | module | holds |
//! |---|---|
//! | [`discover`] | finding devices: multicast announcements and questions, a paced sweep |
//! | [`onvif`], [`visca`] | a session with one device |
//! | [`device`] | comparing, setting, restarting and moving the devices of a sheet |
//! | [`http`] | the HTTP client that ONVIF runs on |

pub mod device;
pub mod discover;
pub mod http;
pub mod onvif;
pub mod visca;
