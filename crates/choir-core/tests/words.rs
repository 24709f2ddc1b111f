//! Every sentence that a running show can say, in one place: what is said stands in
//! `snapshots/words__*.snap`, one file for each surface, to be read at a glance. A new variant does
//! not compile here until it has a sample.

use choir_core::{
    command::{By, Done, Refusal},
    content::ContentFault,
    director::Unfit,
    facts::{
        Alarm, AlarmGrade, AlarmKind, AlarmStep, Cause, Contact, Direction, Event, EventKind, Fault, Joining, Loss, MachineChange,
        Misbehaviour, Notice, Reason, RecordingStep, Refused, RotaChange, Slow, State, Trouble, Waiting,
    },
    id::{DeviceId, FeedId, LineId, NetworkId, OutId, Subject},
    model::{Measure, Mismatch, RotaOrder},
    sheet::Change,
    units::Bitrate,
    words::{Names, done_words, event_words},
};
use std::{net::SocketAddr, time::Duration};

struct Sheet;

impl Names for Sheet {
    fn line(&self, id: LineId) -> String {
        ["finish-tower", "start-pontoon"][id.0 as usize].into()
    }
    fn feed(&self, _: FeedId) -> String {
        "boathouse-1".into()
    }
    fn out(&self, _: OutId) -> String {
        "boathouse-1".into()
    }
    fn device(&self, _: DeviceId) -> String {
        "finish-tower".into()
    }
    fn network(&self, _: NetworkId) -> String {
        "boat-radio".into()
    }
}

fn text(t: &str) -> String {
    t.to_owned()
}

fn peer() -> SocketAddr {
    ([127, 20, 0, 11], 7101).into()
}

fn secs(n: u64) -> Duration {
    Duration::from_secs(n)
}

fn refused(fault: Option<Fault>, why: &str) -> Refused {
    Refused { from: peer(), stream_id: Some(text("umpire-launch")), fault, why: text(why) }
}

fn waiting() -> Vec<Waiting> {
    let source = |machine: Option<&str>, seen, near: Option<&str>, closed: Option<&str>, groups: &[&str]| Waiting::Source {
        name: text("Finish Tower"),
        machine: machine.map(text),
        seen,
        near: near.map(text),
        closed: closed.map(text),
        other_groups: groups.iter().map(|g| text(g)).collect(),
    };
    let all = vec![
        Waiting::Start,
        Waiting::Caller { port: 7103, stream_id: None, refused: None },
        Waiting::Caller { port: 7103, stream_id: Some(text("umpire-launch")), refused: None },
        Waiting::Caller { port: 7103, stream_id: None, refused: Some(refused(Some(Fault::Passphrase), "wrong passphrase")) },
        Waiting::Publisher { port: 1935, app: text("in/regatta"), refused: None },
        Waiting::Publisher { port: 1935, app: text("in/regatta"), refused: Some(refused(Some(Fault::StreamKey), "wrong stream key")) },
        Waiting::Packets { port: 7301 },
        Waiting::FarEnd,
        Waiting::EndOfFile,
        Waiting::Take,
        Waiting::Viewers,
        Waiting::Receivers { no_media: false },
        Waiting::Receivers { no_media: true },
        source(None, Some(0), None, None, &[]),
        source(Some("boathouse"), Some(3), Some("Finish Towers"), None, &[]),
        source(Some("boathouse"), Some(3), None, Some("wrong group key"), &[]),
        source(None, None, None, None, &["other"]),
        Waiting::Offer { name: text("Finish Tower"), machine: text("boathouse"), silent: false },
        Waiting::Offer { name: text("Finish Tower"), machine: text("boathouse"), silent: true },
        Waiting::Discovery,
    ];
    for w in &all {
        match w {
            Waiting::Start | Waiting::Caller { .. } | Waiting::Packets { .. } | Waiting::FarEnd | Waiting::EndOfFile | Waiting::Take => {}
            Waiting::Publisher { .. }
            | Waiting::Viewers
            | Waiting::Receivers { .. }
            | Waiting::Source { .. }
            | Waiting::Offer { .. }
            | Waiting::Discovery => {}
        }
    }
    all
}

