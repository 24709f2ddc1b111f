//! Patch sheets: what is right is read, what is wrong is told, all of it, with its place and
//! remedy.

use choir_core::{
    Grade,
    link::{Link, Mode, parse_url, show_url},
    secret::Secret,
    sheet::read_sheet,
};
use proptest::prelude::*;
use std::time::Duration;

fn findings(text: &str) -> String {
    let (sheet, findings) = read_sheet(text);
    let errors = findings.iter().any(|f| f.grade == Grade::Error);
    assert_eq!(sheet.is_none(), errors, "a sheet is there exactly when there is no error");
    findings.iter().map(|f| format!("{}\n", f.in_file("sheet.toml"))).collect()
}

#[test]
fn the_demo_sheet_is_right() {
    let (sheet, findings) = read_sheet(include_str!("../../../demo/regatta.toml"));
    assert!(findings.is_empty(), "{findings:?}");
    let sheet = sheet.expect("a sheet");
    assert_eq!((sheet.lines.len(), sheet.feeds.len()), (8, 6));
    let bicycle = &sheet.lines[4].from;
    let Link::Srt(srt) = bicycle else { panic!("not SRT") };
    assert_eq!((srt.mode, srt.key_bits, srt.latency.map(|l| l.as_millis())), (Mode::Rendezvous, Some(128), Some(400)));
    assert_eq!(srt.passphrase, Some(Secret::Env("REGATTA_BICYCLE".into())));
}

#[test]
fn every_mistake_is_told_at_once_with_its_place() {
    insta::assert_snapshot!(findings(
        r#"[show]
nam = "Tarn Hollow Regatta"
latency = 120

[[line]]
name = "Finish Tower"
from = { mode = "listner", port = 7101 }

[[line]]
name = "start-pontoon"
from = { host = "srt://127.20.0.12", port = 7102, latency = "200" }

[[line]]
name = "umpire-launch"
from = { mode = "caller", host = "127.20.0.13:7103", port = 99999, passphrase = "short", key-length = 512 }

[[line]]
name = "towpath-bicycle"
from = "srt://:7104?mode=listener&latancy=200&pbkeylen=20"
expect = { codec = "h246", size = "big", rate = 0 }

[[feed]]
name = "boathouse-1"
line = "start-ponton"
to = ["srt://127.20.0.31:7201", "udp://:7202", "rtmpx://somewhere"]

[[feed]]
line = "start-pontoon"
too = []
"#
    ));
}

#[test]
fn ports_that_clash_are_found() {
    insta::assert_snapshot!(findings(
        r#"[show]
name = "Tarn Hollow Regatta"
[[line]]
name = "a"
from = "srt://:7101"
[[line]]
name = "b"
from = "srt://127.0.0.1:7101?mode=listener"
[[line]]
name = "c"
from = "srt://:7103?streamid=launch"
[[line]]
name = "d"
from = "srt://:7103?streamid=launch"
[[line]]
name = "e"
from = "udp://:7101"
[[line]]
name = "a"
from = "srt://127.0.0.1:7109"
[[feed]]
name = "f"
line = "a"
to = "srt://:7103"
"#
    ));
}

#[test]
fn stream_ids_let_lines_share_a_port_and_addresses_keep_them_apart() {
    let text = findings(
        r#"[show]
name = "Tarn Hollow Regatta"
[[line]]
name = "a"
from = "srt://:7101?streamid=launch"
[[line]]
name = "b"
from = "srt://:7101?streamid=pontoon"
[[line]]
name = "c"
from = "srt://127.0.0.1:7102?mode=listener"
[[line]]
name = "d"
from = "srt://127.0.0.2:7102?mode=listener"
"#,
    );
    assert_eq!(text, "");
}

#[test]
fn passphrases_are_never_repeated() {
    for length in [1, 9, 80, 200] {
        let secret = "x7".repeat(length).chars().take(length).collect::<String>();
        let text =
            findings(&format!("[show]\nname = \"r\"\n[[line]]\nname = \"a\"\nfrom = {{ port = 7001, passphrase = \"{secret}\" }}\n"));
        assert!(text.contains(&format!("has {length} characters")), "{text}");
        assert!(length < 3 || !text.contains(&secret), "{text}");
        assert!(!format!("{:?}", read_sheet(&text)).contains("x7x7"));
    }
    let ok = findings("[show]\nname = \"r\"\n[[line]]\nname = \"a\"\nfrom = { port = 7001, passphrase = \"rowing is made up\" }\n");
    assert!(ok.contains("advice") && ok.contains("written in the sheet") && !ok.contains("rowing"), "{ok}");
}

#[test]
fn broken_toml_says_where() {
    assert!(findings("[show\nname = 1").starts_with("sheet.toml:1:6: error: not TOML"));
    assert!(findings("").contains("[show] is missing"));
    assert!(findings("show = 3\nline = 4\n").contains("must be written as [[line]]"));
    assert!(findings("[show]\nname='x'\n[line]\nname='y'\n").contains("must be written as [[line]]"));
}

