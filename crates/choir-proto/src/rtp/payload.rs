//! What RTP packets carry, and what is made of them.

use super::ParameterSets;
use crate::audio::{AacConfig, Law, StreamMux};
use bytes::Bytes;
use std::time::Instant;

/// How a track's packets are to be read.
#[derive(Debug, Clone, PartialEq)]
pub enum PayloadFormat {
    /// RFC 6184.
    H264 {
        /// From `sprop-parameter-sets`.
        sets: ParameterSets,
    },
    /// RFC 7798.
    H265 {
        /// From `sprop-vps`, `-sps` and `-pps`.
        sets: ParameterSets,
        /// Decoding order numbers are sent.
        order_numbers: bool,
    },
    /// RFC 3640.
    Aac {
        /// From `config`.
        config: AacConfig,
        /// Field lengths.
        headers: AuHeaders,
    },
    /// RFC 6416.
    Latm {
        /// From `config`, when it is out of band.
        mux: Option<StreamMux>,
        /// `cpresent`.
        in_band: bool,
    },
    /// RFC 3551.
    G711(Law),
    /// RFC 2250: a whole transport stream.
    Ts,
}

/// Field lengths of RFC 3640, in bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct AuHeaders {
    /// AU-size.
    pub size: u32,
    /// AU-Index of the first.
    pub index: u32,
    /// AU-Index-delta of the others.
    pub index_delta: u32,
    /// Composition time.
    pub cts_delta: u32,
    /// Decoding time.
    pub dts_delta: u32,
    /// 1 when there is a random access flag.
    pub random_access: u32,
    /// Stream state.
    pub stream_state: u32,
    /// Length of the auxiliary section's size.
    pub auxiliary: u32,
    /// All units have this size.
    pub constant_size: usize,
}

/// What becomes of pictures with holes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Damage {
    /// Leave them out, and all that need them, up to the next keyframe.
    #[default]
    Wait,
    /// Hand them on as they are.
    Pass,
}

/// An access unit with the time as the packets had it.
#[derive(Debug, Clone)]
pub struct RawUnit {
    /// RTP timestamp.
    pub timestamp: u32,
    /// Decoding can start here.
    pub keyframe: bool,
    /// A hole is in it.
    pub damaged: bool,
    /// When its last packet came.
    pub arrived: Instant,
    /// Byte stream, ADTS frame, G.711 samples or transport stream packets.
    pub pieces: Vec<Bytes>,
}
