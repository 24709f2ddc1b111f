//! The line check's judgement: each failure is told apart, and each says what to do.

use choir_core::{
    facts::{Fault, State},
    linecheck::{Limits, Mark, Row, Seen, Step, judge_line, judge_out},
    sheet::{Sheet, read_sheet},
    view::{DefectView, LinkView, MediaView},
};
use std::{fmt::Write, time::Duration};

const SHEET: &str = r#"[show]
name = "Tarn Hollow Regatta"
[[line]]
name = "launch"
from = { mode = "caller", host = "launch.local", port = 7103, latency = "200 ms", passphrase = { env = "A" }, key-length = 256 }
expect = { codec = "h265", size = "960x540", rate = 25, bitrate = "3.5 Mbps", audio = "on" }
[[line]]
name = "tower"
from = { kind = "rtsp", url = "rtsp://desk@127.20.0.11/main", password = { env = "B" } }
[[line]]
name = "pontoon"
from = "srt://:7102?streamid=pontoon"
[[line]]
name = "bicycle"
from = "udp://127.20.0.1:7300"
[[line]]
name = "named"
from = "stave://boathouse/Finish Tower"
[[feed]]
name = "desk"
line = "launch"
to = "srt://127.20.0.31:7202"
"#;

fn sheet() -> Sheet {
    read_sheet(SHEET).0.expect("a sheet")
}

fn row(line: &str, seen: &Seen) -> Row {
    let sheet = sheet();
    judge_line(&sheet, sheet.line(line).expect("a line"), seen, &Limits::default())
}

fn failed(fault: Fault) -> Seen {
    let link =
        LinkView { state: Some(State::Broken), reason: "127.20.1.13:7103: refused".into(), fault: Some(fault), ..LinkView::default() };
    Seen { link, over: true, ..Seen::default() }
}

/// A line as it should be.
fn good() -> Seen {
    let link = LinkView {
        state: Some(State::Steady),
        packets: 5000,
        rate_bps: 4_100_000,
        latency_ms: Some(200.0),
        encryption: "AES-256 secured".into(),
        ..LinkView::default()
    };
    let media = MediaView {
        codec: Some("H.265".into()),
        encoding: Some("h265".into()),
        size: Some((960, 540)),
        rate: Some(25.0),
        keyframe_ms: Some(1000),
        keyframe_frames: Some(25),
        audio: Some("AAC 48 kHz stereo".into()),
        frames: 250,
        ..MediaView::default()
    };
    Seen {
        link,
        media: Some(media),
        delay_ms: Some(310.0),
        joined: Some(Duration::from_millis(400)),
        picture: Some(Duration::from_millis(1200)),
        mean_bps: 3_400_000,
        mean_link_bps: 4_000_000,
        lost: 0.002,
        missing: 0,
        headroom_ms: Some(120.0),
        still: Some(true),
        decoded: true,
        over: true,
    }
}

#[test]
fn a_good_line_passes_every_step() {
    let row = row("launch", &good());
    assert_eq!(row.mark(), Mark::Passed, "{row:#?}");
    assert_eq!(row.items.iter().map(|i| i.step).collect::<Vec<_>>(), Step::ALL, "each step once, in order");
    assert!(row.is_settled() && row.first_failure().is_none());
}

#[test]
fn what_keeps_a_line_from_coming_up_is_told_apart_with_its_remedy() {
    let mut told = String::new();
    let all = [
        Fault::Name,
        Fault::Silent,
        Fault::PortClosed,
        Fault::WrongProtocol,
        Fault::Passphrase,
        Fault::OneSided,
        Fault::StreamId,
        Fault::StreamKey,
        Fault::Login,
        Fault::Path,
        Fault::Taken,
        Fault::Refused,
        Fault::PeerLost,
    ];
    let mut seen = std::collections::HashSet::new();
    for fault in all {
        for line in ["launch", "tower"] {
            // RTSP has none of these.
            if line == "tower" && matches!(fault, Fault::Passphrase | Fault::OneSided | Fault::StreamId | Fault::StreamKey) {
                continue;
            }
            let row = row(line, &failed(fault));
            let first = row.first_failure().unwrap_or_else(|| panic!("{fault:?} on {line}: {row:#?}")).clone();
            assert!(row.is_settled(), "{fault:?} {row:#?}");
            assert!(first.remedy.as_ref().is_some_and(|r| r.len() > 20), "{first:?}");
            let _ = writeln!(told, "{fault:?} on {line}: {}: {}\n    {}", first.step.word(), first.found, first.remedy.unwrap_or_default());
            seen.insert((line, first.step, first.found));
        }
    }
    assert!(seen.len() >= 17, "only {} different sentences", seen.len());
    insta::assert_snapshot!(told);
}