#[test]
fn urls_are_read_as_the_trade_writes_them() {
    for (text, again) in [
        ("srt://:7001", "srt://:7001?mode=listener"),
        ("srt://10.0.0.1:7001", "srt://10.0.0.1:7001?mode=caller"),
        ("srt://h:7001?mode=rendezvous&latency=250", "srt://h:7001?mode=rendezvous&latency=250"),
        (
            "srt://h:7001?latency=2s&pbkeylen=32&streamid=%23!::r=a,m=publish",
            "srt://h:7001?mode=caller&latency=2000&pbkeylen=32&streamid=%23!::r%3Da,m%3Dpublish",
        ),
        ("srt://[::1]:7001?bind=127.0.0.1:9000", "srt://[::1]:7001?mode=caller&bind=127.0.0.1:9000"),
        ("srt://h:7001/?overhead=30%&ceiling=12Mbps", "srt://h:7001?mode=caller&overhead=30%25&ceiling=12000000bps"),
        ("udp://127.0.0.1:5004", "udp://127.0.0.1:5004"),
        ("clip.ts?repeat", "clip.ts?repeat"),
        ("-", "-"),
    ] {
        let (link, problems) = parse_url(text);
        assert!(problems.is_empty(), "{text}: {problems:?}");
        let link = link.expect("a link");
        assert_eq!(show_url(&link), again);
        assert_eq!(parse_url(&show_url(&link)).0, Some(link), "reads itself again");
    }
}

#[test]
fn a_shown_url_never_holds_the_passphrase() {
    let (link, _) = parse_url("srt://h:7001?passphrase=rowing-is-made-up&latency=99");
    assert_eq!(show_url(&link.expect("a link")), "srt://h:7001?mode=caller&latency=99");
    assert_eq!(choir_core::link::redact("srt://h:1?a=b&passphrase=rowing&c=d"), "srt://h:1?a=b&passphrase=(hidden)&c=d");
}

#[test]
fn problems_of_a_url_say_at_which_character() {
    let (link, problems) = parse_url("srt://srt:7001?mode=caler&nonsense=1");
    assert!(link.is_none());
    let at: Vec<_> = problems.iter().map(|p| (p.at, p.remedy.as_str())).collect();
    assert_eq!(at[0].0, 20);
    assert!(at[0].1.contains("Did you mean \"caller\"?"), "{at:?}");
    assert_eq!(at[1].0, 26);
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn any_text_is_judged_without_panic(text in ".{0,300}") {
        let _ = read_sheet(&text);
        let _ = parse_url(&text);
        let _ = parse_url(&format!("srt://{text}"));
    }

    #[test]
    fn any_damage_to_a_sheet_is_judged_without_panic(at in 0usize..2000, put in ".{0,5}") {
        let mut text = include_str!("../../../demo/regatta.toml").to_owned();
        let at = text.char_indices().map(|c| c.0).nth(at).unwrap_or(0);
        text.replace_range(at..at, &put);
        let _ = read_sheet(&text);
    }
}

/// A sheet with this `[stave]` and these entries; what is found, as sentences.
fn stave_findings(stave: &str, entries: &str) -> Vec<String> {
    let text = format!("[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\n{stave}\n{entries}");
    read_sheet(&text).1.into_iter().map(|f| format!("{}: {}", f.subject, f.what)).collect()
}

const TOWER: &str = "[[line]]\nname = \"tower\"\nfrom = \"udp://127.20.0.1:7101\"\n";
const KEY: &str = "key = { env = \"REGATTA_STAVE\" }";

#[test]
fn a_name_on_the_lan_is_one_line_of_the_sheet() {
    let feed = "[[feed]]\nname = \"tower\"\nline = \"tower\"\nstave = \"Finish Tower\"\n";
    let text =
        format!("[show]\nname = \"Tarn Hollow Regatta\"\n[stave]\nmachine = \"boathouse\"\ngroup = \"regatta\"\n{KEY}\n{TOWER}{feed}");
    let (sheet, findings) = read_sheet(&text);
    assert!(findings.is_empty(), "{findings:?}");
    let sheet = sheet.expect("a sheet");
    assert_eq!((sheet.stave.group.as_str(), sheet.stave.secured(), sheet.stave.discover), ("regatta", "key", true));
    assert_eq!(sheet.feeds[0].to.iter().map(|to| choir_core::link::show_url(&to.link)).collect::<Vec<_>>(), ["stave://Finish Tower"]);
    let table = feed.replace("\"Finish Tower\"", "{ name = \"Finish Tower\", multicast = \"239.20.0.9:7350\" }");
    assert_eq!(stave_findings(KEY, &format!("{TOWER}{table}")), Vec::<String>::new());
}

