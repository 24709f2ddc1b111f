//! Media that is made on this machine, for a line that has no link.

use super::{Arrival, Intake, status::LinkStatus};
use bytes::Bytes;
use choir_core::facts::{Contact, Waiting};
use std::{sync::Arc, time::Instant};

/// One session of it.
pub struct Made {
    status: Arc<LinkStatus>,
    intake: Arc<dyn Intake>,
    session: u32,
}

impl Made {
    /// Begins one.
    pub fn begin(status: Arc<LinkStatus>, intake: Arc<dyn Intake>) -> Self {
        let session = status.begin_session();
        Self { status, intake, session }
    }

    /// Ends it, until it is wanted again.
    pub fn rest(self) {
        self.status.set_contact(Contact::Waiting(Waiting::Take));
    }

    /// Hands a piece of its transport stream on.
    pub fn give(&self, bytes: Bytes) {
        self.status.update(|l| {
            l.counters.bytes += bytes.len() as u64;
            l.counters.packets += 1;
        });
        self.intake.arrive(&mut vec![Arrival::ts(self.session, Instant::now(), bytes)]);
    }
}
