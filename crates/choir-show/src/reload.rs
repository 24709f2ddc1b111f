//! Reading the sheet again while the show runs: only what differs is changed.

use crate::{
    build::{Opening, close},
    feed::{FeedRun, OutRun},
    inner::{Inner, OpenError},
    line::LineRun,
    show::Show,
};
use choir_core::{
    command::{By, Refusal},
    facts::{Contact, EventKind, Waiting},
    finding::Grade,
    id::Subject,
    sheet::{Change, Difference, Sheet, read_sheet},
};
use choir_host::{lock, write};
use futures_core::future::BoxFuture;
use std::{path::Path, sync::Arc};

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
    /// Something new cannot be opened: then nothing has changed, apart from ways that had to be
    /// closed first, which are open again.
    pub fn apply<'a>(&'a self, new: &'a Sheet) -> BoxFuture<'a, Result<Change, OpenError>> {
        Box::pin(async move {
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
            if let Err(e) = inner.change(&change, new).await {
                *lock(&inner.sheet) = old.clone();
                inner.undo(&old).await;
                inner.refresh();
                return Err(e);
            }
            inner.bus.event(Subject::Show, EventKind::Reloaded(change.clone()));
            inner.refresh();
            Ok(change)
        })
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
    /// Opens everything, or fails.
    pub async fn bring_up(self: &Arc<Self>, sheet: &Sheet) -> Result<(), OpenError> {
        self.join_stave(sheet).await?;
        let empty = Sheet { lines: Vec::new(), feeds: Vec::new(), ..sheet.clone() };
        self.change(&empty.change_to(sheet), sheet).await
    }

    /// Carries a change out. Nothing is closed before all secrets of what is to be opened have been
    /// fetched.
    async fn change(self: &Arc<Self>, change: &Change, new: &Sheet) -> Result<(), OpenError> {
        let ready = self.make_ready(change, new)?;
        self.make_room(change, new).await;
        for opening in ready {
            self.open(opening).await?;
        }
        self.settle(change, new);
        self.keep_recordings(&new.record).await;
        Ok(())
    }

    /// Goes back to a sheet after a change to another has failed somewhere.
    async fn undo(self: &Arc<Self>, old: &Sheet) {
        for feed in self.feeds() {
            for out in feed.outs().iter().filter(|o| lock(&o.way).is_none() && !o.status.control.is_held()) {
                self.remove_out(&feed, out).await;
            }
        }
        if let Err(worse) = self.change(&self.running().change_to(old), old).await {
            tracing::warn!(cause = %worse, "a reload that failed could not be undone");
        }
        // A line that could not be opened is as the sheet has it, and not open.
        for line in self.lines().iter().filter(|l| lock(&l.way).is_none()) {
            let opened = async { self.open(self.ready_line(line)?).await };
            if let Err(worse) = opened.await {
                tracing::warn!(cause = %worse, "a line that a failed reload had closed could not be opened again");
            }
        }
    }

    /// The sheet as it runs.
    fn running(&self) -> Sheet {
        let opened = |way: &Option<choir_ports::OpenWay>| way.as_ref().map(|w| w.link().clone());
        let line = |l: &Arc<LineRun>| {
            let mut entry = lock(&l.entry).clone();
            entry.from = opened(&lock(&l.way)).unwrap_or(entry.from);
            entry
        };
        let feed = |f: &Arc<FeedRun>| {
            let mut entry = lock(&f.entry).clone();
            // One that is held is as the sheet has it, and not open.
            let out = |o: &Arc<OutRun>| {
                let held = || o.status.control.is_held().then(|| self.effective(&o.link));
                opened(&lock(&o.way)).or_else(held).map(|link| o.entry(link))
            };
            entry.to = f.outs().iter().filter_map(out).collect();
            entry
        };
        Sheet {
            lines: self.lines().iter().map(line).collect(),
            feeds: self.feeds().iter().map(feed).collect(),
            ..lock(&self.sheet).clone()
        }
    }

    /// Makes what is new, and fetches what it needs to be opened.
    fn make_ready(self: &Arc<Self>, change: &Change, new: &Sheet) -> Result<Vec<Opening>, OpenError> {
        let mut ready = Vec::new();
        // Feeds may start with lines that are new as well.
        for d in &change.0 {
            let line = match d {
                Difference::LineAdded(name) => new.line(name).map(|entry| self.new_line(entry)),
                Difference::LineReopened { line, .. } => self.line_of(line).zip(new.line(line)).map(|(run, entry)| {
                    run.set_entry(entry.clone());
                    run
                }),
                _ => None,
            };
            ready.extend(line.map(|l| self.ready_line(&l)).transpose()?);
        }
        for d in &change.0 {
            let outs = match d {
                Difference::FeedAdded(name) => new.feed(name).map(|entry| {
                    let feed = self.new_feed(new, entry);
                    let outs = entry.to.iter().map(|to| self.new_out(&feed, to)).collect();
                    (feed, outs)
                }),
                Difference::OutAdded { feed, to } => self.feed_of(feed).zip(new.feed(feed)).map(|(feed, entry)| {
                    let wanted = entry.to.iter().filter(|out| new.effective_out(out) == *to);
                    let outs: Vec<_> = wanted.map(|out| self.new_out(&feed, out)).collect();
                    (feed, outs)
                }),
                _ => None,
            };
            let Some((feed, outs)) = outs else { continue };
            feed.set_outs(feed.outs().into_iter().chain(outs.iter().cloned()).collect());
            for out in &outs {
                ready.push(self.ready_out(&feed, out)?);
            }
        }
        Ok(ready)
    }

    /// Closes what goes or is opened anew: ports and Stave names may change hands.
    async fn make_room(&self, change: &Change, new: &Sheet) {
        for d in &change.0 {
            match d {
                Difference::OutRemoved { feed, to } => {
                    let Some(feed) = self.feed_of(feed) else { continue };
                    let link = |o: &OutRun| lock(&o.way).as_ref().map_or_else(|| self.effective(&o.link), |w| w.link().clone());
                    let goes = |o: &OutRun| o.entry(link(o)) == *to;
                    for out in feed.outs().iter().filter(|o| goes(o)) {
                        self.remove_out(&feed, out).await;
                    }
                }
                Difference::FeedRemoved(name) => {
                    if let Some(feed) = self.feed_of(name) {
                        self.remove_feed(&feed).await;
                    }
                }
                Difference::LineReopened { line, .. } => {
                    if let Some(line) = self.line_of(line) {
                        close(&line.way).await;
                        line.status.reset(Contact::Waiting(Waiting::Start));
                    }
                }
                Difference::LineRemoved(name) => {
                    if let Some(line) = self.line_of(name) {
                        self.leave(&line, new);
                        self.remove_line(&line).await;
                    }
                }
                _ => {}
            }
        }
    }

    /// Feeds that have a line on which goes take their own.
    fn leave(&self, line: &LineRun, new: &Sheet) {
        for feed in self.feeds() {
            let reading = feed.media.reading();
            if reading.on != Some(line.id) && reading.wanted != Some(line.id) {
                continue;
            }
            let own = new.feed(&lock(&feed.entry).name).and_then(|f| self.names.find_line(&f.line).ok());
            if let Some(own) = own {
                let _ = self.take(By::Sheet, feed.id, own);
            }
        }
    }

    /// What is open now is as the sheet has it, in its order.
    fn settle(self: &Arc<Self>, change: &Change, new: &Sheet) {
        for entry in &new.lines {
            self.line_of(&entry.name).iter().for_each(|run| run.set_entry(entry.clone()));
        }
        for entry in &new.feeds {
            let Some(run) = self.feed_of(&entry.name) else { continue };
            let mut outs = run.outs();
            outs.sort_by_key(|o| entry.to.iter().position(|to| *to == o.entry(o.link.clone())));
            run.set_outs(outs);
            run.media.set_sound(self.sound_of(entry));
            *lock(&run.entry) = entry.clone();
        }
        for d in &change.0 {
            if let Difference::FeedLine { feed, line } = d
                && let (Some(feed), Ok(line)) = (self.feed_of(feed), self.names.find_line(line))
            {
                // Both are here: they were looked up just now.
                let _ = self.take(By::Sheet, feed.id, line);
            }
        }
        let place = |name: &str| new.lines.iter().position(|l| l.name == name);
        write(&self.lines).sort_by_key(|l| place(&lock(&l.entry).name));
        let place = |name: &str| new.feeds.iter().position(|f| f.name == name);
        write(&self.feeds).sort_by_key(|f| place(&lock(&f.entry).name));
        self.set_alarm_rules();
        self.keep_slates();
        self.keep_groups();
        self.keep_rotas(&new.rotas);
        self.follow_sheet();
    }
}