#[test]
fn what_is_wrong_with_names_is_found() {
    let feed = |name: &str, stave: &str| format!("[[feed]]\nname = \"{name}\"\nline = \"tower\"\nstave = {stave}\n");
    let twice = format!("{TOWER}{}{}", feed("a", "\"Finish Tower\""), feed("b", "\"finish tower\""));
    let own = format!("{TOWER}{}[[line]]\nname = \"in\"\nfrom = \"stave://finish tower\"\n", feed("a", "\"Finish Tower\""));
    let one = format!("{TOWER}{}", feed("a", "\"Finish Tower\""));
    let lone = "[[line]]\nname = \"in\"\nfrom = \"stave://Finish Tower\"\n";
    let pin = format!("receivers = [\"sha256:{}\"]", "0a".repeat(32));
    for (stave, entries, found) in [
        (KEY, twice.as_str(), Some("feed \"b\": feed \"a\" has the Stave name \"finish tower\" already")),
        (KEY, &own, Some("line \"in\": it takes \"finish tower\", which feed \"a\" of this very sheet offers")),
        ("", &one, Some("whoever is on the LAN can take")),
        (&pin, &one, None),
        ("discover = false", lone, Some("stave: a line takes a name, but discovery is off")),
        ("discover = false\nnodes = [\"127.20.0.2:7340\"]", lone, None),
        ("nodes = [\"boathouse\"]", lone, Some("\"boathouse\" is not an address and port")),
        ("key = \"eight oars and a cox\"", lone, Some("must not stand in the sheet")),
        ("receivers = [\"ab\"]", lone, Some("not the fingerprint of a certificate")),
        ("machine = \"a/b\"", lone, Some("not a valid machine")),
        ("port = 0", lone, Some("port must be a number")),
        ("address = \"boathouse\"", lone, Some("\"boathouse\" is not an address")),
        ("channel = 1", lone, Some("\"channel\" is unknown here")),
        (KEY, &format!("{TOWER}{}", feed("a", "\"\"")), Some("it is empty")),
        (KEY, &format!("{TOWER}{}", feed("a", "{ name = \"A\", multicast = \"127.0.0.1:1\" }")), Some("not a multicast group")),
        (KEY, &TOWER.replace("from", "sub = \"small\"\nfrom"), Some("line \"tower\": there is no line \"small\"")),
        (KEY, &TOWER.replace("from", "sub = \"tower\"\nfrom"), Some("it is its own sub stream")),
    ] {
        let said = stave_findings(stave, entries);
        match found {
            Some(what) => assert!(said.iter().any(|s| s.contains(what)), "{stave}: {said:?}"),
            None => assert!(said.is_empty(), "{stave}: {said:?}"),
        }
        assert!(said.iter().all(|s| !s.contains("eight oars")), "a key is never said");
    }
}

#[test]
fn links_draw_on_settings_that_they_share() {
    let sheet = |links: &str, from: &str| {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n{links}\n[[line]]\nname = \"launch\"\nfrom = {from}\n\
             [[feed]]\nname = \"desk\"\nline = \"launch\"\nto = [{{ like = \"field\", mode = \"caller\", host = \"127.0.0.1\", port = 7201, latency = \"90 ms\" }}]\n"
        );
        let (sheet, findings) = read_sheet(&text);
        sheet.ok_or_else(|| findings.iter().map(|f| format!("{} {} {}", f.subject, f.what, f.remedy)).collect::<Vec<_>>())
    };
    let field = "[link.field]\nlatency = \"350 ms\"\npassphrase = { env = \"FIELD\" }\nkey-length = 256";
    let read = sheet(field, "{ like = \"field\", mode = \"listener\", port = 7101 }").expect("a sheet");
    let srt = |link: &Link| match link {
        Link::Srt(s) => (s.latency, s.key_bits, s.passphrase.clone()),
        other => panic!("{other:?}"),
    };
    let secret = || Some(Secret::Env("FIELD".into()));
    assert_eq!(srt(&read.lines[0].from), (Some(Duration::from_millis(350)), Some(256), secret()));
    // What a link says itself holds.
    assert_eq!(srt(&read.feeds[0].to[0].link), (Some(Duration::from_millis(90)), Some(256), secret()));
    for (links, says) in [
        ("", "The sheet has no [link.field] yet"),
        ("[link.fields]\nlatency = \"350 ms\"", "Did you mean \"fields\"?"),
        ("[link.field]\nlatenzy = \"350 ms\"", "latenzy"),
        ("[link.field]\nlike = \"far\"", "cannot draw on another"),
        ("[link]\nfield = 3", "it must be a table"),
    ] {
        let found = sheet(links, "{ like = \"field\", mode = \"listener\", port = 7101 }").expect_err(links);
        assert!(found.iter().any(|f| f.contains(says)), "{links}: {found:?}");
    }
}
