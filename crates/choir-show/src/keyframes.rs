//! Keyframes are asked for against the stream. A take asks the source of its line: on the way itself, where that has words for it
//! (RTCP, Stave), else the device by ONVIF. Receivers of a feed ask the source of the line that is on.

use crate::media::FeedMedia;
use choir_core::{
    device::{Control, Device},
    sheet::Sheet,
};
use choir_devices::{
    device::{DeviceError, session},
    onvif::{OnvifError, StreamProfile},
};
use choir_host::Stop;
use choir_ports::LinkStatus;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};
use tokio::{sync::watch, task::JoinHandle};

/// The ways in of all lines, by number.
pub(super) type LineStatuses = Arc<[Arc<LinkStatus>]>;

/// Hands on what the receivers of one way out of a feed ask for.
pub(super) fn pass_on(media: &Arc<FeedMedia>, out: &LinkStatus, lines: &LineStatuses, stop: &Stop) -> JoinHandle<()> {
    let (mut asks, media, lines, mut stop) = (out.keyframe_asks(), media.clone(), lines.clone(), stop.clone());
    tokio::spawn(async move {
        while asked(&mut asks, &mut stop).await {
            if let Some(line) = lines.get(media.reading().line() as usize) {
                line.ask_keyframe();
            }
        }
    })
}

/// Waits for the next question; false when stopped.
async fn asked(asks: &mut watch::Receiver<u64>, stop: &mut Stop) -> bool {
    tokio::select! {
        asked = asks.changed() => asked.is_ok(),
        () = stop.wait() => false,
    }
}

/// The device that makes a line's stream, which can be asked by ONVIF.
pub(super) struct AskedByOnvif {
    device: Device,
    stream: String,
    base: PathBuf,
    status: Arc<LinkStatus>,
}

impl AskedByOnvif {
    /// Of a line of the sheet, if it has such a device.
    pub fn of(sheet: &Sheet, line: &str, base: &Path, status: &Arc<LinkStatus>) -> Option<Self> {
        let (device, stream, _) = sheet.source_of(line).filter(|(d, ..)| d.control == Control::Onvif)?;
        status.set_asks_device(true);
        Some(Self { device: device.clone(), stream: stream.to_owned(), base: base.to_owned(), status: status.clone() })
    }

    /// Asks whenever a keyframe is wanted that cannot be asked for on the way.
    pub fn spawn(self, mut stop: Stop) -> JoinHandle<()> {
        tokio::spawn(async move {
            let mut asks = self.status.keyframe_asks();
            let mut open = None;
            while asked(&mut asks, &mut stop).await {
                if self.status.asks_keyframes() {
                    continue;
                }
                let done = tokio::select! {
                    done = self.ask(&mut open) => done,
                    () = stop.wait() => return,
                };
                if let Err(e) = done {
                    open = None;
                    self.status.note(true, format!("a keyframe cannot be asked for by ONVIF: {e}"));
                    // It will not do so later either; and devices lock themselves after some wrong passwords.
                    if matches!(&e, DeviceError::Onvif(o) if o.is_unknown_action() || matches!(o, OnvifError::Login { .. } | OnvifError::NoLogin { .. }))
                    {
                        return self.status.set_asks_device(false);
                    }
                }
            }
        })
    }

    async fn ask(&self, open: &mut Option<StreamProfile>) -> Result<(), DeviceError> {
        let profile = match open {
            Some(profile) => profile,
            None => open.insert(StreamProfile::find(session(&self.device, &self.base).await?, &self.stream).await?),
        };
        Ok(profile.ask_keyframe().await?)
    }
}
