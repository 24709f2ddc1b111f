//! Every picture of one line, decoded as it comes: for whoever steers its camera.

use super::reader::{Follows, Reader};
use crate::{
    inner::Inner,
    media::RecentSent,
    still::{Decoder, Still},
};
use choir_core::id::LineId;
use std::{
    io,
    panic::{AssertUnwindSafe, catch_unwind},
    sync::Weak,
    thread,
    time::Duration,
};
use tokio::sync::watch;

/// The last picture of what has come.
fn newest(reader: &mut Reader, decoder: &mut Option<Decoder>, recent: RecentSent, fit: (usize, usize)) -> Option<Still> {
    let (follows, units) = reader.follow(recent);
    if follows != Follows::On {
        // It begins with a keyframe.
        *decoder = None;
    }
    let pictures: Vec<_> = units.iter().filter(|u| u.kind.is_video()).collect();
    let (last, passed) = pictures.split_last()?;
    let decoder = decoder.get_or_insert_with(|| Decoder::new(last.kind));
    passed.iter().for_each(|u| decoder.pass(u));
    decoder.decode(last, Some(fit))
}

/// Decodes a line's pictures as they come, and shows the newest each so often, no larger than
/// `fit`, as long as somebody looks.
pub(crate) fn watch(show: Weak<Inner>, line: LineId, fit: (usize, usize), every: Duration) -> io::Result<watch::Receiver<Option<Still>>> {
    let (tx, rx) = watch::channel(None);
    let run = move || {
        let (mut reader, mut decoder) = (Reader::default(), None);
        while !tx.is_closed() {
            let Some(run) = show.upgrade().and_then(|s| s.line(line).ok()) else { return };
            let recent = run.media.since(reader.place());
            drop(run);
            match catch_unwind(AssertUnwindSafe(|| newest(&mut reader, &mut decoder, recent, fit))) {
                Ok(Some(still)) => drop(tx.send_replace(Some(still))),
                Ok(None) => {}
                Err(_) => (reader, decoder) = (Reader::default(), None),
            }
            thread::sleep(every);
        }
    };
    thread::Builder::new().name("picture".into()).spawn(run)?;
    Ok(rx)
}
