//! Access units through QUIC streams.

use bytes::{Bytes, BytesMut};
use choir_proto::stave::{HEADER_LEN, Ordered, UNIT_MAX, UnitError, UnitHead};
use quinn::{Connection, RecvStream, VarInt};
use std::{
    pin::pin,
    time::{Duration, Instant},
};
use tokio::sync::{Semaphore, SemaphorePermit, mpsc};

/// Begins a stream that carries packets of a group again, instead of a unit.
pub(super) const REPAIR_MARK: [u8; 4] = [0xFE, b'R', b'E', b'P'];

/// Said of a stream that is cancelled for being late.
pub(super) const LATE: VarInt = VarInt::from_u32(1);
/// Said of a stream that nobody wants.
const UNWANTED: VarInt = VarInt::from_u32(2);
/// Room made for a unit by its word alone: what is larger grows as it comes.
const CLAIMED: usize = 1 << 20;
/// Longest time that a unit may take to come.
const WHOLE_WITHIN: Duration = Duration::from_secs(3);

/// Units of so many bytes take turns, a few at a time: where all receivers get a little of theirs
/// in turn, all of them have it whole at the end only.
const LARGE: usize = 64 << 10;
const AT_A_TIME: usize = 4;
/// A turn ends when the unit has arrived, or after this: a slow path holds nobody up.
const TURN: Duration = Duration::from_millis(1);

/// Where large units of one node wait for their turn.
pub(super) struct Turns(Semaphore);

impl Default for Turns {
    fn default() -> Self {
        Self(Semaphore::new(AT_A_TIME))
    }
}

impl Turns {
    /// Waits for the turn of a unit of this size, if it needs one.
    async fn take(&self, size: usize) -> Option<SemaphorePermit<'_>> {
        if size < LARGE { None } else { self.0.acquire().await.ok() }
    }
}

/// Sends one unit; false when it was too late, and cancelled.
pub(super) async fn send(conn: Connection, turns: &Turns, head: UnitHead, payload: Bytes, until: Instant, priority: i32) -> bool {
    let until = tokio::time::Instant::from_std(until);
    let Ok(Ok(mut stream)) = tokio::time::timeout_at(until, conn.open_uni()).await else { return false };
    let _ = stream.set_priority(priority);
    let sent = tokio::time::timeout_at(until, async {
        let turn = turns.take(payload.len()).await;
        stream.write_all_chunks(&mut [Bytes::from(head.write()), payload]).await.ok()?;
        stream.finish().ok()?;
        // Answered once all of it has been acknowledged.
        let mut arrived = pin!(stream.stopped());
        if turn.is_some()
            && let Ok(done) = tokio::time::timeout(TURN, &mut arrived).await
        {
            return done.ok();
        }
        drop(turn);
        arrived.await.ok()
    });
    // What is stopped by the receiver has served its purpose as well.
    if sent.await.is_ok() {
        return true;
    }
    let _ = stream.reset(LATE);
    false
}

/// A whole unit that has come.
#[derive(Debug, Clone)]
pub struct Arrived {
    /// What stands before it.
    pub head: UnitHead,
    /// Its payload.
    pub data: Bytes,
    /// When it was whole.
    pub at: Instant,
}

/// Takes whole units in their order.
pub type UnitTap = mpsc::UnboundedSender<Ordered<Arrived>>;

/// Reads one unit, whose first bytes have been read.
pub(super) async fn receive(first: Bytes, mut stream: RecvStream) -> Option<Arrived> {
    let read = tokio::time::timeout(WHOLE_WITHIN, whole(first, &mut stream)).await;
    match read {
        Ok(Some(unit)) => Some(unit),
        _ => {
            let _ = stream.stop(UNWANTED);
            None
        }
    }
}

async fn whole(first: Bytes, stream: &mut RecvStream) -> Option<Arrived> {
    // Mostly one chunk at first, then the rest: joined once, into room for exactly the unit.
    let mut start = BytesMut::from(first);
    let (head, begins) = loop {
        match UnitHead::read(&start) {
            Ok(found) => break found,
            Err(UnitError::Short(_)) if start.len() < HEADER_LEN + 8192 => {}
            Err(_) => return None,
        }
        start.extend_from_slice(&stream.read_chunk(64 << 10, true).await.ok()??.bytes);
    };
    let size = head.size as usize;
    if size > UNIT_MAX || start.len() - begins > size {
        return None;
    }
    let mut data = start.split_off(begins);
    data.reserve((size - data.len()).min(CLAIMED));
    while let Some(chunk) = stream.read_chunk(1 << 20, true).await.ok()? {
        if data.len() + chunk.bytes.len() > size {
            return None;
        }
        data.extend_from_slice(&chunk.bytes);
    }
    (data.len() == size).then(|| Arrived { head, data: data.freeze(), at: Instant::now() })
}
