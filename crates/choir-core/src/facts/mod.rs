//! What is known of a running show, as typed values: how links stand, what ports report, what is
//! measured each second, and what happened. [`crate::words`] makes the sentences.

mod alarm;
mod cause;
mod contact;
mod event;
mod machine;
mod notice;
mod reading;
mod state;
mod tick;

pub use alarm::{Alarm, AlarmGrade, AlarmKind, AlarmStep, Trouble};
pub use cause::{Cause, Slow};
pub use contact::{Contact, Encryption, Fault, Joining, Loss, Refused, Waiting};
pub use event::{Event, EventGrade, EventKind, RecordingStep, RotaChange};
pub use machine::MachineChange;
pub use notice::{Misbehaviour, Notice};
pub use reading::{Around, EncodingFacts, MediaFacts, Reading};
pub use state::{Reason, State};
pub use tick::{Direction, Piece, Span, WayTick, per_second};
