//! Keyframes are asked for against the stream. A take asks the source of its line: on the link
//! itself, where that has words for it (RTCP, Stave), else the device by ONVIF. Receivers of a feed
//! ask the source of the line that is on.

use crate::{
    feed::{FeedRun, OutRun},
    inner::Inner,
};
use choir_core::{device::Device, facts::Notice};
use choir_devices::{
    device::{DeviceError, session},
    onvif::{OnvifError, StreamProfile},
};
use choir_host::Stop;
use choir_ports::LinkStatus;
use std::{
    path::PathBuf,
    sync::{Arc, Weak},
};
use tokio::sync::watch;

/// Hands on what the receivers of one way out of a feed ask for.
pub(crate) fn pass_on(show: Weak<Inner>, feed: Arc<FeedRun>, out: &OutRun, mut stop: Stop) -> impl Future<Output = ()> + use<> {
    let (mut requests, encoding) = (out.status.control.keyframe_requests(), out.encoding.clone());
    async move {
        while asked(&mut requests, &mut stop).await {
            if let Some(encoding) = &encoding {
                encoding.request_keyframe();
                continue;
            }
            let Some(show) = show.upgrade() else { return };
            if let Some(line) = feed.media.reading().line().and_then(|l| show.line(l).ok()) {
                line.status.control.request_keyframe();
            }
        }
    }
}

/// Waits for the next request; false when stopped.
async fn asked(requests: &mut watch::Receiver<u64>, stop: &mut Stop) -> bool {
    tokio::select! {
        asked = requests.changed() => asked.is_ok(),
        () = stop.wait() => false,
    }
}

/// The device that makes a line's stream, which can be asked by ONVIF.
pub(crate) struct AskedByOnvif {
    pub device: Device,
    pub stream: String,
    pub base: PathBuf,
    pub status: Arc<LinkStatus>,
}

impl AskedByOnvif {
    /// Asks whenever a keyframe is wanted that cannot be asked for on the link.
    pub async fn follow(self, mut stop: Stop) {
        let control = &self.status.control;
        control.set_device_takes_requests(true);
        let mut requests = control.keyframe_requests();
        let mut open = None;
        while asked(&mut requests, &mut stop).await {
            if control.link_takes_requests() {
                continue;
            }
            let done = tokio::select! {
                done = self.ask(&mut open) => done,
                () = stop.wait() => break,
            };
            if let Err(e) = done {
                open = None;
                self.status.note(Notice::KeyframeFailed(e.to_string()));
                // It will not do so later either; and devices lock themselves after some wrong
                // passwords.
                if matches!(&e, DeviceError::Onvif(o) if o.is_unknown_action() || matches!(o, OnvifError::Login { .. } | OnvifError::NoLogin { .. }))
                {
                    break;
                }
            }
        }
        control.set_device_takes_requests(false);
        // As long as the sheet has this device it is not tried anew.
        stop.wait().await;
    }

    async fn ask(&self, open: &mut Option<StreamProfile>) -> Result<(), DeviceError> {
        let profile = match open {
            Some(profile) => profile,
            None => open.insert(StreamProfile::find(session(&self.device, &self.base).await?, &self.stream).await?),
        };
        Ok(profile.ask_keyframe().await?)
    }
}
