//! The proof on the wire: what a stream does, beside what the device says of it.

use choir_core::{
    device::{Difference, Measured, StreamWish, on_the_wire},
    link::Link,
    sheet::Sheet,
};
use serde::Serialize;

/// Measures streams. Implemented by whoever can receive media, which this crate cannot.
pub trait Measure: Sync {
    /// Joins a stream and measures it.
    fn join(&self, link: &Link, wish: &StreamWish) -> impl Future<Output = Joined> + Send;

    /// What a running show measures on a line of this sheet, and where; `None` when none runs or
    /// nothing comes.
    fn running(&self, sheet: &Sheet, line: &str) -> impl Future<Output = Option<(String, Measured)>> + Send;
}

/// What joining a stream gave.
pub struct Joined {
    /// Where it was joined, without secrets.
    pub url: String,
    /// What came, or why nothing did.
    pub measured: Result<Measured, String>,
}

/// What a stream does, and how that differs from the sheet.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
pub struct Proof {
    /// Stream.
    pub stream: String,
    /// Where it was joined.
    pub url: String,
    /// What came; `None` when nothing did.
    pub measured: Option<Measured>,
    /// Why nothing came.
    pub reason: Option<String>,
    /// How it differs from what is wanted.
    pub differs: Vec<Difference>,
}

impl Proof {
    /// Compares what came with what is wanted. `constant` says how the bitrate is to be judged.
    pub(super) fn of(stream: &str, joined: Joined, wish: &StreamWish, constant: bool) -> Self {
        let proof = Self { stream: stream.into(), url: joined.url, ..Self::default() };
        match joined.measured {
            Ok(measured) => Self { differs: on_the_wire(stream, wish, constant, &measured), measured: Some(measured), ..proof },
            Err(reason) => Self { reason: Some(reason), ..proof },
        }
    }

    /// All is as wanted.
    #[must_use]
    pub fn holds(&self) -> bool {
        self.measured.is_some() && self.differs.is_empty()
    }
}
