//! Drivers: sockets, clocks and files round the engines of `choir-proto`, and the running show.
//!
//! ```text
//! socket → port (srt | rtsp | rtp | udp | file) → Line (meters) → Feed (chooses, splices) → Outlet → port → socket
//!                                       └→ health → ShowView → live view, status, JSON
//! ```
//!
//! | module | holds |
//! |---|---|
//! | [`port`] | ways in and out: one task per socket, which serves every link on it |
//! | [`media`] | lines and feeds: metering, splicing, handing on; no task of their own |
//! | [`show`] | a running show: plan, states, events, commands |
//! | [`control`] | the local control socket of a running show, and its client |
//! | [`inspect`] | a look of some seconds at one source |
//! | [`discover`] | finding devices: listening, asking all, a paced sweep |
//! | [`onvif`], [`visca`] | speaking with one device |
//! | [`device`] | comparing, setting, moving and proving devices |
//! | [`ptz`] | steering, the same by either protocol |
//! | [`linecheck`], [`still`] | the check of every line before the show, and its pictures |
//! | [`stave`] | named sources on the LAN: offering, taking, finding |
//! | [`survey`] | measuring a path to another Cable Choir |
//! | [`secrets`] | fetching passphrases from files and the environment |

pub mod clock;
pub mod control;
mod defects;
pub mod device;
pub mod discover;
pub mod http;
pub mod inspect;
pub mod linecheck;
pub mod media;
pub mod onvif;
pub mod port;
pub mod ptz;
pub mod secrets;
pub mod show;
pub mod stave;
pub mod still;
pub mod survey;
pub mod visca;

use std::{
    io,
    sync::{Mutex, MutexGuard, PoisonError},
};

/// Random bytes from the system, for keys and whatever else nobody may guess.
///
/// # Errors
/// The system gives none.
pub(crate) fn secret_random<const N: usize>() -> io::Result<[u8; N]> {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).map_err(|e| io::Error::other(format!("the system gives no random numbers: {e}")))?;
    Ok(bytes)
}

/// Random bytes for numbers that need only differ from those of others, as stream identifiers do.
pub(crate) fn random<const N: usize>() -> [u8; N] {
    secret_random().unwrap_or([0; N])
}

/// Locks; a panic elsewhere must not take the show down with it.
pub(crate) fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}
