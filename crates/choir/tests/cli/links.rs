//! `choir link` between two processes, in good and bad times.

use crate::place::{Place, last_json, port};
use choir_sim::stalls::{on_time, timed};
use std::{fs, net::UdpSocket, process::Stdio};

#[test]
fn the_wrong_passphrase_is_told_on_both_ends_and_in_neither_shown() {
    let place = Place::new();
    let clip = place.clip();
    let at = port();
    let mut listener =
        place.start(&["link", &format!("srt://127.0.0.1:{at}?mode=listener&passphrase=rowing is made up"), "got.ts", "--for", "30s"]);
    listener.says("line in: waiting");
    let mut caller = place.start(&["link", &clip, &format!("srt://127.0.0.1:{at}?passphrase=sailing%20is%20too"), "--for", "30s"]);
    caller.says("refused by the other end: the passphrase differs");
    listener.says("refused: the passphrase differs");
    for running in [&caller, &listener] {
        let shown = fs::read_to_string(format!("/proc/{}/cmdline", running.id())).expect("process list");
        assert!(!shown.contains("made up") && !shown.contains("sailing"), "{shown}");
        let limits = fs::read_to_string(format!("/proc/{}/limits", running.id())).expect("limits");
        let core = limits.lines().find(|l| l.starts_with("Max core file size")).expect("core");
        assert_eq!(core.split_whitespace().nth(4), Some("0"), "no passphrase in a core dump");
    }
    caller.interrupt();
    listener.interrupt();
    let ((code_a, text_a), (code_b, text_b)) = (caller.end(), listener.end());
    assert_eq!((code_a, code_b), (1, 1));
    let everything = [text_a, text_b, caller.seen.join("\n"), listener.seen.join("\n")].concat();
    assert!(!everything.contains("made up") && !everything.contains("sailing"), "{everything}");
}

#[test]
fn nobody_listening_and_nobody_answering_are_told_apart() {
    let place = Place::new();
    let clip = place.clip();
    let mut caller = place.start(&["link", &clip, &format!("srt://127.0.0.1:{}", port()), "--for", "30s"]);
    caller.says("nothing listens on that port");
    // Somebody holds the port and says nothing.
    let mute = UdpSocket::bind("127.0.0.1:0").expect("a port");
    let at = mute.local_addr().expect("address");
    let mut caller = place.start(&["link", &clip, &format!("srt://{at}"), "--for", "30s"]);
    caller.says("no answer within 3 s");
    caller.interrupt();
    assert_eq!(caller.end().0, 1);
}

#[test]
fn junk_on_the_port_does_no_harm() {
    let place = Place::new();
    let clip = format!("{}?repeat", place.clip());
    let at = port();
    let mut receiver = place.start(&["link", &format!("srt://127.0.0.1:{at}?mode=listener"), "got.ts", "--for", "60s"]);
    receiver.says("line in: waiting");
    let junk = UdpSocket::bind("127.0.0.1:0").expect("a port");
    let mut x = 1u32;
    for n in 0..2000usize {
        let data: Vec<u8> = (0..n % 1400)
            .map(|_| {
                x = x.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
                (x >> 24) as u8
            })
            .collect();
        junk.send_to(&data, ("127.0.0.1", at)).expect("sent");
    }
    let _sender = place.start(&["link", &clip, &format!("srt://127.0.0.1:{at}")]);
    receiver.carries("line in");
    receiver.interrupt();
    assert_eq!(receiver.end().0, 0);
}

#[test]
fn a_full_disk_is_told_and_a_taken_port_too() {
    let place = Place::new();
    let clip = place.clip();
    let mut writer = place.start(&["link", &clip, "/dev/full", "--for", "30s"]);
    writer.says("writing stopped: No space left on device");
    let holder = UdpSocket::bind("127.0.0.1:0").expect("a port");
    let at = holder.local_addr().expect("address");
    let out = place.run(&["link", &format!("srt://{at}?mode=listener"), "x.ts"]);
    assert_eq!(out.code, 4);
    assert!(out.stderr.contains("another program waits on that port"), "{}", out.stderr);
    let out = place.run(&["link", "missing.ts", "x.ts"]);
    assert_eq!((out.code, out.stderr.contains("missing.ts")), (4, true), "{}", out.stderr);
    let out = place.run(&["link", "srt://127.0.0.1:7001?passphrase-env=NOT_SET_ANYWHERE", "x.ts"]);
    assert_eq!((out.code, out.stderr.contains("NOT_SET_ANYWHERE is not set")), (4, true), "{}", out.stderr);
}

/// Run with the machine to themselves.
mod timing {
    use super::*;

