//! A camera by VISCA that answers anything.

use super::{bounded, pieces, start};
use choir_proto::{
    onvif::{device, discovery, media, ptz, soap, xml},
    visca::{self, Ask, Carrier, Controller},
};
use std::time::Duration;

/// Answers, by both ways to carry them.
pub fn controller(data: &[u8]) {
    for carrier in [Carrier::Ip, Carrier::Raw] {
        let mut now = start();
        let mut camera = Controller::new(carrier, 1, now);
        for piece in pieces(data) {
            if let Some((_, ask)) = Ask::read(piece) {
                camera.ask(now, ask);
            }
            camera.handle_message(now, piece);
            now += Duration::from_millis(50);
            camera.handle_timeout(now);
            let mut sent = 0;
            while camera.poll_transmit().is_some() {
                sent += 1;
                bounded(sent, 64);
            }
            while camera.poll_outcome().is_some() {}
        }
    }
}

/// All of it.
pub fn entry(data: &[u8]) {
    let _ = (xml::read(data), discovery::read_probe(data));
    bounded(discovery::read_announcements(data).len(), 32);
    if let Ok(answer) = soap::read_answer(data) {
        let _ = (device::read_identity(&answer), device::read_clock(&answer), device::read_services(&answer));
        let _ = (device::read_capabilities(&answer), device::read_network(&answer), device::read_gateway(&answer));
        for version in [media::Media::One, media::Media::Two] {
            bounded(media::read_profiles(version, &answer).len(), 64);
            let _ = media::read_options(version, &answer);
        }
        let _ = (media::read_inputs(&answer), media::read_audio_encoders(&answer), media::read_stream_url(&answer));
        bounded(ptz::read_presets(&answer).len(), 512);
        let _ = (ptz::read_status(&answer), ptz::read_picture_moves(&answer));
    }
    let _ = (visca::Ask::read(data), visca::Reply::read(data), visca::Header::read(data));
    visca::Stream::default().push(data, |message| bounded(message.len(), visca::wire::MESSAGE_MAX));
    controller(data);
}
