//! What the tables of one source say, and the packets they came in.

use crate::ts::{
    TS_PACKET, TsPacket,
    psi::{Pmt, PmtStream, SectionReader, first_program},
};

pub(super) type Raw = [u8; TS_PACKET];

/// PAT and PMT of the first programme.
#[derive(Debug, Clone, Default)]
pub(super) struct Programme {
    pat: SectionReader,
    map: SectionReader,
    pub pmt_pid: Option<u16>,
    pub pmt: Option<Pmt>,
    /// First packets of the latest PAT and PMT.
    tables: [Option<Raw>; 2],
}

impl Programme {
    /// True for packets of the PAT and of the PMT.
    pub fn is_table(&self, pid: u16) -> bool {
        pid == 0 || Some(pid) == self.pmt_pid
    }

    /// Reads a table packet.
    pub fn learn(&mut self, p: &TsPacket<'_>, raw: &[u8]) {
        let Some(payload) = p.payload else { return };
        let (place, known) = if p.pid == 0 {
            let program = self.pat.push(p.unit_start, payload).and_then(|s| first_program(&s));
            if let Some((_, pid)) = program {
                self.pmt_pid = Some(pid);
            }
            (0, program.is_some())
        } else {
            let pmt = self.map.push(p.unit_start, payload).and_then(|s| Pmt::parse(&s));
            let known = pmt.is_some();
            self.pmt = pmt.or(self.pmt.take());
            (1, known)
        };
        if known && p.unit_start {
            self.tables[place] = raw.try_into().ok();
        }
    }

    /// Both tables, once they have been seen.
    pub fn tables(&self) -> Option<[Raw; 2]> {
        self.tables[0].zip(self.tables[1]).map(|(a, b)| [a, b])
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
