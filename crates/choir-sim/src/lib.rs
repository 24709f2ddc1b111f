//! Stand-ins for the far ends, so that an engineer can rehearse a show on one machine: cameras and
//! field units that send real H.264, a switcher that takes inputs, and bad paths between any two of
//! them.
//!
//! | module | holds |
//! |---|---|
//! | [`camera`] | a moving scene, encoded once as a loop and sent with the time in each frame |
//! | [`device`] | a PTZ camera and an encoder with ONVIF, VISCA and discovery |
//! | [`switcher`] | inputs that measure what reaches them, and a desk that puts one on air |
//! | [`programme`] | what that desk sends |
//! | [`platform`] | what a feed is published to by RTMP |
//! | [`relay`] | a two-way UDP relay with the faults of [`choir_path`] |
//! | [`stalls`] | telling a machine that stands still from a fault |
//! | [`regatta`] | the Tarn Hollow Regatta: all of it together |

pub mod camera;
pub mod device;
mod measured;
pub mod platform;
pub mod programme;
pub mod regatta;
pub mod relay;
pub mod stalls;
pub mod switcher;

/// One end of a stand-in's link could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum SimError {
    /// A port or passphrase cannot be had.
    #[error(transparent)]
    Way(#[from] choir_ports::WayError),
    /// It cannot be on the LAN of names.
    #[error(transparent)]
    Stave(#[from] choir_ports::stave::StaveError),
    /// An address cannot be had.
    #[error("{who}: cannot open {addr}: {cause}")]
    Address {
        /// Which stand-in.
        who: String,
        /// The address.
        addr: std::net::SocketAddr,
        /// The OS error.
        cause: std::io::Error,
    },
    /// The encoder refused its settings.
    #[error("{who}: the encoder does not accept {what}")]
    Encoder {
        /// Which stand-in.
        who: String,
        /// Settings and the encoder's word.
        what: String,
    },
}
