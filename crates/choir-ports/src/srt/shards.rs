//! The threads that serve SRT ports, and which of them serves what.

use super::shard::Shard;
use std::{io, slice, sync::OnceLock, thread};

static OF_PROGRAM: OnceLock<Shards> = OnceLock::new();

/// Most threads of a program.
const MOST: usize = 8;
/// One thread serves all lines while they are no more than this: a wake-up for many packets costs
/// little more than one for a single packet.
const TOGETHER: usize = 40;
/// From this share of a core on, a thread gets no further lines while another is below it.
const SHARE_MOST: f64 = 0.4;

/// One thread for each core, up to eight.
pub struct Shards(Vec<Shard>);

impl Shards {
    /// Starts them.
    ///
    /// # Errors
    /// The system is out of descriptors or threads.
    pub fn start() -> io::Result<Self> {
        let cores = thread::available_parallelism().map_or(1, usize::from);
        (0..cores.min(MOST)).map(|_| Shard::start()).collect::<io::Result<_>>().map(Self)
    }

    /// [`Shards::pick`] of those of this program.
    ///
    /// # Errors
    /// As [`Shards::start`].
    pub fn pick_of_program() -> io::Result<Shard> {
        Self::of_program()?.pick().ok_or_else(|| io::Error::other("no thread for SRT"))
    }

    /// Those of this program, from the first call on.
    ///
    /// # Errors
    /// As [`Shards::start`].
    pub fn of_program() -> io::Result<&'static Self> {
        if OF_PROGRAM.get().is_none()
            && let Err(second) = OF_PROGRAM.set(Self::start()?)
        {
            // Of two that begin at the same time, one's end.
            second.end();
        }
        OF_PROGRAM.get().ok_or_else(|| io::Error::other("no thread for SRT"))
    }

    /// Those of this program, if it has begun to serve links.
    pub fn started() -> slice::Iter<'static, Shard> {
        OF_PROGRAM.get().map_or_else(Default::default, |s| s.0.iter())
    }

    /// The one to serve another line, or a link that is of none: the first that has room, else the
    /// one with the fewest. It counts there until the last copy of what this gives is dropped.
    #[must_use]
    pub fn pick(&self) -> Option<Shard> {
        let room = self.0.iter().find(|s| s.seats() < TOGETHER && s.share() < SHARE_MOST);
        room.or_else(|| self.0.iter().min_by_key(|s| s.seats())).map(Shard::with_seat)
    }

    /// Each of them.
    pub fn iter(&self) -> impl Iterator<Item = &Shard> {
        self.0.iter()
    }

    /// Ends the threads: their links end without a goodbye.
    pub fn end(&self) {
        self.0.iter().for_each(Shard::end);
    }
}
