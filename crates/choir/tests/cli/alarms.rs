//! Alarms: raised once for their cause, handed on, acknowledged.

use crate::place::{Place, Running, carries, port};
use std::{
    fs,
    io::{Read, Write},
    net::TcpListener,
    os::unix::fs::PermissionsExt,
    sync::mpsc,
    time::{Duration, Instant},
};

const SECRET: &str = "a-token-that-nobody-may-see";

/// A web server that is not well at first; gives what is posted to it, with the head.
fn webhook(answers: &'static [&'static str]) -> (u16, mpsc::Receiver<String>) {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let at = listener.local_addr().expect("bound").port();
    let (tx, posts) = mpsc::channel();
    std::thread::spawn(move || {
        for (n, stream) in listener.incoming().enumerate() {
            let Ok(mut stream) = stream else { return };
            let (mut text, mut buf) = (String::new(), [0; 4096]);
            while !text.ends_with("}") {
                match stream.read(&mut buf) {
                    Ok(n) if n > 0 => text.push_str(&String::from_utf8_lossy(&buf[..n])),
                    _ => break,
                }
            }
            let answer = answers.get(n).unwrap_or(&"200 OK");
            let _ = write!(stream, "HTTP/1.1 {answer}\r\ncontent-length: 0\r\nconnection: close\r\n\r\n");
            let _ = tx.send(text);
        }
    });
    (at, posts)
}

fn posted(posts: &mpsc::Receiver<String>) -> (String, serde_json::Value) {
    let text = posts.recv_timeout(Duration::from_secs(40)).expect("posted");
    let (head, body) = text.split_once("\r\n\r\n").expect("a head and a body");
    (head.to_owned(), serde_json::from_str(body).expect("JSON"))
}

struct Boats {
    place: Place,
    sheet: String,
    ports: [u16; 2],
}

/// Two boats that come over one radio, and whatever else the sheet says.
fn boats(alarm: &str) -> Boats {
    let (place, ports) = (Place::new(), [port(), port()]);
    let line = |n: usize| {
        format!("[[line]]\nname = \"boat-{n}\"\nfrom = \"srt://127.0.0.1:{}?mode=listener&latency=80\"\nvia = [\"boat-radio\"]\n", ports[n])
    };
    let text = format!(
        "[show]\nname = \"Tarn Hollow Regatta\"\npictures = \"off\"\n[alarm]\nstrained = \"off\"\nclear = \"1 s\"\n{alarm}\n\
         [[network]]\nname = \"boat-radio\"\nkind = \"wireless\"\n{}{}",
        line(0),
        line(1)
    );
    let sheet = place.write("boats.toml", &text);
    Boats { place, sheet, ports }
}

fn camera(b: &Boats, n: usize) -> Running {
    let to = format!("srt://127.0.0.1:{}", b.ports[n]);
    b.place.start(&["sim", "camera", "--to", &to, "--size", "320x180", "--bitrate", "500kbps", "--keyframe", "0.4"])
}