fn losses() -> Vec<Loss> {
    let all = vec![
        Loss::Call { peer: text("127.20.1.12:7102"), fault: Some(Fault::Silent), why: text("nothing answers") },
        Loss::Caller { peer: Some(peer()), fault: Some(Fault::PeerLost), why: text("silent for 5 s") },
        Loss::Caller { peer: None, fault: None, why: text("it ended the connection") },
        Loss::Refused(refused(Some(Fault::StreamId), "no such stream ID")),
        Loss::Reading(text("clip.ts: permission denied")),
        Loss::Writing { cause: text("no space left on device"), retries: true },
        Loss::Writing { cause: text("no space left on device"), retries: false },
        Loss::Source(Waiting::Discovery),
    ];
    for l in &all {
        match l {
            Loss::Call { .. } | Loss::Caller { .. } | Loss::Refused(_) | Loss::Reading(_) | Loss::Writing { .. } | Loss::Source(_) => {}
        }
    }
    all
}

fn joining() -> Vec<Joining> {
    vec![
        Joining::Calling(text("127.20.0.31:7202")),
        Joining::Meeting(text("127.20.1.14:7104")),
        Joining::Asking(text("127.20.0.11:8554")),
        Joining::Requesting { machine: text("boathouse"), name: text("Finish Tower") },
    ]
}

fn reasons() -> Vec<Reason> {
    let rate = Bitrate(3_500_000);
    let mut all = vec![
        Reason::Held,
        Reason::LineSilent,
        Reason::NoMediaYet,
        Reason::NoMedia(secs(4)),
        Reason::MediaStopped(secs(3)),
        Reason::Missing(0.034),
        Reason::MissingPackets(1),
        Reason::MissingPackets(17),
        Reason::Unrepaired(12),
        Reason::NotTransportStream,
        Reason::NoKeyframe,
        Reason::NoParameterSets,
        Reason::HeadroomLow { ms: 9.0, latency_ms: 120.0 },
        Reason::Differs(Mismatch::NoPicture),
        Reason::Differs(Mismatch::Codec { expected: text("h265"), receiving: text("h264") }),
        Reason::Differs(Mismatch::Size { expected: (1920, 1080), receiving: (1280, 720) }),
        Reason::Differs(Mismatch::Rate { expected: 50.0, receiving: 25.0 }),
        Reason::Differs(Mismatch::Bitrate { expected: Bitrate(6_000_000), receiving: Bitrate(480_000) }),
        Reason::Differs(Mismatch::Keyframe { expected_ms: 1000, receiving_ms: 9600 }),
        Reason::Content(ContentFault::Black, secs(4)),
        Reason::Content(ContentFault::Flat, secs(4)),
        Reason::Content(ContentFault::Bars, secs(4)),
        Reason::Content(ContentFault::Frozen, secs(64)),
        Reason::Content(ContentFault::Silent, secs(4)),
        Reason::Content(ContentFault::ChannelSilent(2), secs(4)),
        Reason::Content(ContentFault::Clipped, secs(4)),
        Reason::Content(ContentFault::OutOfPhase, secs(4)),
        Reason::Content(ContentFault::Apart(1200), secs(4)),
        Reason::Content(ContentFault::Apart(-900), secs(4)),
        Reason::PicturesLeftOut(13, 25),
        Reason::Encoding(text("the overlay regatta/logo.png: No such file or directory (os error 2)")),
        Reason::Steady { rate, headroom_ms: Some((96.0, 120.0)), direction: Direction::In },
        Reason::Steady { rate, headroom_ms: None, direction: Direction::In },
        Reason::Steady { rate, headroom_ms: None, direction: Direction::Out },
    ];
    all.extend(waiting().into_iter().map(Reason::Waiting));
    all.extend(joining().into_iter().map(Reason::Joining));
    all.extend(losses().into_iter().map(Reason::Lost));
    all.extend(causes().into_iter().map(Reason::Cause));
    for r in &all {
        match r {
            Reason::Held | Reason::Waiting(_) | Reason::Joining(_) | Reason::Lost(_) | Reason::LineSilent | Reason::NoMediaYet => {}
            Reason::NoMedia(_) | Reason::MediaStopped(_) | Reason::Missing(_) | Reason::MissingPackets(_) | Reason::Unrepaired(_) => {}
            Reason::NotTransportStream | Reason::NoKeyframe | Reason::NoParameterSets | Reason::HeadroomLow { .. } | Reason::Differs(_) => {
            }
            Reason::Content(..) | Reason::Cause(_) | Reason::Steady { .. } => {}
            Reason::PicturesLeftOut(..) | Reason::Encoding(_) => {}
        }
    }
    all
}

