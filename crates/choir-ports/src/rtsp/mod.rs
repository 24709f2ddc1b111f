//! RTSP ways: cameras that are pulled, and feeds that are served.

mod connection;
mod mount;
mod options;
mod pull;
mod serve;
mod shared;
mod viewers;

pub use options::{ServerOptions, UdpManner};
pub use pull::{PullPlan, spawn_pull};
pub use serve::{RtspServer, ServePlan, Served, spawn_server};

/// Name given to the other end.
const SOFTWARE: &str = concat!("Cable Choir ", env!("CARGO_PKG_VERSION"));
