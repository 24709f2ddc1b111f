//! Devices of the sheet: read, compared, set, moved and proved on the wire.

mod address;
mod apply;
mod password;
mod proof;
mod wait;

pub use address::{AddressError, free_and_reachable, move_to};
pub use apply::{Failed, Plan, Progress, Report, Step, carry_out, plan};
pub use password::{change_password, session_to_change};
pub use proof::{Joined, Measure, Proof};
pub use wait::restart;

use crate::{
    discover::CannotFollow,
    onvif::{OnvifError, Session, read_device},
    visca::{Visca, ViscaError},
};
use choir_core::device::{Control, Device, DeviceView};
use choir_host::secrets::{SecretError, fetch_text};
use choir_proto::{auth::Credentials, visca::Ask};
use std::path::Path;

/// Why a device could not be dealt with.
#[derive(Debug, thiserror::Error)]
pub enum DeviceError {
    /// By ONVIF.
    #[error(transparent)]
    Onvif(#[from] OnvifError),
    /// By VISCA.
    #[error(transparent)]
    Visca(#[from] ViscaError),
    /// Its password cannot be had.
    #[error(transparent)]
    Secret(#[from] SecretError),
    /// An address cannot be given.
    #[error(transparent)]
    Address(#[from] AddressError),
    /// Its new address could not be found out.
    #[error(transparent)]
    Follow(#[from] CannotFollow),
    /// Its protocol cannot do it.
    #[error("{0}")]
    Cannot(String),
    /// A password was refused: whose, and what holds now.
    #[error("{0}")]
    Password(String),
    /// It did not come back.
    #[error("{0}")]
    Gone(String),
}

/// User and password of a device. Relative paths count from `base`.
///
/// # Errors
/// The password is not where the sheet says.
pub fn credentials_of(device: &Device, base: &Path) -> Result<Option<Credentials>, SecretError> {
    let Some(user) = &device.user else { return Ok(None) };
    let password = device.password.as_ref().map(|p| fetch_text(p, base)).transpose()?;
    Ok(Some(Credentials::new(user, password.as_ref().map_or("", |p| p.reveal()))))
}

/// Opens an ONVIF session with a device of the sheet.
///
/// # Errors
/// Its password cannot be had, or the device refuses.
pub async fn session(device: &Device, base: &Path) -> Result<Session, DeviceError> {
    let credentials = credentials_of(device, base)?;
    Ok(Session::open(device.address, device.port, credentials).await?)
}

/// Everything that a device says of itself.
///
/// # Errors
/// It cannot be asked.
pub async fn look_at(device: &Device, base: &Path) -> Result<DeviceView, DeviceError> {
    match device.control {
        Control::Onvif => Ok(read_device(&mut session(device, base).await?, &device.name, &device.title).await?.0),
        Control::Manual => Err(DeviceError::Cannot(format!(
            "{} has control = \"manual\": it cannot be asked. \"choir device apply {}\" prints what to set by hand, and proves it on the wire",
            device.name, device.name
        ))),
        visca => {
            let camera = Visca::open(device.address, device.port, visca, device.camera).await?;
            let v = camera.ask(Ask::Version).await?;
            let n = |i: usize| v.get(i..i + 2).map_or(0, |b| u16::from_be_bytes([b[0], b[1]]));
            Ok(DeviceView {
                name: device.name.clone(),
                title: device.title.clone(),
                address: camera.at().to_string(),
                control: visca.word().into(),
                maker: format!("number {:04X}", n(0)),
                model: format!("number {:04X}", n(2)),
                firmware: format!("{:04X}", n(4)),
                login: "none: VISCA knows no password".into(),
                steered: true,
                ..DeviceView::default()
            })
        }
    }
}