fn causes() -> Vec<Cause> {
    let (ms, mbps) = (Duration::from_millis, |tenths: u64| Bitrate(tenths * 100_000));
    let all = vec![
        Cause::OwnMachine(Slow::Drops(41)),
        Cause::OwnMachine(Slow::Late(63.0)),
        Cause::OwnMachine(Slow::Busy(0.97)),
        Cause::PeerGone { silent: ms(800) },
        Cause::NothingHeard { silent: ms(1400) },
        Cause::EncoderStopped { silent: ms(1300) },
        Cause::Pause { silent: ms(600) },
        Cause::AnswersLost { unanswered: secs(2) },
        Cause::NothingArrives { unacknowledged: ms(1800) },
        Cause::LargePacketsLost { passes: Some(752) },
        Cause::LargePacketsLost { passes: None },
        Cause::PlaceTaken { from: Some(peer()) },
        Cause::PlaceTaken { from: None },
        Cause::TwoSenders { changes: 5 },
        Cause::PassphraseChanged,
        Cause::KeyMissing { share: 0.4 },
        Cause::KeyUnconfirmed { waiting: secs(3) },
        Cause::PathFull { carries: Some(mbps(32)), set: Some(mbps(26)), queue: ms(90) },
        Cause::PathFull { carries: None, set: None, queue: ms(900) },
        Cause::CeilingReached { ceiling: mbps(82) },
        Cause::PeerSlow { free: 12 },
        Cause::WindowTooSmall { window: 64, takes: 210 },
        Cause::Outage { lasted: ms(360), packets: 140 },
        Cause::PeriodicBursts { period: ms(2400), seen: 5 },
        Cause::LatencyTooSmall { latency: ms(200), rtt: ms(240), set: Some(ms(620)) },
        Cause::LatencyTooSmall { latency: ms(200), rtt: ms(80), set: None },
        Cause::RandomLoss { lost: 0.123, burst: 1.0 },
        Cause::RandomLoss { lost: 0.021, burst: 3.2 },
        Cause::Restarted { ago: secs(4) },
        Cause::ClockDrift { ppm: 320.0 },
        Cause::ClockDrift { ppm: -280.0 },
        Cause::Differs(Mismatch::NoPicture),
        Cause::RateFell { now: mbps(3), usual: mbps(40) },
        Cause::Content(ContentFault::Frozen),
        Cause::SamePicture { line: text("towpath") },
    ];
    for c in &all {
        match c {
            Cause::OwnMachine(_) | Cause::PeerGone { .. } | Cause::NothingHeard { .. } | Cause::EncoderStopped { .. } => {}
            Cause::Pause { .. } | Cause::AnswersLost { .. } | Cause::NothingArrives { .. } | Cause::LargePacketsLost { .. } => {}
            Cause::PlaceTaken { .. } | Cause::TwoSenders { .. } | Cause::PassphraseChanged | Cause::KeyMissing { .. } => {}
            Cause::KeyUnconfirmed { .. } | Cause::PathFull { .. } | Cause::CeilingReached { .. } | Cause::PeerSlow { .. } => {}
            Cause::WindowTooSmall { .. } | Cause::Outage { .. } | Cause::PeriodicBursts { .. } | Cause::LatencyTooSmall { .. } => {}
            Cause::RandomLoss { .. } | Cause::Restarted { .. } | Cause::ClockDrift { .. } | Cause::Differs(_) => {}
            Cause::RateFell { .. } | Cause::Content(_) | Cause::SamePicture { .. } => {}
        }
    }
    all
}

