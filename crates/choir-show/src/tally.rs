//! Tally goes against the stream, at once: what the receivers of a feed show is what the source of its line is told.

use crate::media::FeedMedia;
use choir_host::Stop;
use choir_ports::LinkStatus;
use std::sync::Arc;
use tokio::{
    sync::{Notify, watch},
    task::{JoinHandle, JoinSet},
};

/// One feed: its media, and its ways out.
pub(super) type Shown = (Arc<FeedMedia>, Vec<Arc<LinkStatus>>);

/// Rings one bell for changes of many things; they are heard until it is dropped.
#[derive(Default)]
pub(super) struct Bell {
    rung: Arc<Notify>,
    ears: JoinSet<()>,
}

impl Bell {
    pub fn hear<T: Send + Sync + 'static>(&mut self, mut what: watch::Receiver<T>) {
        let rung = self.rung.clone();
        self.ears.spawn(async move {
            while what.changed().await.is_ok() {
                rung.notify_one();
            }
        });
    }

    /// Waits for a change since the last time. Safe to cancel.
    pub async fn rung(&self) {
        self.rung.notified().await;
    }
}

/// Keeps the tally of every line as its feeds have it.
pub(super) fn spawn(feeds: Vec<Shown>, lines: Vec<Arc<LinkStatus>>, mut stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let mut bell = Bell::default();
        for (media, outs) in &feeds {
            bell.hear(media.cuts());
            outs.iter().for_each(|out| bell.hear(out.tally()));
        }
        loop {
            settle(&feeds, &lines);
            tokio::select! {
                () = bell.rung() => {}
                () = stop.wait() => return,
            }
        }
    })
}

fn settle(feeds: &[Shown], lines: &[Arc<LinkStatus>]) {
    for (n, line) in lines.iter().enumerate() {
        let outs = feeds.iter().filter(|(media, _)| media.reading().line() as usize == n).flat_map(|(_, outs)| outs);
        line.set_tally(outs.filter_map(|out| *out.tally().borrow()).max());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;
    use choir_core::view::TallyView;
    use choir_ports::Intake;

    #[tokio::test]
    async fn a_line_is_told_the_strongest_of_its_feeds_and_loses_it_with_the_take() {
        let media = [FeedMedia::new(0, Vec::new()), FeedMedia::new(0, Vec::new())];
        let outs = [LinkStatus::new(""), LinkStatus::new("")];
        let lines = vec![LinkStatus::new(""), LinkStatus::new("")];
        let (_end, stop) = Stop::new();
        let feeds = media.iter().cloned().zip(outs.iter().map(|o| vec![o.clone()])).collect();
        spawn(feeds, lines.clone(), stop);
        let mut told = [lines[0].tally(), lines[1].tally()];
        outs[0].set_tally(Some(TallyView::Next));
        told[0].wait_for(|t| *t == Some(TallyView::Next)).await.expect("told");
        outs[1].set_tally(Some(TallyView::OnAir));
        told[0].wait_for(|t| *t == Some(TallyView::OnAir)).await.expect("told");
        assert_eq!(*told[1].borrow(), None);
        // Another line comes on the feed that is on air.
        media[1].take(1);
        let line = crate::media::LineMedia::new(1);
        line.attach(media[1].clone());
        line.push(1, Bytes::from(vec![0x47; 188]));
        told[1].wait_for(|t| *t == Some(TallyView::OnAir)).await.expect("told");
        assert_eq!(*told[0].borrow(), Some(TallyView::Next));
        outs[1].set_tally(None);
        told[1].wait_for(Option::is_none).await.expect("told");
    }
}
