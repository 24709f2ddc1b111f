//! A feed that is published to a server: connected, published, and again with growing pauses
//! whenever that is lost, from the next keyframe on.

use super::{
    super::{
        UnitOutlet,
        retry::{Attempt, Ended, keep_up},
        status::{Counters, LinkStatus},
    },
    Duplex, READ,
    call::{Calls, Outcome, RETRY_FIRST, RETRY_MOST, RtmpTarget},
    random_block,
};
use bytes::BytesMut;
use choir_core::facts::{Contact, Fault, Notice};
use choir_host::{Backoff, Stop, clock::sleep_until};
use choir_proto::{
    rtmp::{Amf, Client, ClientEvent, OutTag, TagWriter, kind},
    ts::AccessUnit,
};
use std::{
    collections::VecDeque,
    io,
    sync::Arc,
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    task::JoinHandle,
};

/// From the connection to the server's yes.
const AGREE: Duration = Duration::from_secs(12);
/// How long a server may take no bytes at all.
const STUCK: Duration = Duration::from_secs(15);
/// How old the oldest of what waits to be sent may become: then it is left out up to the next
/// keyframe.
const OLDEST: Duration = Duration::from_secs(3);
const GOODBYE: Duration = Duration::from_millis(500);
/// How often what is shown is brought up to date.
const SHOW: Duration = Duration::from_secs(1);

/// Where a feed is published.
pub struct PushPlan {
    /// The server.
    pub target: RtmpTarget,
    /// The feed's units.
    pub outlet: Arc<UnitOutlet>,
    /// How it stands.
    pub status: Arc<LinkStatus>,
}

/// Publishes until stopped, or until the feed has ended.
pub fn spawn_push(plan: PushPlan, stop: Stop) -> JoinHandle<()> {
    tokio::spawn(async move {
        let PushPlan { target, outlet, status } = plan;
        let pusher = Pusher { calls: Calls::new(target), outlet, status: status.clone(), counters: Counters::default() };
        keep_up(pusher, &status, Backoff::new(RETRY_FIRST, RETRY_MOST), stop).await;
    })
}

struct Pusher {
    calls: Calls,
    outlet: Arc<UnitOutlet>,
    status: Arc<LinkStatus>,
    counters: Counters,
}

impl Attempt for Pusher {
    async fn attempt(&mut self, stop: &mut Stop) -> Ended {
        let before = self.status.look().sessions;
        let outcome = self.once(stop).await;
        self.calls.ended(outcome, before, &self.status)
    }

    fn released(&mut self) {
        self.calls.forget();
    }
}

impl Pusher {
    async fn once(&mut self, stop: &mut Stop) -> Outcome {
        let stream = match self.calls.connect(&self.status, stop).await {
            Ok(stream) => stream,
            Err(outcome) => return outcome,
        };
        let mut call = Call {
            outlet: &self.outlet,
            status: &self.status,
            stream,
            client: Client::new(self.calls.plan(true), random_block()),
            tags: None,
            waiting: VecDeque::new(),
            skipping: false,
            left_out: 0,
            units: VecDeque::new(),
            sending: Vec::new(),
            sent: 0,
            counters: self.counters,
        };
        let outcome = call.run(stop).await;
        self.counters = call.counters;
        call.client.end();
        let _ = tokio::time::timeout(GOODBYE, call.last_words()).await;
        outcome
    }
}

/// One connection.
struct Call<'a> {
    outlet: &'a UnitOutlet,
    status: &'a LinkStatus,
    stream: Box<dyn Duplex>,
    client: Client,
    /// Once the server takes the stream.
    tags: Option<TagWriter>,
    /// What waits to be sent, and since when.
    waiting: VecDeque<(Instant, OutTag)>,
    /// Everything is left out up to the next keyframe.
    skipping: bool,
    /// Pictures that were left out and are not told yet.
    left_out: u64,
    units: VecDeque<AccessUnit>,
    /// Bytes that are being sent.
    sending: Vec<u8>,
    sent: usize,
    counters: Counters,
}