fn notices() -> Vec<Notice> {
    let all = vec![
        Notice::Connected { peer: peer(), cipher: Some(text("AES-128")), latency: Duration::from_millis(120) },
        Notice::Connected { peer: peer(), cipher: None, latency: Duration::from_millis(120) },
        Notice::Publishes { from: peer(), agent: Some(text("boat cam 2")) },
        Notice::Publishes { from: peer(), agent: None },
        Notice::Taken(text("127.20.0.51:1935")),
        Notice::LeftOut { pictures: 48, waited: Duration::from_millis(3100) },
        Notice::NotCarried(text("MP3")),
        Notice::Lost(Loss::Caller { peer: Some(peer()), fault: None, why: text("silent for 5 s") }),
        Notice::CallerRefused(refused(Some(Fault::Passphrase), "wrong passphrase")),
        Notice::Network(text("network is unreachable")),
        Notice::SendFailed { to: peer(), cause: text("network is unreachable") },
        Notice::MediaFrom(peer()),
        Notice::SenderRestarted,
        Notice::DroppingDamaged,
        Notice::ClockJumped,
        Notice::PeerClockJumped { peer: peer(), ms: -71_200 },
        Notice::StampsCorrected { new: 1, total: 3 },
        Notice::Misbehaves(Misbehaviour::PayloadType { codec: text("H.264"), arrives: 97 }),
        Notice::Misbehaves(Misbehaviour::ClockRate { percent: 4 }),
        Notice::Misbehaves(Misbehaviour::SenderReports { tenths: 12 }),
        Notice::Misbehaves(Misbehaviour::RtpInfo { tenths: 12 }),
        Notice::TrackIgnored { number: 3, kind: text("application"), encoding: text("vnd.onvif.metadata"), why: text("not supported") },
        Notice::FallsBackToTcp(text("no packet came by UDP for 2 s")),
        Notice::Redirected(text("rtsp://127.20.0.12/main")),
        Notice::Served(vec![text("rtsp://127.20.0.1:8554/boathouse-1")]),
        Notice::ViewerSlow(peer()),
        Notice::ViewerDropped(peer(), secs(10)),
        Notice::PlayedOut,
        Notice::RecordingRenamed { wanted: "take.ts".into(), kept: "take-1.ts".into() },
        Notice::RecordingDefect { at: secs(75), what: text("3 packets missing") },
        Notice::Recorded { path: text("take.ts"), first: None, more: 0 },
        Notice::Recorded { path: text("take.ts"), first: Some(text("3 packets missing")), more: 2 },
        Notice::WritingAgain { after: secs(4), lost: 2_000_000 },
        Notice::GroupOutFailed { group: ([239, 20, 0, 9], 7350).into(), cause: text("no such device") },
        Notice::GroupInFailed { group: ([239, 20, 0, 9], 7350).into(), cause: text("no such device") },
        Notice::NameTaken { wanted: text("Finish Tower"), got: text("Finish Tower (2)") },
        Notice::MachineNameTaken { wanted: text("boathouse"), got: text("boathouse (2)") },
        Notice::NameLimit(64),
        Notice::ReceiverSlow(peer()),
        Notice::GradeLowered { name: text("Finish Tower"), grade: text("sub") },
        Notice::ChannelsDropped { channels: 16, carried: 8 },
        Notice::SeveralOffer { name: text("Finish Tower"), count: 2, machine: text("boathouse") },
        Notice::LampFailed { device: text("finish-tower"), cause: text("no answer") },
        Notice::LampFollows { device: text("finish-tower") },
        Notice::KeyframeFailed(text("no answer")),
    ];
    for n in &all {
        match n {
            Notice::Connected { .. } | Notice::Lost(_) | Notice::CallerRefused(_) | Notice::Network(_) | Notice::SendFailed { .. } => {}
            Notice::Publishes { .. } | Notice::Taken(_) | Notice::LeftOut { .. } | Notice::NotCarried(_) => {}
            Notice::MediaFrom(_) | Notice::SenderRestarted | Notice::DroppingDamaged | Notice::ClockJumped => {}
            Notice::PeerClockJumped { .. } => {}
            Notice::StampsCorrected { .. } | Notice::Misbehaves(_) | Notice::TrackIgnored { .. } | Notice::FallsBackToTcp(_) => {}
            Notice::Redirected(_) | Notice::Served(_) | Notice::ViewerSlow(_) | Notice::ViewerDropped(..) | Notice::PlayedOut => {}
            Notice::RecordingRenamed { .. } | Notice::RecordingDefect { .. } | Notice::Recorded { .. } | Notice::WritingAgain { .. } => {}
            Notice::GroupOutFailed { .. } | Notice::GroupInFailed { .. } | Notice::NameTaken { .. } | Notice::MachineNameTaken { .. } => {}
            Notice::NameLimit(_) | Notice::ReceiverSlow(_) | Notice::GradeLowered { .. } | Notice::ChannelsDropped { .. } => {}
            Notice::SeveralOffer { .. } | Notice::LampFailed { .. } | Notice::LampFollows { .. } | Notice::KeyframeFailed(_) => {}
        }
    }
    all
}

