//! Why a way cannot be opened.

use crate::{FileError, stave::StaveError};
use choir_host::{machine::is_out_of_files, secrets::SecretError};
use std::{
    io,
    net::{IpAddr, SocketAddr},
    path::PathBuf,
};

/// Why a way cannot be opened.
#[derive(Debug, thiserror::Error)]
pub enum WayCause {
    /// An address cannot be had.
    #[error("cannot open {0}: {1}{hint}", hint = open_hint(.1))]
    Open(SocketAddr, io::Error),
    /// The system has no thread for it.
    #[error("cannot start a thread for SRT: {0}{hint}", hint = thread_hint(.0))]
    Thread(#[source] io::Error),
    /// A name cannot be looked up.
    #[error("cannot look up {0}: {1}")]
    Name(String, io::Error),
    /// A passphrase cannot be had.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// A file cannot be used.
    #[error(transparent)]
    File(#[from] FileError),
    /// Stave cannot be had.
    #[error(transparent)]
    Stave(#[from] StaveError),
    /// Names are not taken here.
    #[error("a Stave name needs a running show: put it into a sheet, then \"choir run\"")]
    NoNode,
    /// Its secrets were not fetched: a fault of this program.
    #[error("its keys were not fetched: please report this")]
    NoKeys,
    /// Units were given to a link that carries transport streams: a fault of this program.
    #[error("its media has another shape than its link: please report this")]
    Shape,
    /// What is shown within TLS cannot be had.
    #[error("{0}")]
    Certificate(String),
    /// A session description cannot be used.
    #[error("the session description {path} cannot be used: {1}", path = .0.display())]
    Description(PathBuf, String),
}

fn open_hint(cause: &io::Error) -> &'static str {
    match cause.kind() {
        io::ErrorKind::AddrInUse => ": another program waits on that port; stop it, or choose another port",
        io::ErrorKind::AddrNotAvailable => ": this machine has no such address; check it against the network settings",
        io::ErrorKind::PermissionDenied => ": not allowed; ports below 1024 need an administrator",
        _ if is_out_of_files(cause) => MORE_FILES,
        _ => "",
    }
}

const MORE_FILES: &str = ": let this program have more, with \"ulimit -n 4096\" before it";

fn thread_hint(cause: &io::Error) -> &'static str {
    if is_out_of_files(cause) { MORE_FILES } else { ": close other programs" }
}

/// Looks a host up; without one, every own address is meant.
pub(super) async fn resolve(host: Option<&str>, port: u16) -> Result<SocketAddr, WayCause> {
    let Some(host) = host else { return Ok((IpAddr::from([0, 0, 0, 0]), port).into()) };
    let mut found = tokio::net::lookup_host((host, port)).await.map_err(|e| WayCause::Name(host.to_owned(), e))?;
    found.next().ok_or_else(|| WayCause::Name(host.to_owned(), io::Error::other("it has no address")))
}
