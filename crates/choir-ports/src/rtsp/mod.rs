//! RTSP ways: cameras that are pulled, and feeds that are served.

mod connection;
mod mount;
mod pull;
mod serve;
mod viewers;

pub use pull::{PullPlan, spawn_pull};
pub use serve::{Hooks, RtspServer, ServePlan, Served, UdpManner, spawn_server};

/// Name given to the other end.
const SOFTWARE: &str = concat!("Cable Choir ", env!("CARGO_PKG_VERSION"));
