//! Alarms of a running show, and who is told of them.

mod desk;
pub(crate) mod messenger;

pub(crate) use desk::{Desk, Rules, alarm_view};
