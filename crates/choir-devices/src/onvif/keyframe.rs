//! Asks a device for a keyframe of one of its streams.

use super::{
    OnvifError, Session, Which,
    read::{media_of, stream_profiles},
};
use choir_core::device::STREAMS;
use choir_proto::onvif::media::{self, Media};

/// One stream of a device with which a session is open.
#[derive(Debug)]
pub struct StreamProfile {
    session: Session,
    media: (Media, Which),
    token: String,
}

impl StreamProfile {
    /// Finds the stream of this name, `main` or `sub`.
    ///
    /// # Errors
    /// The device refuses or goes, or has no such stream.
    pub async fn find(mut session: Session, stream: &str) -> Result<Self, OnvifError> {
        let media = media_of(&session);
        let profiles = stream_profiles(&mut session).await?;
        let place = STREAMS.iter().position(|s| *s == stream).unwrap_or_default();
        let profile = profiles.into_iter().nth(place);
        let profile = profile.ok_or_else(|| OnvifError::NoService { at: session.at(), what: "such stream" })?;
        Ok(Self { session, media, token: profile.token })
    }

    /// Asks for a keyframe (ONVIF Media Service, `SetSynchronizationPoint`).
    ///
    /// # Errors
    /// The device refuses, goes, or cannot do it.
    pub async fn ask_keyframe(&mut self) -> Result<(), OnvifError> {
        let (m, which) = self.media;
        self.session.call(which, &media::set_synchronization_point(m, &self.token)).await.map(drop)
    }
}
