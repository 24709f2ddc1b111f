//! Reading the sheet again while the show runs: only what differs is changed.

use crate::{
    build::OpenError,
    feed::{FeedRun, OutRun},
    line::LineRun,
    show::{Inner, Show},
};
use choir_core::{
    command::{By, Refusal},
    facts::EventKind,
    finding::Grade,
    id::Subject,
    sheet::{Change, Difference, Sheet, read_sheet},
};
use choir_host::lock;
use std::{
    path::Path,
    sync::{Arc, PoisonError},
};

impl Show {
    /// Says which file its sheet is, so that it can be read again.
    pub fn set_file(&self, file: &Path) {
        *lock(&self.0.file) = Some(file.to_owned());
    }

    /// Reads the sheet again and applies what differs.
    pub(crate) async fn reload(&self) -> Result<Change, Refusal> {
        let file = lock(&self.0.file).clone().ok_or(Refusal::NoFile)?;
        let read = match tokio::fs::read_to_string(&file).await {
            Ok(text) => checked(&text, &file),
            Err(e) => Err(format!("{}: {e}", file.display())),
        };
        let result = match read {
            Ok(sheet) => self.apply(&sheet).await.map_err(|e| e.to_string()),
            Err(why) => Err(why),
        };
        match result {
            Ok(change) => Ok(change),
            Err(why) => {
                self.0.bus.event(Subject::Show, EventKind::ReloadFailed(why.clone()));
                Err(Refusal::Sheet(why))
            }
        }
    }

    /// Applies what differs in another sheet.
    ///
    /// # Errors
    /// Something new cannot be opened: then nothing has changed, apart from ways that had to be closed first, which are open again.
    pub async fn apply(&self, new: &Sheet) -> Result<Change, OpenError> {
        let inner = &self.0;
        let _one = inner.reloading.lock().await;
        let old = lock(&inner.sheet).clone();
        let change = old.change_to(new);
        if change.is_empty() {
            return Ok(change);
        }
        inner.join_stave(new).await?;
        *lock(&inner.sheet) = Sheet {
            stave: old.stave.clone(),
            show: choir_core::sheet::Show { name: old.show.name.clone(), ..new.show.clone() },
            ..new.clone()
        };
        if let Err(e) = inner.apply(&change, new).await {
            *lock(&inner.sheet) = old.clone();
            // Back to what ran: what differs the other way round.
            let back = inner.running_difference(&old);
            if let Err(worse) = inner.apply(&back, &old).await {
                tracing::warn!(cause = %worse, "a reload that failed could not be undone");
            }
            inner.refresh();
            return Err(e);
        }
        inner.bus.event(Subject::Show, EventKind::Reloaded(change.clone()));
        inner.tally_changed.notify_one();
        inner.refresh();
        Ok(change)
    }
}

/// A sheet without errors, or what is wrong with it.
fn checked(text: &str, file: &Path) -> Result<Sheet, String> {
    let (sheet, findings) = read_sheet(text);
    let name = file.display().to_string();
    let errors: Vec<String> = findings.iter().filter(|f| f.grade == Grade::Error).map(|f| f.in_file(&name).to_string()).collect();
    match sheet {
        Some(sheet) if errors.is_empty() => Ok(sheet),
        _ => Err(errors.join("; ")),
    }
}

impl Inner {
    /// What must be done so that what runs is as the sheet has it.
    fn running_difference(&self, sheet: &Sheet) -> Change {
        let mut running = sheet.clone();
        running.lines = self.lines().iter().map(|l| lock(&l.entry).clone()).collect();
        running.feeds = self
            .feeds()
            .iter()
            .map(|f| {
                let mut entry = lock(&f.entry).clone();
                entry.to = f.outs().iter().filter(|o| lock(&o.way).is_some()).map(|o| o.link.clone()).collect();
                entry
            })
            .collect();
        let mut change = running.change_to(sheet);
        // A line whose way could not be opened is as the sheet has it, and not open.
        for line in self.lines().iter().filter(|l| lock(&l.way).is_none()) {
            let name = lock(&line.entry).name.clone();
            if sheet.line(&name).is_some() && !change.0.iter().any(|d| matches!(d, Difference::LineReopened { line, .. } if *line == name))
            {
                change.0.push(Difference::LineReopened { line: name, url: String::new() });
            }
        }
        change
    }

    async fn apply(self: &Arc<Self>, change: &Change, new: &Sheet) -> Result<(), OpenError> {
        // What goes makes room for what comes: ports and Stave names may change hands.
        for d in &change.0 {
            match d {
                Difference::OutRemoved { feed, .. } => self.remove_outs(feed, new).await,
                Difference::FeedRemoved(name) => self.remove_feed(name).await,
                _ => {}
            }
        }
        for d in &change.0 {
            match d {
                Difference::LineReopened { line, .. } => {
                    if let Some(run) = self.line_run(line) {
                        crate::build::close(&run.way).await;
                        run.status.reset();
                    }
                }
                Difference::LineRemoved(name) => self.leave_line(name, new),
                _ => {}
            }
        }
        for d in &change.0 {
            if let Difference::LineRemoved(name) = d
                && let Some(run) = self.line_run(name)
            {
                self.close_line(&run).await;
                self.lines.write().unwrap_or_else(PoisonError::into_inner).retain(|l| l.id != run.id);
            }
        }
        for d in &change.0 {
            match d {
                Difference::LineAdded(name) => self.add_line(name, new).await?,
                Difference::LineReopened { line, .. } => self.reopen_line(line, new).await?,
                Difference::LineChanged(name) => {
                    if let (Some(run), Some(entry)) = (self.line_run(name), new.line(name)) {
                        run.set_entry(entry.clone());
                    }
                }
                _ => {}
            }
        }
        for d in &change.0 {
            match d {
                Difference::FeedAdded(name) => self.add_feed(name, new).await?,
                Difference::OutAdded { feed, .. } => self.add_outs(feed, new).await?,
                _ => {}
            }
        }
        for entry in &new.feeds {
            if let Some(run) = self.feed_run(&entry.name) {
                *lock(&run.entry) = entry.clone();
            }
        }
        for d in &change.0 {
            if let Difference::FeedLine { feed, line } = d
                && let (Some(feed), Some(line)) = (self.feed_run(feed), self.line_id(line))
            {
                // Both are here: they were looked up just now.
                let _ = self.take(By::Sheet, feed.id, line);
            }
        }
        self.in_order(new);
        self.side.follow(self);
        Ok(())
    }

