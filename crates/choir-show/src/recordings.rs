//! Which lines and feeds of the show are recorded.

use crate::{
    inner::Inner,
    media::FeedMedia,
    record::{Source, Tell},
};
use choir_core::{
    command::{By, Done, Refusal},
    facts::{EventKind, RecordingStep},
    id::Subject,
    model::{RecordPlan, RecordSettings},
    words::Names as _,
};
use choir_host::lock;
use choir_ports::{AnyOutlet, Outlet};
use std::sync::Arc;

impl Inner {
    /// Begins to record a line or a feed.
    pub fn record(self: &Arc<Self>, by: By, subject: Subject, settings: &RecordSettings) -> Result<Done, Refusal> {
        let name = self.names.name(subject);
        if self.recorder.has(subject) {
            return Err(Refusal::Recorded(name));
        }
        let folder = self.base.join(&settings.folder);
        let show = Arc::downgrade(self);
        let tell: Tell = Arc::new(move |subject, step| {
            if let Some(show) = show.upgrade() {
                show.tell_recording(subject, step);
            }
        });
        if !self.recorder.begin(subject, &name, &folder, settings, self.source(subject)?, tell) {
            return Err(Refusal::Recorded(name));
        }
        self.tell_recording(subject, RecordingStep::Begun { folder: folder.clone(), by });
        Ok(Done::Recording { subject, folder })
    }

    /// Begins what the sheet has recorded from now on, and ends what it no longer has.
    pub async fn keep_recordings(self: &Arc<Self>, plan: &RecordPlan) {
        let wanted: Vec<Subject> = plan.start.iter().filter_map(|name| self.names.find_subject(name).ok()).collect();
        let before = std::mem::replace(&mut *lock(&self.recorded_by_sheet), wanted.clone());
        let over: Vec<Subject> = before.iter().filter(|s| !wanted.contains(s) && self.recorder.has(**s)).copied().collect();
        if !over.is_empty() {
            // They are there: they were looked up just now.
            let _ = self.end_recordings(Some(&over)).await;
        }
        for subject in wanted.into_iter().filter(|s| !before.contains(s) && !self.recorder.has(*s)) {
            let _ = self.record(By::Sheet, subject, &plan.settings);
        }
    }

    fn source(&self, subject: Subject) -> Result<Source, Refusal> {
        let outlet = Outlet::new();
        let any = AnyOutlet::Ts(outlet.clone());
        let detach: Box<dyn FnOnce() + Send> = match subject {
            Subject::Line(id) => {
                // A feed that nobody else sees, and that carries this line for ever.
                let (line, media) = (self.line(id)?, FeedMedia::new(Some(id), Arc::default()));
                media.add_out(any);
                line.media.attach(media.clone());
                Box::new(move || line.media.detach(&media))
            }
            Subject::Feed(id) => {
                let feed = self.feed(id)?;
                feed.media.add_out(any.clone());
                Box::new(move || feed.media.remove_out(&any))
            }
            _ => return Err(Refusal::Removed),
        };
        Ok(Source { outlet, detach })
    }

    /// Ends recordings, and waits until they are on the disk; all of them where none is named.
    pub async fn end_recordings(&self, subjects: Option<&[Subject]>) -> Result<Done, Refusal> {
        if let Some(missing) = subjects.into_iter().flatten().find(|s| !self.recorder.has(**s)) {
            return Err(Refusal::NotRecorded(self.names.name(*missing)));
        }
        let ended = self.recorder.end(subjects).await;
        for (subject, files, bytes) in &ended {
            self.tell_recording(*subject, RecordingStep::Ended { files: *files, bytes: *bytes });
        }
        Ok(Done::RecordingsEnded(ended.len()))
    }

    fn tell_recording(&self, subject: Subject, step: RecordingStep) {
        self.bus.event(subject, EventKind::Recording(step));
        self.changed.notify_one();
    }
}
