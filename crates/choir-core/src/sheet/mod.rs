//! The patch sheet: what is connected to what. Read whole, with every finding and its place.

mod alarm;
mod check;
mod devices;
mod edit;
mod encode;
mod fresh;
mod keys;
mod machine;
mod networks;
mod pattern;
mod places;
mod read;
mod reader;
mod record;
mod rota;
mod secrets;
mod sound;
mod standby;
mod stave;
mod watch;
mod wishes;

pub use crate::{
    device::{NewDevice, device_name},
    model::{Accepts, Change, Difference, Entry, Expect, Feed, Line, Mismatch, Sheet, Show},
};
pub use devices::parse_with_prefix;
pub use edit::{
    EditError, NewFeed, NewLine, add_devices, add_feed, add_line, add_take, remove_entry, rename_entry, set_address, set_preset_name,
    write_advice,
};
pub use fresh::{Arrival, Start, fresh_sheet};
pub use machine::judge_machine;
pub use read::read_sheet;
pub use secrets::judge_secrets;