impl Call<'_> {
    async fn last_words(&mut self) -> io::Result<()> {
        while let Some(out) = self.client.poll_output() {
            self.stream.write_all(&out).await?;
        }
        self.stream.shutdown().await
    }

    async fn run(&mut self, stop: &mut Stop) -> Outcome {
        let (begun, mut moved) = (Instant::now(), Instant::now());
        let mut show = tokio::time::interval(SHOW);
        let mut buffer = BytesMut::with_capacity(READ);
        loop {
            self.fill();
            let has_more = self.sent < self.sending.len();
            let limit = match (&self.tags, has_more) {
                (None, _) => Some(begun + AGREE),
                (Some(_), true) => Some(moved + STUCK),
                (Some(_), false) => None,
            };
            buffer.clear();
            buffer.reserve(READ);
            let (mut from, mut to) = tokio::io::split(&mut self.stream);
            tokio::select! {
                () = stop.wait() => return Outcome::Stopped,
                () = self.status.control.woken() => if self.status.control.is_held() { return Outcome::Held },
                () = sleep_until(limit) => {
                    let why = if self.tags.is_some() { "it takes no bytes any more" } else { "it does not answer to the stream" };
                    return Outcome::Failed(Some(Fault::Silent), why.into());
                }
                wrote = to.write(&self.sending[self.sent..]), if has_more => match wrote {
                    Ok(n) if n > 0 => {
                        self.sent += n;
                        self.counters.bytes += n as u64;
                        moved = Instant::now();
                    }
                    _ => return Outcome::Failed(Some(Fault::PeerLost), "the connection is lost".into()),
                },
                read = from.read_buf(&mut buffer) => match read {
                    Ok(n) if n > 0 => {
                        if let Err(e) = self.client.handle(&buffer) {
                            return Outcome::Failed(Some(Fault::WrongProtocol), e.to_string());
                        }
                        if let Some(outcome) = self.events() {
                            return outcome;
                        }
                    }
                    _ => return Outcome::Failed(Some(Fault::PeerLost), "it closed the connection".into()),
                },
                () = self.outlet.filled(), if self.tags.is_some() => {
                    self.take();
                    if self.outlet.has_ended() && self.waiting.is_empty() {
                        return Outcome::Over;
                    }
                }
                _ = show.tick() => self.show(),
            }
        }
    }

    /// The next bytes, once those before have gone.
    fn fill(&mut self) {
        if self.sent < self.sending.len() {
            return;
        }
        (self.sending, self.sent) = (self.client.poll_output().unwrap_or_default(), 0);
        while self.sending.len() < READ
            && let Some((_, tag)) = self.waiting.pop_front()
        {
            self.counters.packets += 1;
            self.client.send(&tag);
            self.sending.extend(self.client.poll_output().unwrap_or_default());
        }
    }

    fn events(&mut self) -> Option<Outcome> {
        while let Some(event) = self.client.poll_event() {
            match event {
                ClientEvent::Started => {
                    // What the feed sent before is of no use.
                    drop(self.outlet.take());
                    self.tags = Some(TagWriter::default());
                    self.status.begin_session();
                    let by = self.status.look().peer.map_or_else(String::new, |p| p.to_string());
                    self.status.note(Notice::Taken(by));
                    self.show();
                }
                ClientEvent::Refused { code, says } => return Some(Outcome::Refused(code, says)),
                ClientEvent::Elsewhere(url) => return Some(Outcome::Elsewhere(url)),
                ClientEvent::Asks(challenge) => return Some(Outcome::Asks(challenge)),
                ClientEvent::Ended => return Some(Outcome::Failed(Some(Fault::PeerLost), "it ended the stream".into())),
                ClientEvent::Media { .. } => {}
            }
        }
        None
    }

    /// Takes what the feed has: into the queue, and out of it what has become too old.
    fn take(&mut self) {
        self.outlet.take_into(&mut self.units);
        let Some(tags) = &mut self.tags else { return };
        let (now, mut made) = (Instant::now(), Vec::new());
        for unit in self.units.drain(..) {
            let before = tags.about();
            tags.push(&unit, &mut made);
            if tags.about() != before {
                self.client.tell(about(tags));
            }
        }
        for tag in made {
            if self.skipping && tag.keyframe {
                self.skipping = false;
                if let Some(tags) = &self.tags {
                    self.waiting.extend(tags.settings(tag.time).into_iter().map(|t| (now, t)));
                }
            }
            if self.skipping && !tag.settings {
                self.left_out += u64::from(tag.kind == kind::VIDEO);
                continue;
            }
            self.waiting.push_back((now, tag));
        }
        self.leave_out(now);
    }

    /// What has waited too long goes, with all pictures that need it.
    fn leave_out(&mut self, now: Instant) {
        let waited = self.oldest(now);
        if waited < OLDEST {
            return;
        }
        let is_picture = |t: &OutTag| t.kind == kind::VIDEO && !t.settings;
        // Up to the next keyframe that waits, or everything up to the next one that comes.
        let next = self.waiting.iter().skip(1).position(|(_, t)| t.keyframe).map(|at| at + 1);
        let gone = self.waiting.drain(..next.unwrap_or(self.waiting.len()));
        let (mut pictures, mut settings) = (0, Vec::new());
        for (at, tag) in gone {
            pictures += u64::from(is_picture(&tag));
            if tag.settings {
                settings.push((at.max(now), tag));
            }
        }
        settings.into_iter().rev().for_each(|tag| self.waiting.push_front(tag));
        self.skipping = next.is_none();
        self.outlet.note_dropped(pictures);
        self.status.note(Notice::LeftOut { pictures: pictures + std::mem::take(&mut self.left_out), waited });
    }

    fn oldest(&self, now: Instant) -> Duration {
        self.waiting.front().map_or(Duration::ZERO, |(at, _)| now.saturating_duration_since(*at))
    }

    /// What is shown of it.
    fn show(&self) {
        let now = Instant::now();
        let (waits, counters) = (self.oldest(now), self.counters);
        let under_way = self.client.unacknowledged().map(|behind| format!(", {} kB under way", behind / 1000)).unwrap_or_default();
        let how = format!("RTMP, {} ms waiting{under_way}", waits.as_millis());
        self.status.update(|l| {
            (l.counters, l.read_at) = (counters, Some(now));
            if self.tags.is_some() {
                l.how = Some(how);
                l.contact = Contact::Up;
            }
        });
    }
}

/// What a server is told about the stream.
pub(super) fn about(tags: &TagWriter) -> Vec<(String, Amf)> {
    let Some((width, height, hevc, sound)) = tags.about() else { return Vec::new() };
    let number = |name: &str, n: f64| (name.to_owned(), Amf::Number(n));
    // The old code of H.264, the four letters of H.265.
    let video = if hevc { f64::from(u32::from_be_bytes(*b"hvc1")) } else { 7.0 };
    let mut all = vec![number("width", f64::from(width)), number("height", f64::from(height)), number("videocodecid", video)];
    if let Some(sound) = sound {
        all.extend([number("audiocodecid", 10.0), number("audiosamplerate", f64::from(sound.sample_rate))]);
        all.push(("stereo".into(), Amf::Flag(sound.channels > 1)));
    }
    all.push(("encoder".into(), Amf::text("choir")));
    all
}
