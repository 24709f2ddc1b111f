//! A line that is played from a server.

use super::{
    super::{
        Intake,
        retry::{Attempt, Ended, keep_up},
        status::LinkStatus,
    },
    READ,
    call::{Calls, Outcome, RETRY_FIRST, RETRY_MOST, RtmpTarget},
    media::TagsIn,
    random_block,
};
use bytes::BytesMut;
use choir_core::facts::Fault;
use choir_host::{Backoff, Stop, clock::sleep_until};
use choir_proto::rtmp::{Client, ClientEvent};
use std::{
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    task::JoinHandle,
};

/// From the connection to the first media.
const AGREE: Duration = Duration::from_secs(15);
/// Silence after which a stream counts as lost.
const SILENCE: Duration = Duration::from_secs(8);
/// How long a server may take to read what it is asked.
const ASK: Duration = Duration::from_secs(5);

/// What is played.
pub struct PlayPlan {
    /// The server.
    pub target: RtmpTarget,
    /// Where media goes.
    pub intake: Arc<dyn Intake>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// Plays until stopped.
pub fn spawn_play(plan: PlayPlan, stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let PlayPlan { target, intake, status } = plan;
        let player = Player { calls: Calls::new(target), intake, status: status.clone() };
        keep_up(player, &status, Backoff::new(RETRY_FIRST, RETRY_MOST), stop).await;
    })
}

struct Player {
    calls: Calls,
    intake: Arc<dyn Intake>,
    status: Arc<LinkStatus>,
}

impl Attempt for Player {
    async fn attempt(&mut self, stop: &mut Stop) -> Ended {
        let before = self.status.look().sessions;
        let outcome = self.once(stop).await;
        self.calls.ended(outcome, before, &self.status)
    }

    fn released(&mut self) {
        self.calls.forget();
    }
}

impl Player {
    async fn once(&mut self, stop: &mut Stop) -> Outcome {
        let mut stream = match self.calls.connect(&self.status, stop).await {
            Ok(stream) => stream,
            Err(outcome) => return outcome,
        };
        let mut client = Client::new(self.calls.plan(false), random_block());
        let mut tags = TagsIn::new(self.intake.clone(), self.status.clone());
        let (mut buffer, mut limit) = (BytesMut::with_capacity(READ), Instant::now() + AGREE);
        loop {
            while let Some(out) = client.poll_output() {
                if !matches!(tokio::time::timeout(ASK, stream.write_all(&out)).await, Ok(Ok(()))) {
                    return Outcome::Failed(Some(Fault::PeerLost), "the connection is lost".into());
                }
            }
            buffer.clear();
            buffer.reserve(READ);
            tokio::select! {
                () = stop.wait() => return Outcome::Stopped,
                () = self.status.control.woken() => if self.status.control.is_held() { return Outcome::Held },
                () = sleep_until(Some(limit)) => return Outcome::Failed(Some(Fault::Silent), "it sends nothing".into()),
                () = sleep_until(tags.poll_timeout()) => tags.flush(Instant::now()),
                read = stream.read_buf(&mut buffer) => {
                    if read.is_err() || buffer.is_empty() {
                        return Outcome::Failed(Some(Fault::PeerLost), "it closed the connection".into());
                    }
                    if let Err(e) = client.handle(&buffer) {
                        return Outcome::Failed(Some(Fault::WrongProtocol), e.to_string());
                    }
                    let now = Instant::now();
                    while let Some(event) = client.poll_event() {
                        match event {
                            ClientEvent::Media { kind, time, body } => {
                                tags.push(now, kind, time, &body);
                                limit = now + SILENCE;
                            }
                            ClientEvent::Started => self.status.update(|l| l.how = Some("played by RTMP".into())),
                            ClientEvent::Refused { code, says } => return Outcome::Refused(code, says),
                            ClientEvent::Elsewhere(url) => return Outcome::Elsewhere(url),
                            ClientEvent::Asks(challenge) => return Outcome::Asks(challenge),
                            ClientEvent::Ended => return Outcome::Failed(Some(Fault::PeerLost), "it ended the stream".into()),
                        }
                    }
                    tags.flush(now);
                }
            }
        }
    }
}
