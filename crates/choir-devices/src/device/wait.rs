//! Restarting a device and waiting for it: it must first be seen to go.

use super::DeviceError;
use crate::onvif::{Session, Which};
use choir_proto::onvif::device;
use std::{
    net::SocketAddr,
    time::{Duration, Instant},
};

/// Between two looks.
const LOOK_EVERY: Duration = Duration::from_millis(200);
/// Devices take some seconds from the order to going.
const GO_PATIENCE: Duration = Duration::from_secs(20);
/// And this long to come back at worst.
const BACK_PATIENCE: Duration = Duration::from_secs(150);

/// Asks it to restart and waits until it is back; gives how long it was gone.
///
/// # Errors
/// It refuses, does not go, or does not come back.
pub async fn restart(s: &mut Session) -> Result<Duration, DeviceError> {
    let at = s.at();
    s.call(Which::Device, &device::restart()).await?;
    let start = Instant::now();
    while Session::is_there(at).await.is_ok() {
        if start.elapsed() > GO_PATIENCE {
            return Err(DeviceError::Gone(format!("{at}: the device took the order to restart, and is still there after 20 s")));
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
    appears(at, start).await
}

/// Waits until a device that was told to go to another address answers there.
///
/// # Errors
/// It does not, or it still answers where it was.
pub(super) async fn moves(from: SocketAddr, to: SocketAddr, start: Instant) -> Result<Duration, DeviceError> {
    if from == to {
        return appears(to, start).await;
    }
    tokio::select! {
        came = appears(to, start) => came,
        () = stays(from, start) => Err(DeviceError::Gone(format!(
            "the device said that it takes the address {}, and {} s later still answers at {from}: it has not moved, and the sheet keeps its \
             old address. Perhaps it wants a restart (\"choir device restart\"), or is set to DHCP on its own page",
            to.ip(),
            GO_PATIENCE.as_secs()
        ))),
    }
}

/// Ends when a device still answers after the time in which it should have gone.
async fn stays(at: SocketAddr, start: Instant) {
    tokio::time::sleep_until((start + GO_PATIENCE).into()).await;
    // Gone, or just about to go: only one that answers twice stays.
    for _ in 0..2 {
        if Session::is_there(at).await.is_err() {
            return std::future::pending().await;
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
}

/// Waits until something answers; gives the time since `start`.
///
/// # Errors
/// Nothing does.
pub(super) async fn appears(at: SocketAddr, start: Instant) -> Result<Duration, DeviceError> {
    while Session::is_there(at).await.is_err() {
        if start.elapsed() > BACK_PATIENCE {
            return Err(DeviceError::Gone(format!(
                "{at}: the device has not come back within {} s: look at its lamps, and run \"choir find\"",
                BACK_PATIENCE.as_secs()
            )));
        }
        tokio::time::sleep(LOOK_EVERY).await;
    }
    Ok(start.elapsed())
}
