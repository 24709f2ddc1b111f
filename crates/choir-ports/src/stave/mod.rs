//! Named sources on the LAN over sockets: a [`Node`] offers them, takes them, and knows who is
//! there.
//!
//! ```text
//! feed's Outlet → source (TsReader → units) → node: for each receiver's lane → a QUIC stream per unit
//! QUIC streams → take (UnitOrder → Sequencer) → line's Intake
//! DNS-SD, fixed nodes, directory → roster: a connection to every node, its catalogue
//! ```

mod caller;
mod directory;
mod directory_client;
mod dns;
mod find;
mod group_out;
mod identity;
mod node;
mod roster;
mod session;
mod source;
mod steer;
mod stream;
mod take;
mod tls;
mod units;
mod view;

pub use directory::{Directory, serve_directory};
pub use find::LanPlan;
pub use group_out::GroupPlan;
pub use identity::Identity;
pub use node::{CameraRequest, CameraSender, Node, NodePlan};
pub use roster::{Known, NodeState, Roster, Ways};
pub use source::{MadeUnit, SourcePlan, StreamPlan};
pub use steer::{NamedCamera, SteerError};
pub use take::{Order, TakePlan, spawn_take};
pub use units::{Arrived, UnitTap};

use choir_core::facts::Fault;
use choir_proto::{
    foreign::plain,
    stave::{Catalogue, RefusalCode},
};
use std::{net::SocketAddr, path::PathBuf};

/// Text from the network, as it may be shown: no control characters, not endless.
fn plain_name(text: &str) -> String {
    plain(text, 200)
}

fn plain_catalogue(mut c: Catalogue) -> Catalogue {
    c.sources.truncate(64);
    c.secured = plain_name(&c.secured);
    c.machine = c.machine.map(|m| plain_name(&m)).filter(|m| !m.is_empty());
    for s in &mut c.sources {
        s.name = plain_name(&s.name);
        s.carries = plain_name(&s.carries);
        s.streams.truncate(8);
        for stream in &mut s.streams {
            stream.codec = plain_name(&stream.codec);
        }
    }
    c
}

fn fault_of(code: RefusalCode) -> Fault {
    match code {
        RefusalCode::Key => Fault::Passphrase,
        RefusalCode::Unknown => Fault::Login,
        RefusalCode::Name => Fault::Path,
        RefusalCode::Version => Fault::WrongProtocol,
        RefusalCode::Group | RefusalCode::Full | RefusalCode::Codec | RefusalCode::Other => Fault::Refused,
    }
}

/// Why Stave cannot be had.
#[derive(Debug, thiserror::Error)]
pub enum StaveError {
    /// The machine's certificate.
    #[error("the Stave identity in {path} cannot be used: {1}", path = .0.display())]
    Identity(PathBuf, String),
    /// The address.
    #[error("Stave cannot open {0}: {1}: is the address this machine's, and the port free?")]
    Open(SocketAddr, std::io::Error),
    /// The cipher library.
    #[error("the cipher library refuses: {0}")]
    Crypto(String),
    /// The group key.
    #[error(transparent)]
    Secret(#[from] choir_host::secrets::SecretError),
}

#[cfg(test)]
mod tests {
    use choir_core::stave as sheet;
    use choir_proto::stave as wire;

    #[test]
    fn the_sheet_and_the_wire_mean_the_same() {
        assert_eq!((sheet::PORT, sheet::OPEN_GROUP), (wire::PORT, wire::OPEN_GROUP));
        for word in wire::Grade::WORDS {
            let link = choir_core::link::parse_url(&format!("stave://Finish Tower?grade={word}"));
            assert!(link.0.is_some() && link.1.is_empty(), "{word}");
        }
    }
}
