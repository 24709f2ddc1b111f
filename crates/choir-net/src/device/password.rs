//! Changing a device's password: set, then proved with a session of its own.

use super::DeviceError;
use crate::onvif::{Session, Which};
use choir_proto::onvif::device;

/// Gives the session's user another password and proves that it holds.
///
/// # Errors
/// The device refuses it, or does not take it afterwards.
pub async fn change_password(s: &mut Session, new: &str) -> Result<(), DeviceError> {
    let Some(credentials) = s.credentials().cloned() else {
        return Err(DeviceError::Cannot("the device's entry in the sheet has no user whose password could be changed: add user".into()));
    };
    let users = s.call(Which::Device, &device::get_users()).await?;
    let level = device::read_level(&users, &credentials.user)
        .ok_or_else(|| DeviceError::Cannot(format!("the device has no user \"{}\"", credentials.user)))?;
    s.call(Which::Device, &device::set_password(&credentials.user, new, &level)).await?;
    Session::open(s.at().ip(), Some(s.at().port()), Some(credentials.with_password(new))).await?;
    Ok(())
}
