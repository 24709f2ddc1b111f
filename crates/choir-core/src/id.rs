//! Who is who in a show: small numbers that stay the same for the life of a show, also while others
//! come and go. Names are looked up where something is shown.

use serde::{Deserialize, Serialize};

macro_rules! id {
    ($(#[$doc:meta])* $name:ident) => {
        $(#[$doc])*
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub struct $name(pub u32);
    };
}

id! {
    /// A line. Numbers are not used again after a line has been removed.
    LineId
}
id! {
    /// A feed.
    FeedId
}
id! {
    /// A way out: one destination of one feed.
    OutId
}
id! {
    /// A device of the sheet.
    DeviceId
}

id! {
    /// A network of the sheet.
    NetworkId
}

/// One of the network paths by which a line arrives: its number within the line, from 0.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, Serialize, Deserialize)]
pub struct LegId(pub u8);

/// What a fact is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind", content = "id")]
pub enum Subject {
    /// The show as a whole.
    Show,
    /// The machine that runs it.
    Machine,
    /// A line.
    Line(LineId),
    /// A feed.
    Feed(FeedId),
    /// A way out.
    Out(OutId),
    /// A device.
    Device(DeviceId),
    /// A network.
    Network(NetworkId),
}