/// Sentences, one a line.
fn lines<T>(all: impl IntoIterator<Item = T>, say: impl Fn(&T) -> String) -> String {
    all.into_iter().map(|t| say(&t)).collect::<Vec<_>>().join("\n")
}

fn event(subject: Subject, kind: EventKind) -> String {
    let e = Event { number: 1, at_ms: 0, subject, kind };
    format!("{:7} {}", format!("{:?}", e.kind.grade()).to_lowercase(), event_words(&e, &Sheet))
}

#[test]
fn states_and_their_reasons_are_as_reviewed() {
    insta::assert_snapshot!("states", lines(reasons(), ToString::to_string));
    let contacts = [Contact::Held, Contact::Up];
    assert!(contacts.iter().all(|c| c.fault().is_none()));
}

fn machine(change: MachineChange) -> EventKind {
    EventKind::Machine(change)
}

/// Each trouble that an alarm can have, and each step of one.
fn alarms() -> Vec<EventKind> {
    let limit = |measure, value, limit| Trouble::Limit { measure, value, limit };
    let silent = || Trouble::Reason(Reason::Cause(Cause::NothingHeard { silent: secs(3) }));
    let alarm = |trouble, grade| Alarm {
        number: 3,
        subject: Subject::Network(NetworkId(0)),
        kind: AlarmKind::Silent,
        grade,
        trouble,
        since_ms: 0,
        raised_ms: 0,
        again: 0,
        acknowledged: None,
        over_ms: None,
        members: Vec::new(),
    };
    let troubles = [
        silent(),
        limit(Measure::Loss, 0.081, 0.05),
        limit(Measure::Missing, 0.004, 0.001),
        limit(Measure::Headroom, 12.0, 30.0),
        limit(Measure::Rtt, 412.0, 400.0),
        limit(Measure::Jitter, 31.0, 30.0),
        limit(Measure::Rate, 120_000.0, 500_000.0),
        Trouble::Together { troubled: 20, of: 22, most: Box::new(silent()) },
    ];
    let raised = troubles.into_iter().map(|t| EventKind::Alarm(Box::new(alarm(t, AlarmGrade::Warning)), AlarmStep::Raised));
    let steps =
        [AlarmStep::Again, AlarmStep::Worse, AlarmStep::Acknowledged(By::CommandLine), AlarmStep::Over(secs(75)), AlarmStep::Joined(4)];
    let changed = steps.map(|step| EventKind::Alarm(Box::new(alarm(silent(), AlarmGrade::Trouble)), step));
    raised.chain(changed).collect()
}

