//! Exit codes, and errors that carry one.

use choir_devices::device::DeviceError;
use choir_show::OpenError;
use choir_show::{control::ControlError, ptz::PtzError};
use choir_sim::SimError;

/// It ran, and what it was for did not happen: nothing arrived, or the sheet has errors.
pub const FAILED: u8 = 1;
/// The command line or the sheet cannot be understood (also used by clap).
pub const USAGE: u8 = 2;
/// No such show is running, it runs already, or it refused.
pub const SHOW: u8 = 3;
/// A port, file, name or passphrase cannot be had.
pub const SYSTEM: u8 = 4;

/// A source is there, and differs from what its line expects.
pub const DIFFERS: u8 = 5;

/// An error for the engineer, with its exit code. An empty text has been told already.
#[derive(Debug)]
pub struct Failure {
    /// Sentence.
    pub text: String,
    /// Exit code.
    pub code: u8,
}

impl Failure {
    pub fn new(code: u8, text: impl Into<String>) -> Self {
        Self { text: text.into(), code }
    }
    pub fn told(code: u8) -> Self {
        Self { text: String::new(), code }
    }
}

impl From<ControlError> for Failure {
    fn from(e: ControlError) -> Self {
        Self::new(SHOW, e.to_string())
    }
}
impl From<choir_ports::WayError> for Failure {
    fn from(e: choir_ports::WayError) -> Self {
        Self::new(SYSTEM, e.to_string())
    }
}
impl From<OpenError> for Failure {
    fn from(e: OpenError) -> Self {
        Self::new(SYSTEM, e.to_string())
    }
}
impl From<SimError> for Failure {
    fn from(e: SimError) -> Self {
        Self::new(SYSTEM, e.to_string())
    }
}
impl From<choir_ports::stave::StaveError> for Failure {
    fn from(e: choir_ports::stave::StaveError) -> Self {
        Self::new(SYSTEM, e.to_string())
    }
}
impl From<DeviceError> for Failure {
    fn from(e: DeviceError) -> Self {
        let code = if matches!(e, DeviceError::Secret(_)) { SYSTEM } else { FAILED };
        Self::new(code, e.to_string())
    }
}
impl From<PtzError> for Failure {
    fn from(e: PtzError) -> Self {
        Self::new(FAILED, e.to_string())
    }
}
impl From<std::io::Error> for Failure {
    fn from(e: std::io::Error) -> Self {
        Self::new(SYSTEM, e.to_string())
    }
}