#[test]
fn what_waits_and_what_is_silent_after_meeting_is_told_apart() {
    let said = |row: Row| row.first_failure().map(|i| format!("{}: {}", i.step.word(), i.found));
    let waiting = Seen { over: true, ..Seen::default() };
    assert_eq!(said(row("pontoon", &waiting)), Some("handshake: no caller yet".into()));
    assert_eq!(said(row("bicycle", &waiting)), Some("picture: nothing comes".into()));
    let met = Seen { joined: Some(Duration::from_secs(1)), over: true, ..Seen::default() };
    assert_eq!(said(row("launch", &met)), Some("picture: connected, no media".into()));
    let blind = Seen { link: LinkView { packets: 900, ..LinkView::default() }, ..met };
    assert_eq!(said(row("launch", &blind)), Some("picture: receiving media without a readable picture".into()));
    // While it waits nothing has failed.
    let open = row("pontoon", &Seen::default());
    assert_eq!((open.mark(), open.is_settled()), (Mark::Open, false));
}

#[test]
fn what_differs_from_the_sheet_fails_and_what_is_weak_is_doubtful() {
    let marks = |seen: &Seen, step| row("launch", seen).items.iter().find(|i| i.step == step).map(|i| i.mark);
    let with = |change: fn(&mut Seen)| {
        let mut seen = good();
        change(&mut seen);
        seen
    };
    type Case = (Step, Mark, fn(&mut Seen));
    let cases: Vec<Case> = vec![
        (Step::Codec, Mark::Failed, |s| {
            s.media.iter_mut().for_each(|m| (m.codec, m.encoding) = (Some("H.264".into()), Some("h264".into())))
        }),
        (Step::Size, Mark::Failed, |s| s.media.iter_mut().for_each(|m| m.size = Some((640, 360)))),
        (Step::Rate, Mark::Failed, |s| s.media.iter_mut().for_each(|m| m.rate = Some(50.0))),
        (Step::Bitrate, Mark::Doubtful, |s| (s.mean_bps, s.mean_link_bps) = (1_000_000, 1_200_000)),
        (Step::Bitrate, Mark::Passed, |s| (s.mean_bps, s.mean_link_bps) = (1_000_000, 3_900_000)),
        (Step::Keyframes, Mark::Doubtful, |s| s.media.iter_mut().for_each(|m| m.keyframe_ms = Some(10_000))),
        (Step::Keyframes, Mark::Doubtful, |s| s.media.iter_mut().for_each(|m| m.keyframe_ms = None)),
        (Step::Sound, Mark::Failed, |s| s.media.iter_mut().for_each(|m| m.audio = None)),
        (Step::Still, Mark::Doubtful, |s| s.still = Some(false)),
        (Step::Still, Mark::Doubtful, |s| s.still = None),
        (Step::Still, Mark::Skipped, |s| (s.still, s.decoded) = (None, false)),
        (Step::Stream, Mark::Skipped, |_| {}),
        (Step::Stream, Mark::Passed, |s| found(s, &[("gap", true)])),
        (Step::Stream, Mark::Doubtful, |s| found(s, &[("gap", true), ("clock", false), ("tables", false)])),
        (Step::Delay, Mark::Doubtful, |s| s.delay_ms = Some(900.0)),
        (Step::Delay, Mark::Skipped, |s| s.delay_ms = None),
        (Step::Loss, Mark::Doubtful, |s| s.lost = 0.08),
        (Step::Loss, Mark::Failed, |s| s.missing = 3),
        (Step::Headroom, Mark::Doubtful, |s| s.headroom_ms = Some(12.0)),
        (Step::Picture, Mark::Doubtful, |s| s.picture = Some(Duration::from_secs(9))),
        (Step::Encryption, Mark::Doubtful, |s| s.link.key_bits = Some(128)),
    ];
    for (step, mark, change) in cases {
        assert_eq!(marks(&with(change), step), Some(mark), "{step:?}");
    }
}

/// What is wrong with its stream, and whether that is only a remark.
fn found(seen: &mut Seen, defects: &[(&str, bool)]) {
    let defect = |(text, minor): &(&str, bool)| DefectView {
        text: format!("1 {text}"),
        clause: "ISO 13818-1, 2.7".into(),
        minor: *minor,
        ..DefectView::default()
    };
    seen.media.iter_mut().for_each(|m| m.defects = Some(defects.iter().map(defect).collect()));
}

