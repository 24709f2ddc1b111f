//! Changing a device's password: set, then proved with a session of its own. Each refusal says
//! whose password it was.

use super::{DeviceError, session};
use crate::onvif::{OnvifError, Session, Which};
use choir_core::device::Device;
use choir_proto::onvif::device;
use std::path::Path;

/// A session in which the password can be changed.
///
/// # Errors
/// As [`session`]; a refusal says that it was the present password.
pub async fn session_to_change(device: &Device, base: &Path) -> Result<Session, DeviceError> {
    let user = device.user.as_deref().unwrap_or_default();
    session(device, base).await.map_err(|e| match e {
        DeviceError::Onvif(e) => of_present(user, e),
        e => e,
    })
}

fn of_present(user: &str, e: OnvifError) -> DeviceError {
    match e {
        OnvifError::Login { .. } => DeviceError::Password(format!(
            "the present password of {user}, which the sheet gives, was refused; nothing was changed. It was tried once: correct it in \
             the sheet first, since devices lock themselves after some wrong tries"
        )),
        e => e.into(),
    }
}

/// Gives the session's user another password and proves that it holds.
///
/// # Errors
/// The device refuses the present or the new password, or does not take the new one afterwards.
pub async fn change_password(s: &mut Session, new: &str) -> Result<(), DeviceError> {
    let Some(credentials) = s.credentials().cloned() else {
        return Err(DeviceError::Cannot("the device's entry in the sheet has no user whose password could be changed: add user".into()));
    };
    let user = credentials.user.clone();
    let users = s.call(Which::Device, &device::get_users()).await.map_err(|e| of_present(&user, e))?;
    let level = device::read_level(&users, &user).ok_or_else(|| DeviceError::Cannot(format!("the device has no user \"{user}\"")))?;
    match s.call(Which::Device, &device::set_password(&user, new, &level)).await {
        Ok(_) => {}
        Err(OnvifError::Fault { fault, .. }) => {
            return Err(DeviceError::Password(format!(
                "the device refused the new password of {user} ({fault}); the old password still applies"
            )));
        }
        Err(e) => return Err(of_present(&user, e)),
    }
    let at = s.at();
    // The list of users is told to nobody who has not proved a password.
    let again = async |c| Session::open(at.ip(), Some(at.port()), Some(c)).await?.call(Which::Device, &device::get_users()).await;
    match again(credentials.with_password(new)).await {
        Ok(_) => Ok(()),
        Err(OnvifError::Login { .. }) => Err(DeviceError::Password(match again(credentials).await {
            Ok(_) => format!("the device reported the new password of {user} as set, but the old password still applies"),
            Err(_) => format!(
                "the device said that it took the new password of {user}, and now takes neither: it may need a minute or a restart; do not \
                 try often"
            ),
        })),
        Err(e) => Err(DeviceError::Password(format!("the new password of {user} was set, and could not be proved: {e}"))),
    }
}
