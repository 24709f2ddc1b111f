//! Whether a picture comes back from the viewers' side, with the built program.

use crate::place::{Place, port};
use std::{
    fs,
    io::{BufRead, BufReader, Write},
    net::TcpListener,
    thread,
};

/// A web server that gives these, and for all else nothing; gives its address.
fn web(files: Vec<(&'static str, Vec<u8>)>) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").expect("a port");
    let addr = listener.local_addr().expect("an address");
    thread::spawn(move || {
        for stream in listener.incoming() {
            let Ok(mut stream) = stream else { continue };
            let mut lines = BufReader::new(&stream).lines();
            let asked = lines.next().and_then(Result::ok).unwrap_or_default();
            for line in lines.map_while(Result::ok) {
                if line.is_empty() {
                    break;
                }
            }
            let path = asked.split(' ').nth(1).unwrap_or_default();
            let (status, body) = match files.iter().find(|(name, _)| *name == path) {
                Some((_, body)) => ("200 OK", body.as_slice()),
                None => ("404 Not Found", &[][..]),
            };
            let head = format!("HTTP/1.1 {status}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n", body.len());
            let _ = stream.write_all(head.as_bytes()).and_then(|()| stream.write_all(body));
        }
    });
    format!("http://{addr}")
}

#[test]
fn a_picture_that_comes_back_is_told_apart_from_bytes_that_are_taken() {
    let place = Place::new();
    let clip = place.clip();
    let segment = fs::read(&clip).expect("the clip");
    let versions = b"#EXTM3U\n#EXT-X-STREAM-INF:BANDWIDTH=900000\nlow/list.m3u8?x=1\n".to_vec();
    let list = b"#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXTINF:4,\nnone.ts\n#EXTINF:4,\n../new.ts\n".to_vec();
    let served = web(vec![("/live/index.m3u8?key=oars", versions), ("/live/low/list.m3u8?x=1", list), ("/live/new.ts", segment)]);
    let (rtmp, udp) = (port(), port());
    place.write(
        "show.toml",
        &format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"clip\"\nfrom = \"{clip}?repeat\"\n\
             [[feed]]\nname = \"played\"\nline = \"clip\"\nto = \"rtmp://127.0.0.1:{rtmp}/out/programme#mode=listener\"\n\
             confirm = \"rtmp://127.0.0.1:{rtmp}/out/programme\"\n\
             [[feed]]\nname = \"listed\"\nline = \"clip\"\nto = \"udp://127.0.0.1:{udp}\"\nconfirm = \"{served}/live/index.m3u8?key=oars\"\n\
             [[feed]]\nname = \"plain\"\nline = \"clip\"\nto = \"udp://127.0.0.1:{udp}\"\n"
        ),
    );
    assert_eq!(place.run(&["check", "show.toml"]).code, 1, "two feeds to one port");
    let sheet = fs::read_to_string(place.path("show.toml")).expect("the sheet");
    let last = sheet.rfind(&format!(":{udp}")).expect("a port");
    place.write("show.toml", &format!("{}:{}{}", &sheet[..last], port(), &sheet[last + 1 + udp.to_string().len()..]));
    let mut show = place.start(&["run", "show.toml"]);
    let view = place.until("pictures that come back", |v| (0..2).all(|n| v["feeds"][n]["confirm"]["size"].is_string()));
    for n in 0..2 {
        assert_eq!(
            (&view["feeds"][n]["confirm"]["size"], &view["feeds"][n]["confirm"]["failed"]),
            (&"320x180".into(), &serde_json::Value::Null)
        );
    }
    assert!(view["feeds"][2]["confirm"].is_null());
    show.says_or_said("feed played: a picture of 320x180 comes back from the viewers' side");
    show.says_or_said("feed listed: a picture of 320x180 comes back from the viewers' side");
    let text = place.run(&["status", "listed"]).stdout;
    assert!(text.contains("comes back  a picture of 320x180, ") && text.contains("/live/index.m3u8") && !text.contains("oars"), "{text}");
    show.interrupt();
    assert_eq!(show.end().0, 0);
    // What it cannot be had back from.
    for (confirm, says) in [("rtsp://127.0.0.1/main", "cannot be had back"), ("rtmp://:1935/out/programme", "cannot be had back")] {
        place.write(
            "wrong.toml",
            &sheet.replacen(&format!("rtmp://127.0.0.1:{rtmp}/out/programme\"\n[[feed]]"), &format!("{confirm}\"\n[[feed]]"), 1),
        );
        let out = place.run(&["check", "wrong.toml"]);
        assert!(out.code == 1 && out.stdout.contains(says), "{out:?}");
    }
}
