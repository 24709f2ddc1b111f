//! What the tables of one source say.

use super::psi::{Pmt, PmtStream};
use std::sync::Arc;

/// The first programme, as far as it is known.
#[derive(Debug, Clone, Default)]
pub(super) struct Programme {
    pub pmt_pid: Option<u16>,
    pub pmt: Option<Arc<Pmt>>,
}

impl Programme {
    /// True for packets of the PAT and of the PMT.
    pub fn is_table(&self, pid: u16) -> bool {
        pid == 0 || Some(pid) == self.pmt_pid
    }

    /// The first stream of pictures.
    pub fn video(&self) -> Option<PmtStream> {
        self.pmt.as_ref()?.streams.iter().find(|s| s.kind.is_video()).copied()
    }

    /// True for packets of a stream of sound.
    pub fn is_audio(&self, pid: u16) -> bool {
        self.pmt.as_ref().is_some_and(|m| m.streams.iter().any(|s| s.pid == pid && s.kind.is_audio()))
    }

    /// Whether a clock reference on this PID is the programme's.
    pub fn has_clock(&self, pid: u16) -> bool {
        self.pmt.as_ref().is_none_or(|m| m.pcr_pid == pid)
    }
}