#[test]
fn a_dead_camera_is_one_alarm_that_is_handed_on_acknowledged_and_over() {
    let (port, posts) = webhook(&["503 Service Unavailable"]);
    let command = "#!/bin/sh\necho \"$CHOIR_ALARM_STEP $CHOIR_ALARM_SUBJECT\" >> told.txt\ncat >> told.json\n";
    let b = boats("command = [\"./siren.sh\", \"short\"]\nwebhook = { env = \"BOATS_HOOK\" }");
    let siren = b.place.path("siren.sh");
    fs::write(&siren, command).expect("written");
    fs::set_permissions(&siren, fs::Permissions::from_mode(0o755)).expect("executable");
    let mut run = b.place.command(&["run", &b.sheet]);
    run.env("BOATS_HOOK", format!("http://127.0.0.1:{port}/{SECRET}"));
    let mut show = Running::of(run);
    let mut boat = camera(&b, 0);
    show.carries("line boat-0");
    assert_eq!(b.place.run(&["ack"]).stdout, "no alarms\n");
    boat.kill();
    show.says("line boat-0: alarm 1: ");

    // The first answer is no: it is told without the address, and posted again.
    let says = show.says("alarms do not reach");
    assert!(says.contains(&format!("http://127.0.0.1:{port}: it answers with status 503")) && !says.contains(SECRET), "{says}");
    let (head, first) = posted(&posts);
    assert!(head.starts_with(&format!("POST /{SECRET} ")), "{head}");
    assert_eq!((first["step"].as_str(), first["alarm"]["subject"].as_str()), (Some("raised"), Some("line boat-0")));
    assert_eq!((first["alarm"]["kind"].as_str(), first["alarm"]["grade"].as_str()), (Some("silent-link"), Some("trouble")));
    assert_eq!(posted(&posts).1, first);
    show.says("alarms reach http://127.0.0.1");

    let listed = b.place.run(&["ack"]).stdout;
    assert!(listed.contains("  1  line boat-0, trouble, since ") && listed.contains("not acknowledged"), "{listed}");
    let json: serde_json::Value = serde_json::from_str(&b.place.run(&["ack", "--json"]).stdout).expect("JSON");
    assert_eq!(json[0]["number"].as_u64(), Some(1));
    for wrong in ["2", "boat-1", "nobody"] {
        let out = b.place.run(&["ack", wrong]);
        assert!(out.code == 3 && out.stderr.contains("There are: 1 (line boat-0)"), "{} {}", out.code, out.stderr);
    }
    assert_eq!(b.place.run(&["ack", "boat-0"]).stdout, "alarm 1 acknowledged\n");
    assert_eq!(b.place.run(&["ack", "--all"]).stdout, "nothing to acknowledge: no alarm is unseen\n");
    assert!(b.place.run(&["status"]).stdout.contains("acknowledged"));

    let _again = camera(&b, 0);
    show.says("alarm 1 is over after");
    assert_eq!(b.place.run(&["ack"]).stdout, "no alarms\n", "over and seen");
    let end = Instant::now() + Duration::from_secs(40);
    let told = || fs::read_to_string(b.place.path("told.txt")).unwrap_or_default();
    while !told().contains("over line boat-0") {
        assert!(Instant::now() < end, "{}", told());
    }
    assert_eq!(told(), "raised line boat-0\nacknowledged line boat-0\nover line boat-0\n");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    assert!(!show.seen.iter().any(|l| l.contains(SECRET)));
}

#[test]
fn what_fails_together_is_one_alarm_on_the_network_in_common_and_a_reload_changes_who_is_told() {
    let b = boats("together = 2\ncommand = [\"./not-there\"]");
    let mut show = b.place.start(&["run", &b.sheet, "--watch-sheet"]);
    let mut both = [camera(&b, 0), camera(&b, 1)];
    b.place.until("both boats", |v| (0..2).all(|n| carries(&v["lines"][n]["link"]["state"])));
    both.iter_mut().for_each(Running::kill);
    let says = show.says("network boat-radio: alarm 1: 2 of 2 lines and ways out in trouble at once");
    assert!(says.contains(" # "), "{says}");
    show.says_or_said("alarms do not reach ./not-there: it cannot be started");
    let view = b.place.view();
    assert_eq!(view["alarms"][0]["members"], serde_json::json!(["line boat-0", "line boat-1"]));
    assert_eq!(view["alarms"].as_array().map(Vec::len), Some(1), "{view:#}");

    let text = fs::read_to_string(&b.sheet).expect("read");
    fs::write(&b.sheet, text.replace("command = [\"./not-there\"]", "broken = \"off\"")).expect("written");
    show.says("sheet reloaded: alarms changed");
    show.says("alarm 1 is over after");
    assert_eq!(b.place.run(&["ack", "boat-1"]).stdout, "alarm 1 acknowledged\n", "it is part of it");
    assert_eq!(b.place.run(&["ack"]).stdout, "no alarms\n");
}