    #[test]
    fn a_file_crosses_an_encrypted_link_byte_for_byte() {
        timed(|| {
            let place = Place::new();
            let clip = place.clip();
            let at = port();
            let mut receiver = place.start(&[
                "link",
                &format!("srt://127.0.0.1:{at}?mode=listener&passphrase=rowing is made up&streamid=clip"),
                "got.ts",
                "--for",
                "30s",
            ]);
            receiver.says("line in: waiting");
            let url = format!("srt://127.0.0.1:{at}?streamid=clip&pbkeylen=32&passphrase-env=SECRET");
            let out = place.command(&["link", &clip, &url, "--json"]).env("SECRET", "rowing is made up").output().expect("runs");
            assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
            let json = last_json(&String::from_utf8_lossy(&out.stdout));
            assert_eq!(json["to"]["encryption"], "AES-256 secured");
            on_time("nothing is missing", || assert_eq!(json["to"]["dropped"], 0));
            receiver.says("the other end closed the link");
            receiver.interrupt();
            assert_eq!(receiver.end().0, 0);
            assert!(receiver.seen.iter().any(|l| l.contains("AES-256")), "the caller's key length holds: {:?}", receiver.seen);
            on_time("the same bytes", || {
                assert!(fs::read(place.path("got.ts")).expect("got") == fs::read(clip).expect("clip"), "not the same bytes")
            });
        });
    }

    #[test]
    fn every_pair_of_kinds_carries_a_picture() {
        timed(|| {
            let place = Place::new();
            let clip = format!("{}?repeat", place.clip());
            let (a, b, c) = (port(), port(), port());
            let mut end = place.start(&["link", &format!("udp://127.0.0.1:{c}"), "end.ts", "--json", "--for", "20s"]);
            let middle_in = format!("srt://127.0.0.1:{b}?mode=rendezvous&bind=127.0.0.2:{b}");
            let mut relay = place.start(&["link", &middle_in, &format!("udp://127.0.0.1:{c}"), "--for", "18s"]);
            let mut second = place.start(&[
                "link",
                &format!("udp://127.0.0.1:{a}"),
                &format!("srt://127.0.0.2:{b}?mode=rendezvous&bind=127.0.0.1:{b}"),
                "--for",
                "18s",
            ]);
            let mut first = place.start(&["link", &clip, &format!("udp://127.0.0.1:{a}"), "--for", "18s"]);
            relay.is_steady("line in");
            for running in [&mut first, &mut second, &mut relay, &mut end] {
                running.interrupt();
            }
            let (code, text) = end.end();
            let json = last_json(&text);
            assert_eq!(code, 0, "{text}");
            assert_eq!(json["media"]["size"], serde_json::json!([320, 180]));
            on_time("nothing is missing", || assert_eq!(json["media"]["continuity_errors"], 0));
        });
    }

    #[test]
    fn standard_input_and_output_carry_media_and_every_prints_json_lines() {
        timed(|| {
            let place = Place::new();
            let clip = place.clip();
            let bytes = fs::read(&clip).expect("clip");
            let mut command = place.command(&["link", "-", "-"]);
            let mut child =
                command.stdin(fs::File::open(&clip).expect("clip")).stdout(Stdio::piped()).stderr(Stdio::null()).spawn().expect("starts");
            let mut got = Vec::new();
            std::io::Read::read_to_end(child.stdout.as_mut().expect("stdout"), &mut got).expect("read");
            assert!(child.wait().expect("ends").success());
            on_time("the same bytes", || assert_eq!(got, bytes));
            let out = place.run(&["link", &clip, "copy.ts", "--every", "1s", "--json"]);
            let lines: Vec<serde_json::Value> = out.stdout.lines().map(|l| serde_json::from_str(l).expect("each line is JSON")).collect();
            assert!(lines.len() >= 4, "{}", out.stdout);
            let counts: Vec<u64> = lines.iter().filter_map(|l| l["from"]["packets"].as_u64()).collect();
            assert!(counts.windows(2).all(|w| w[0] <= w[1]) && counts.last() > Some(&100), "{counts:?}");
        });
    }

    #[test]
    fn a_killed_peer_is_noticed_and_taken_back() {
        timed(|| {
            let place = Place::new();
            let clip = format!("{}?repeat", place.clip());
            let at = port();
            let mut receiver =
                place.start(&["link", &format!("srt://127.0.0.1:{at}?mode=listener"), "got.ts", "--json", "--every", "1h", "--for", "60s"]);
            let url = format!("srt://127.0.0.1:{at}");
            let mut plain = place.start(&["link", &format!("udp://127.0.0.1:{}", port()), "x.ts", "--for", "1s"]);
            let mut sender = place.start(&["link", &clip, &url]);
            sender.is_steady("feed out");
            sender.kill();
            let mut again = place.start(&["link", &clip, &url]);
            again.is_steady("feed out");
            again.interrupt();
            again.end();
            receiver.interrupt();
            let (code, text) = receiver.end();
            assert_eq!(code, 0, "{text}");
            // The spliced file never jumps, though its source began anew.
            on_time("nothing is missing", || assert_eq!(last_json(&text)["from"]["missing"], 0));
            plain.end();
        });
    }
}
