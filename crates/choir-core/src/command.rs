//! What may be asked of a running show, and how it can refuse.

use crate::{
    id::{FeedId, LineId, OutId, Subject},
    model::{Change, RecordSettings, RotaOrder},
};
use serde::{Deserialize, Serialize};
use std::{path::PathBuf, time::Duration};

/// Who gives a command.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum By {
    /// The engineer, from the command line.
    CommandLine,
    /// The engineer, in the live view.
    LiveView,
    /// The program itself, since the sheet says so.
    Sheet,
    /// A rota.
    Rota,
}

/// Which alarms are meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Which {
    /// All.
    All,
    /// Those of these numbers.
    Numbers(Vec<u64>),
}

/// A command.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Command {
    /// Put a line on a feed, at the line's next keyframe.
    Take {
        /// Feed.
        feed: FeedId,
        /// Line.
        line: LineId,
    },
    /// Put lines on feeds at the same moment.
    TakeTogether(Vec<(FeedId, LineId)>),
    /// Say which line comes next on a feed.
    Preview {
        /// Feed.
        feed: FeedId,
        /// Line.
        line: LineId,
    },
    /// Put on what comes next; what is on comes next then.
    Swap {
        /// Feed.
        feed: FeedId,
    },
    /// Stop a line until it is released, or start it again.
    Hold {
        /// Line.
        line: LineId,
        /// Stop, not start.
        held: bool,
    },
    /// Stop ways out of a feed until they are released, or start them again.
    HoldOuts {
        /// Feed.
        feed: FeedId,
        /// Its ways out.
        outs: Vec<OutId>,
        /// Stop, not start.
        held: bool,
    },
    /// Compare a line's transport stream with the standard from now on, or stop doing so.
    Examine {
        /// Line.
        line: LineId,
        /// Begin, not end.
        on: bool,
    },
    /// Record a line or a feed.
    Record {
        /// Which.
        subject: Subject,
        /// How.
        settings: RecordSettings,
    },
    /// End the recordings of these lines and feeds; without any, all.
    EndRecordings(Option<Vec<Subject>>),
    /// Start a rota, or let it do something else.
    Rota {
        /// Its name.
        name: String,
        /// What it is to do.
        order: RotaOrder,
    },
    /// Show one line alone on a wall, or all of its lines.
    Wall {
        /// The wall, which is a line.
        wall: LineId,
        /// The line.
        full: Option<LineId>,
    },
    /// Send a camera to a preset.
    Preset {
        /// Device of the sheet.
        device: String,
        /// Number or name.
        preset: String,
    },
    /// Say that these alarms have been seen.
    Acknowledge(Which),
    /// Read the sheet again and apply what differs.
    Reload,
    /// End the show.
    Stop,
}

/// What was done.
#[derive(Debug, Clone, PartialEq)]
pub enum Done {
    /// The line goes on the feed at its next keyframe, or at once from the last one.
    TakeRequested {
        /// Feed.
        feed: FeedId,
        /// Line.
        line: LineId,
        /// At once: the feed stays behind by so much.
        behind: Option<Duration>,
    },
    /// Lines go on feeds once each has sent a keyframe.
    TakesRequested(Vec<(FeedId, LineId)>),
    /// The line comes next on the feed.
    Previewed {
        /// Feed.
        feed: FeedId,
        /// Line.
        line: LineId,
    },
    /// The line is held or released.
    Held {
        /// Line.
        line: LineId,
        /// Held, not released.
        held: bool,
        /// It was so already.
        already: bool,
    },
    /// Ways out are held or released.
    HeldOuts {
        /// Feed.
        feed: FeedId,
        /// How many were not so already.
        changed: usize,
        /// Held, not released.
        held: bool,
    },
    /// The line is examined, or no longer.
    Examined {
        /// Line.
        line: LineId,
        /// Examined.
        on: bool,
    },
    /// It is recorded.
    Recording {
        /// Which.
        subject: Subject,
        /// Where.
        folder: PathBuf,
    },
    /// So many recordings have ended, and are on the disk.
    RecordingsEnded(usize),
    /// A rota has done what it was told.
    Rota {
        /// Its name.
        name: String,
        /// What it was told.
        order: RotaOrder,
    },
    /// The wall shows one line alone, or all.
    Wall {
        /// The wall.
        wall: LineId,
        /// The line.
        full: Option<LineId>,
    },
    /// The camera goes to the preset.
    Preset {
        /// Device.
        device: String,
        /// Number or name.
        preset: String,
    },
    /// These alarms have been seen; none, where all had been already.
    Acknowledged(Vec<u64>),
    /// The sheet was read again, and this was applied.
    Reloaded(Change),
    /// The show is stopping.
    Stopping,
}

/// Why a command is not carried out.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Refusal {
    /// No such line.
    #[error("there is no line \"{name}\". {hint}")]
    NoLine {
        /// As given.
        name: String,
        /// The names that there are.
        hint: String,
    },
    /// No such feed.
    #[error("there is no feed \"{name}\". {hint}")]
    NoFeed {
        /// As given.
        name: String,
        /// The names that there are.
        hint: String,
    },
    /// The feed has fewer ways out.
    #[error("{feed} has no way out {number}: it has {count}")]
    NoWayOut {
        /// Feed.
        feed: String,
        /// As given.
        number: usize,
        /// Ways out that it has.
        count: usize,
    },
    /// A way out cannot be opened again.
    #[error("{feed} stays held: {why}")]
    NotOpened {
        /// Feed.
        feed: String,
        /// Why.
        why: String,
    },
    /// Nothing comes next.
    #[error("nothing comes next on {0}: name the line, or say it first with \"choir next {0} LINE\"")]
    NothingNext(String),
    /// The line is no wall.
    #[error("{0} is no wall: its from would be \"wall://2x2\"")]
    NoWall(String),
    /// The sheet gives the key nothing to do.
    #[error("{0} does nothing in this show: give it an order in [keys] of the sheet")]
    NoKey(String),
    /// A camera does not do it.
    #[error("{device}: {why}")]
    Camera {
        /// Device.
        device: String,
        /// Why.
        why: String,
    },
    /// No such rota.
    #[error("there is no rota \"{name}\". {hint}")]
    NoRota {
        /// As given.
        name: String,
        /// The names that there are.
        hint: String,
    },
    /// The rota is in no state for that.
    #[error("{name} {state}")]
    NotSoRota {
        /// Its name.
        name: String,
        /// How it stands.
        state: &'static str,
    },
    /// It is recorded already.
    #[error("{0} is being recorded already")]
    Recorded(String),
    /// It is not recorded.
    #[error("{0} is not being recorded")]
    NotRecorded(String),
    /// No alarm is meant by this.
    #[error("there is no alarm {what}. {hint}")]
    NoAlarm {
        /// A number, or whose.
        what: String,
        /// The alarms that there are.
        hint: String,
    },
    /// The line or feed was removed from the sheet meanwhile.
    #[error("it has been removed from the sheet")]
    Removed,
    /// There is no file to be read again.
    #[error("this show runs without a sheet file, so there is nothing to reload")]
    NoFile,
    /// The sheet cannot be applied: nothing has changed.
    #[error("nothing has changed: {0}")]
    Sheet(String),
}