#[test]
fn alarms_are_as_reviewed() {
    insta::assert_snapshot!("alarms", lines(alarms(), |kind| event(Subject::Network(NetworkId(0)), kind.clone())));
}

#[test]
fn events_are_as_reviewed() {
    let (line, way) = (Subject::Line(LineId(0)), Subject::Out(OutId(0)));
    let rota = |change| EventKind::Rota { name: text("intervals"), change };
    let notices = lines(notices(), |n| event(line, EventKind::Notice(n.clone())));
    let others = [
        (line, EventKind::State { state: State::Strained, reason: Reason::HeadroomLow { ms: 9.0, latency_ms: 120.0 } }),
        (way, EventKind::State { state: State::Waiting, reason: Reason::LineSilent }),
        (Subject::Feed(FeedId(0)), EventKind::TakeRequested { line: LineId(1), keyframe_asked: true, behind: None, by: By::LiveView }),
        (Subject::Feed(FeedId(0)), EventKind::TakeRequested { line: LineId(1), keyframe_asked: false, behind: None, by: By::CommandLine }),
        (
            Subject::Feed(FeedId(0)),
            EventKind::TakeRequested { line: LineId(1), keyframe_asked: false, behind: Some(Duration::from_millis(820)), by: By::Rota },
        ),
        (Subject::Feed(FeedId(0)), rota(RotaChange::Told(RotaOrder::Start, By::CommandLine))),
        (Subject::Feed(FeedId(0)), rota(RotaChange::Told(RotaOrder::Pause, By::LiveView))),
        (Subject::Feed(FeedId(0)), rota(RotaChange::Told(RotaOrder::Skip, By::CommandLine))),
        (Subject::Feed(FeedId(0)), rota(RotaChange::Told(RotaOrder::Stop, By::CommandLine))),
        (Subject::Feed(FeedId(0)), rota(RotaChange::Interrupted)),
        (Subject::Feed(FeedId(0)), rota(RotaChange::Ended)),
        (line, EventKind::Wall { full: Some(LineId(1)), by: By::CommandLine }),
        (line, EventKind::Wall { full: None, by: By::LiveView }),
        (Subject::Show, EventKind::Preset { device: text("finish-tower"), preset: text("3"), by: By::LiveView }),
        (Subject::Feed(FeedId(0)), EventKind::TakeWaiting { line: LineId(1), on: Some(LineId(0)), waited: secs(10) }),
        (Subject::Feed(FeedId(0)), EventKind::TakeWaiting { line: LineId(1), on: None, waited: secs(10) }),
        (Subject::Feed(FeedId(0)), EventKind::Taken { line: LineId(1), gap: Duration::from_millis(40) }),
        (Subject::Feed(FeedId(0)), EventKind::Taken { line: LineId(1), gap: Duration::from_millis(1240) }),
        (Subject::Feed(FeedId(0)), EventKind::StandIn { line: LineId(1), failed: LineId(0), why: Unfit::NoMedia, flaps: false }),
        (
            Subject::Feed(FeedId(0)),
            EventKind::StandIn { line: LineId(1), failed: LineId(0), why: Unfit::Content(ContentFault::Black), flaps: true },
        ),
        (Subject::Feed(FeedId(0)), EventKind::StandIn { line: LineId(1), failed: LineId(0), why: Unfit::Broken, flaps: false }),
        (Subject::Feed(FeedId(0)), EventKind::Returned { line: LineId(1), away: secs(72) }),
        (line, EventKind::Recording(RecordingStep::Begun { folder: "recordings".into(), by: By::CommandLine })),
        (line, EventKind::Recording(RecordingStep::Ended { files: 1, bytes: 900 })),
        (
            line,
            EventKind::Recording(RecordingStep::Failed { folder: "/media/stick".into(), cause: text("Input/output error (os error 5)") }),
        ),
        (line, EventKind::Recording(RecordingStep::DiskLow { folder: "recordings".into(), left: secs(3000) })),
        (line, EventKind::Recording(RecordingStep::DiskFull { folder: "recordings".into(), free: 256 << 20 })),
        (Subject::Feed(FeedId(0)), EventKind::Previewed { line: LineId(1), by: By::CommandLine }),
        (line, EventKind::Held { held: true, by: By::CommandLine }),
        (line, EventKind::Held { held: false, by: By::LiveView }),
        (Subject::Feed(FeedId(0)), EventKind::Confirmed { size: (1280, 720) }),
        (Subject::Feed(FeedId(0)), EventKind::NotConfirmed(text("it stands still"))),
        (Subject::Machine, EventKind::ReceiveBuffer { granted: 425_984, wanted: 8 << 20 }),
        (
            Subject::Machine,
            machine(MachineChange::Network { came: vec![text("eth1 10.77.0.9")], gone: vec![text("eth1 10.77.0.5")], rejoined: 3 }),
        ),
        (Subject::Machine, machine(MachineChange::Network { came: vec![text("eth1 10.77.0.9")], gone: Vec::new(), rejoined: 1 })),
        (Subject::Machine, machine(MachineChange::Slept(secs(8000)))),
        (Subject::Machine, machine(MachineChange::ClockSet { ms: 1500 })),
        (Subject::Machine, machine(MachineChange::ClockSet { ms: -3_600_000 })),
        (Subject::Machine, machine(MachineChange::FilesShort { limit: 600 })),
        (Subject::Machine, machine(MachineChange::FilesEnough)),
        (Subject::Show, EventKind::Messenger { to: text("http://127.20.0.2:9090"), failed: Some(text("connection refused")) }),
        (Subject::Show, EventKind::Messenger { to: text("http://127.20.0.2:9090"), failed: None }),
        (Subject::Show, EventKind::Reloaded(Change::default())),
        (Subject::Show, EventKind::ReloadFailed(text("regatta.toml:14: line \"finish-tower\": latency 120 has no unit."))),
    ];
    for (_, kind) in &others {
        match kind {
            EventKind::State { .. } | EventKind::Notice(_) | EventKind::TakeRequested { .. } | EventKind::TakeWaiting { .. } => {}
            EventKind::Rota { .. } | EventKind::Preset { .. } | EventKind::Wall { .. } => {}
            EventKind::Recording(_) | EventKind::StandIn { .. } | EventKind::Returned { .. } | EventKind::Previewed { .. } => {}
            EventKind::Taken { .. } | EventKind::Held { .. } | EventKind::ReceiveBuffer { .. } => {}
            EventKind::Messenger { .. } | EventKind::Reloaded(_) | EventKind::ReloadFailed(_) => {}
            EventKind::Machine(
                MachineChange::Network { .. }
                | MachineChange::Slept(_)
                | MachineChange::ClockSet { .. }
                | MachineChange::FilesShort { .. }
                | MachineChange::FilesEnough,
            ) => {}
            EventKind::Confirmed { .. } | EventKind::NotConfirmed(_) => {}
            EventKind::Alarm(..) => {} // Has its own surface.
        }
    }
    insta::assert_snapshot!("events", format!("{}\n{notices}", lines(others, |(s, k)| event(*s, k.clone()))));
}

