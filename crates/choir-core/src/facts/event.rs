//! What happened.

use super::{Alarm, AlarmGrade, AlarmStep, MachineChange, Notice};
use crate::{
    command::By,
    director::Unfit,
    facts::{Reason, State},
    id::{LineId, Subject},
    model::{Change, RotaOrder},
};
use serde::{Deserialize, Serialize};
use std::{path::PathBuf, time::Duration};

/// Something that happened.
#[derive(Debug, Clone, PartialEq)]
pub struct Event {
    /// Counts from 1.
    pub number: u64,
    /// ms since 1970.
    pub at_ms: u64,
    /// What it is about.
    pub subject: Subject,
    /// What happened.
    pub kind: EventKind,
}

/// What happened.
#[derive(Debug, Clone, PartialEq)]
pub enum EventKind {
    /// A line or way out has another state.
    State {
        /// The state.
        state: State,
        /// Why.
        reason: Reason,
    },
    /// A port reports something.
    Notice(Notice),
    /// A line is to go on a feed.
    TakeRequested {
        /// The line.
        line: LineId,
        /// Its source has been asked for a keyframe.
        keyframe_asked: bool,
        /// It goes on at once from its last keyframe, and stays behind by so much.
        behind: Option<Duration>,
        /// Who wanted it.
        by: By,
    },
    /// A line that is to go on a feed has not sent a keyframe yet.
    TakeWaiting {
        /// The line.
        line: LineId,
        /// The line that stays on.
        on: Option<LineId>,
        /// For so long.
        waited: Duration,
    },
    /// A line has gone on a feed.
    Taken {
        /// The line.
        line: LineId,
        /// How long nothing went out before it.
        gap: Duration,
    },
    /// A line is to stand in for one that has failed.
    StandIn {
        /// The line.
        line: LineId,
        /// The line that has failed.
        failed: LineId,
        /// Why.
        why: Unfit,
        /// The chosen line has failed so often that it does not return by itself soon.
        flaps: bool,
    },
    /// The chosen line is fit again, and is to come on.
    Returned {
        /// The line.
        line: LineId,
        /// How long something stood in for it.
        away: Duration,
    },
    /// A line is to come next.
    Previewed {
        /// The line.
        line: LineId,
        /// Who wanted it.
        by: By,
    },
    /// A line was held or released.
    Held {
        /// Held, not released.
        held: bool,
        /// By whom.
        by: By,
    },
    /// A rota has been started, or otherwise.
    Rota {
        /// Its name.
        name: String,
        /// What happened to it.
        change: RotaChange,
    },
    /// A wall shows one line alone, or all.
    Wall {
        /// The line.
        full: Option<LineId>,
        /// By whom.
        by: By,
    },
    /// A camera was sent to a preset.
    Preset {
        /// Device of the sheet.
        device: String,
        /// Number or name.
        preset: String,
        /// By whom.
        by: By,
    },
    /// Something about a recording.
    Recording(RecordingStep),
    /// An alarm has been raised, seen or ended.
    Alarm(Box<Alarm>, AlarmStep),
    /// A picture of a feed has come back from its viewers' side.
    Confirmed {
        /// Pixels.
        size: (u32, u32),
    },
    /// None comes back.
    NotConfirmed(String),
    /// Alarms cannot be handed on, or can be again.
    Messenger {
        /// The webhook's host, or the command's name: neither is secret.
        to: String,
        /// Why not; `None` when they can be again.
        failed: Option<String>,
    },
    /// The system gives sockets less memory than was asked for.
    ReceiveBuffer {
        /// Bytes given.
        granted: usize,
        /// Bytes asked for.
        wanted: usize,
    },
    /// Something has happened to the machine itself.
    Machine(MachineChange),
    /// The sheet was read again.
    Reloaded(Change),
    /// The sheet was read again, and nothing of it was applied.
    ReloadFailed(String),
}

/// What happened to a rota.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RotaChange {
    /// It was told something.
    Told(RotaOrder, By),
    /// A take has come between: it waits.
    Interrupted,
    /// It has come to its end.
    Ended,
}

/// What happened to a recording.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RecordingStep {
    /// It has begun.
    Begun {
        /// Where.
        folder: PathBuf,
        /// By whom.
        by: By,
    },
    /// It has ended, and is on the disk.
    Ended {
        /// Files of it.
        files: u64,
        /// Their bytes.
        bytes: u64,
    },
    /// It cannot be written; that is tried again and again.
    Failed {
        /// Where.
        folder: PathBuf,
        /// What the system says.
        cause: String,
    },
    /// The disk will soon be full.
    DiskLow {
        /// Which.
        folder: PathBuf,
        /// How long it lasts at the rate of all recordings.
        left: Duration,
    },
    /// The disk has no room for more: the recording has ended.
    DiskFull {
        /// Which.
        folder: PathBuf,
        /// Bytes that are left free for the machine.
        free: u64,
    },
}

impl EventKind {
    /// Anybody who reaches a port can cause it, as often as he likes.
    #[must_use]
    pub fn is_by_strangers(&self) -> bool {
        matches!(self, Self::Notice(Notice::CallerRefused(_)))
    }

    /// How bad it is.
    #[must_use]
    pub fn grade(&self) -> EventGrade {
        match self {
            Self::State { state: State::Steady, .. } | Self::Taken { .. } | Self::Returned { .. } => EventGrade::Good,
            Self::State { state: State::Strained, .. } | Self::TakeWaiting { .. } | Self::StandIn { .. } | Self::ReloadFailed(_) => {
                EventGrade::Warning
            }
            Self::Confirmed { .. } => EventGrade::Good,
            Self::NotConfirmed(_) => EventGrade::Warning,
            Self::Machine(MachineChange::FilesEnough) => EventGrade::Good,
            Self::Machine(MachineChange::Network { gone, .. }) if gone.is_empty() => EventGrade::Note,
            Self::Machine(_) => EventGrade::Warning,
            Self::Recording(RecordingStep::DiskLow { .. }) => EventGrade::Warning,
            Self::Recording(RecordingStep::Failed { .. } | RecordingStep::DiskFull { .. }) => EventGrade::Trouble,
            Self::State { state: State::Broken, .. } => EventGrade::Trouble,
            Self::Alarm(a, step) if step.calls() && a.grade == AlarmGrade::Trouble => EventGrade::Trouble,
            Self::Alarm(_, step) if step.calls() => EventGrade::Warning,
            Self::Alarm(_, AlarmStep::Over(_)) => EventGrade::Good,
            Self::Messenger { failed: Some(_), .. } => EventGrade::Warning,
            Self::Notice(n) if n.is_trouble() => EventGrade::Warning,
            _ => EventGrade::Note,
        }
    }
}

/// How bad an event is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum EventGrade {
    /// For the record.
    Note,
    /// Better than before.
    Good,
    /// Look at it.
    Warning,
    /// Act.
    Trouble,
}
