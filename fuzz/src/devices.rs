//! A camera by VISCA that answers anything.

use crate::{bounded, pieces, start};
use choir_proto::visca::{Ask, Carrier, Controller};
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
