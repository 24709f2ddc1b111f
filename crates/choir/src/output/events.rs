//! Events as lines on stderr, while there is no live view.

use super::clock;
use choir_core::view::{EventGrade, EventView};
use choir_net::show::Show;

/// One event as one line.
pub fn line(e: &EventView) -> String {
    let mark = match e.grade {
        EventGrade::Note => ' ',
        EventGrade::Good => '+',
        EventGrade::Warning => '!',
        EventGrade::Trouble => '#',
    };
    format!("{} {mark} {}: {}", clock(e.at_ms), e.subject, e.text)
}

/// Prints events as they happen, until the show is gone.
pub async fn follow(show: &Show) {
    let mut bell = show.event_bell();
    let mut last = 0;
    loop {
        for event in show.events_after(last) {
            eprintln!("{}", line(&event));
            last = event.number;
        }
        if bell.changed().await.is_err() {
            return;
        }
    }
}