    fn line_run(&self, name: &str) -> Option<Arc<LineRun>> {
        self.lines().into_iter().find(|l| lock(&l.entry).name == name)
    }

    fn feed_run(&self, name: &str) -> Option<Arc<FeedRun>> {
        self.feeds().into_iter().find(|f| lock(&f.entry).name == name)
    }

    /// Feeds that have a line on which goes take their own.
    fn leave_line(&self, name: &str, new: &Sheet) {
        let Some(line) = self.line_run(name) else { return };
        for feed in self.feeds() {
            let reading = feed.media.reading();
            if reading.on != Some(line.id) && reading.wanted != Some(line.id) {
                continue;
            }
            let own = new.feed(&lock(&feed.entry).name).and_then(|f| self.line_id(&f.line));
            if let Some(own) = own {
                let _ = self.take(By::Sheet, feed.id, own);
            }
        }
    }

    async fn add_line(self: &Arc<Self>, name: &str, new: &Sheet) -> Result<(), OpenError> {
        let Some(entry) = new.line(name) else { return Ok(()) };
        let run = self.new_line(entry);
        self.lines.write().unwrap_or_else(PoisonError::into_inner).push(run.clone());
        self.open_line(&run, self.ready_line(&run)?).await
    }

    async fn reopen_line(self: &Arc<Self>, name: &str, new: &Sheet) -> Result<(), OpenError> {
        let (Some(run), Some(entry)) = (self.line_run(name), new.line(name)) else { return Ok(()) };
        run.set_entry(entry.clone());
        self.open_line(&run, self.ready_line(&run)?).await
    }

    async fn add_feed(self: &Arc<Self>, name: &str, new: &Sheet) -> Result<(), OpenError> {
        let Some(entry) = new.feed(name) else { return Ok(()) };
        let run = self.new_feed(new, entry);
        self.feeds.write().unwrap_or_else(PoisonError::into_inner).push(run.clone());
        run.set_outs(entry.to.iter().map(|to| self.new_out(&run, to)).collect());
        for out in run.outs() {
            self.open_out(&out, self.ready_out(&run, &out)?).await?;
        }
        Ok(())
    }

    async fn remove_feed(&self, name: &str) {
        let Some(run) = self.feed_run(name) else { return };
        for line in self.lines() {
            std::iter::once(&run.media).chain(run.sub.as_ref().map(|s| &s.0)).for_each(|m| line.media.detach(m));
        }
        for out in run.outs() {
            self.close_out(&run, &out).await;
        }
        self.names.remove_feed(run.id);
        self.feeds.write().unwrap_or_else(PoisonError::into_inner).retain(|f| f.id != run.id);
    }

    /// Closes the ways out of a feed that the sheet no longer has, or has with another latency.
    async fn remove_outs(&self, name: &str, new: &Sheet) {
        let (Some(run), Some(entry)) = (self.feed_run(name), new.feed(name)) else { return };
        let latency = lock(&self.sheet).show.latency;
        let kept = |o: &OutRun| entry.to.contains(&o.link) && lock(&o.opened_with).is_none_or(|l| l == latency);
        let (stay, go): (Vec<_>, Vec<_>) = run.outs().into_iter().partition(|o| kept(o));
        run.set_outs(stay);
        for out in go {
            self.close_out(&run, &out).await;
        }
    }

    /// Opens the ways out that a feed does not have yet.
    async fn add_outs(self: &Arc<Self>, name: &str, new: &Sheet) -> Result<(), OpenError> {
        let (Some(run), Some(entry)) = (self.feed_run(name), new.feed(name)) else { return Ok(()) };
        let mut old = run.outs();
        let mut outs = Vec::new();
        for link in &entry.to {
            match old.iter().position(|o| o.link == *link) {
                Some(place) => outs.push(old.remove(place)),
                None => outs.push(self.new_out(&run, link)),
            }
        }
        run.set_outs(outs.clone());
        for out in outs {
            if lock(&out.way).is_none() {
                self.open_out(&out, self.ready_out(&run, &out)?).await?;
            }
        }
        Ok(())
    }

    /// Lines and feeds are shown in the order of the sheet.
    fn in_order(&self, sheet: &Sheet) {
        let place = |name: &str| sheet.lines.iter().position(|l| l.name == name);
        self.lines.write().unwrap_or_else(PoisonError::into_inner).sort_by_key(|l| place(&lock(&l.entry).name));
        let place = |name: &str| sheet.feeds.iter().position(|f| f.name == name);
        self.feeds.write().unwrap_or_else(PoisonError::into_inner).sort_by_key(|f| place(&lock(&f.entry).name));
    }
}