#[test]
fn answers_to_commands_are_as_reviewed() {
    let (feed, line) = (FeedId(0), LineId(1));
    let done = [
        Done::TakeRequested { feed, line, behind: None },
        Done::TakeRequested { feed, line, behind: Some(Duration::from_millis(820)) },
        Done::TakesRequested(vec![(feed, line), (FeedId(1), line)]),
        Done::Rota { name: text("intervals"), order: RotaOrder::Start },
        Done::Rota { name: text("intervals"), order: RotaOrder::Skip },
        Done::Wall { wall: LineId(0), full: Some(line) },
        Done::Wall { wall: LineId(0), full: None },
        Done::Preset { device: text("finish-tower"), preset: text("3") },
        Done::Previewed { feed, line },
        Done::Held { line, held: true, already: false },
        Done::Held { line, held: true, already: true },
        Done::Held { line, held: false, already: false },
        Done::Held { line, held: false, already: true },
        Done::HeldOuts { feed, changed: 0, held: true },
        Done::HeldOuts { feed, changed: 1, held: true },
        Done::HeldOuts { feed, changed: 2, held: false },
        Done::Recording { subject: Subject::Line(line), folder: "recordings".into() },
        Done::RecordingsEnded(0),
        Done::RecordingsEnded(2),
        Done::Examined { line, on: true },
        Done::Examined { line, on: false },
        Done::Acknowledged(Vec::new()),
        Done::Acknowledged(vec![3]),
        Done::Acknowledged(vec![3, 4]),
        Done::Reloaded(Change::default()),
        Done::Stopping,
    ];
    for d in &done {
        match d {
            Done::TakeRequested { .. }
            | Done::TakesRequested(_)
            | Done::Rota { .. }
            | Done::Preset { .. }
            | Done::Wall { .. }
            | Done::Previewed { .. }
            | Done::HeldOuts { .. }
            | Done::Recording { .. }
            | Done::RecordingsEnded(_)
            | Done::Held { .. }
            | Done::Examined { .. }
            | Done::Acknowledged(_)
            | Done::Reloaded(_)
            | Done::Stopping => {}
        }
    }
    let refusals = [
        Refusal::NoLine { name: text("finish"), hint: text("Did you mean \"finish-tower\"?") },
        Refusal::NoFeed { name: text("boathouse"), hint: text("Did you mean \"boathouse-1\"?") },
        Refusal::NoAlarm { what: text("of finish-tower"), hint: text("There is none at all.") },
        Refusal::NoWayOut { feed: text("boathouse-1"), number: 3, count: 2 },
        Refusal::NotOpened { feed: text("boathouse-1"), why: text("port 7301 is taken") },
        Refusal::NothingNext(text("boathouse-1")),
        Refusal::NoKey(text("F5")),
        Refusal::NoWall(text("finish-tower")),
        Refusal::Camera { device: text("finish-tower"), why: text("no answer within 2 s") },
        Refusal::NoRota { name: text("interval"), hint: text("Did you mean \"intervals\"?") },
        Refusal::NotSoRota { name: text("intervals"), state: "does not run" },
        Refusal::Recorded(text("boathouse-1")),
        Refusal::NotRecorded(text("boathouse-1")),
        Refusal::Removed,
        Refusal::NoFile,
        Refusal::Sheet(text("regatta.toml: permission denied")),
    ];
    for r in &refusals {
        match r {
            Refusal::NoAlarm { .. }
            | Refusal::NoKey(_)
            | Refusal::NoWall(_)
            | Refusal::Camera { .. }
            | Refusal::NoRota { .. }
            | Refusal::NotSoRota { .. }
            | Refusal::NoWayOut { .. }
            | Refusal::NotOpened { .. }
            | Refusal::NothingNext(_)
            | Refusal::Recorded(_)
            | Refusal::NotRecorded(_)
            | Refusal::NoLine { .. }
            | Refusal::NoFeed { .. }
            | Refusal::Removed
            | Refusal::NoFile
            | Refusal::Sheet(_) => {}
        }
    }
    insta::assert_snapshot!("answers", format!("{}\n{}", lines(done, |d| done_words(d, &Sheet)), lines(refusals, ToString::to_string)));
}