#[test]
fn a_defect_is_told_with_its_clause_and_how_many_more_there_are() {
    let mut seen = good();
    found(&mut seen, &[("gap", true), ("clock", false), ("tables", false)]);
    let item = row("launch", &seen).items.into_iter().find(|i| i.step == Step::Stream).expect("the step");
    assert_eq!(item.found, "1 clock (ISO 13818-1, 2.7); and 1 more");
    assert!(item.remedy.is_some_and(|r| r.contains("choir inspect")));
}

#[test]
fn a_picture_that_came_and_is_gone_is_no_good_line() {
    let mut pulled = good();
    (pulled.link.state, pulled.link.reason) = (Some(State::Broken), "nothing heard for 5.0 s".into());
    let first = row("launch", &pulled).first_failure().map(|i| (i.step, i.found.clone()));
    assert_eq!(first, Some((Step::Picture, "picture lost: nothing heard for 5.0 s".into())));
    let sheet = sheet();
    let out = judge_out(&sheet.feeds[0], &sheet.feeds[0].to[0].link, &pulled, &Limits::default());
    assert_eq!(out.first_failure().map(|i| i.step), Some(Step::Picture));
}

#[test]
fn a_way_out_is_judged_by_what_goes_out() {
    let sheet = sheet();
    let (feed, to) = (&sheet.feeds[0], &sheet.feeds[0].to[0].link);
    let judge = |seen: &Seen| judge_out(feed, to, seen, &Limits::default());
    assert_eq!(judge(&good()).mark(), Mark::Passed, "{:#?}", judge(&good()));
    let starved = Seen { link: LinkView { rate_bps: 0, ..good().link }, ..good() };
    assert_eq!(judge(&starved).first_failure().map(|i| i.step), Some(Step::Picture));
    assert_eq!(judge(&failed(Fault::PortClosed)).first_failure().map(|i| i.step), Some(Step::Port));
}

#[test]
fn a_name_on_the_lan_is_judged_by_its_group_key() {
    let encryption = |seen: &Seen| {
        let row = row("named", seen);
        row.items.into_iter().find(|i| i.step == Step::Encryption).map(|i| (i.mark, i.found)).expect("judged")
    };
    let (mark, found) = encryption(&failed(Fault::Passphrase));
    assert!(mark == Mark::Failed && found.contains("group keys differ"), "{found}");
    let (mark, found) = encryption(&good());
    assert!(mark == Mark::Passed && found.contains("TLS 1.3"), "{found}");
    let (mark, _) = encryption(&Seen::default());
    assert_eq!(mark, Mark::Open);
}

#[test]
fn a_name_that_is_not_there_a_wrong_key_and_a_certificate_that_is_not_let_in_are_told_apart() {
    let first = |seen: &Seen| {
        let row = row("named", seen);
        assert!(row.is_settled(), "{row:#?}");
        row.first_failure().map(|i| (i.step, i.found.clone(), i.remedy.clone().unwrap_or_default()))
    };
    let reason = "name \"Finish Tower\" on machine \"boathouse\" not found on 1 machine; did you mean \"Finish Towr\"?";
    let awaited = Seen {
        link: LinkView { state: Some(State::Waiting), reason: reason.into(), ..LinkView::default() },
        over: true,
        ..Seen::default()
    };
    let (step, found, remedy) = first(&awaited).expect("a failure");
    assert_eq!((step, found.as_str()), (Step::Name, reason));
    assert!(remedy.contains("choir stave list"));
    let (step, found, remedy) = first(&failed(Fault::Passphrase)).expect("a failure");
    assert_eq!((step, found.as_str()), (Step::Encryption, "refused: the group keys differ"));
    assert!(remedy.contains("[stave]"));
    let (step, _, remedy) = first(&failed(Fault::Login)).expect("a failure");
    assert_eq!(step, Step::Login);
    assert!(remedy.contains("choir stave identity") && !remedy.contains("password"));
    // While it is looked for nothing has failed; once it comes all of it is good.
    let looking = row("named", &Seen::default());
    assert_eq!((looking.mark(), looking.is_settled()), (Mark::Open, false));
    let link = LinkView { encryption: "TLS 1.3".into(), latency_ms: None, ..good().link };
    assert_eq!(row("named", &Seen { link, headroom_ms: None, ..good() }).mark(), Mark::Passed);
}
