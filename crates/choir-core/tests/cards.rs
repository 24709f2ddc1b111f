//! Far-end cards: the exact opposite of each line and feed, and no secret unless asked for.

use choir_core::{
    card::{all_cards, device_card, far_of_line, line_card},
    link::{Link, Mode, clashes, parse_url},
    secret::{Secret, SecretText},
    sheet::{Sheet, read_sheet},
};
use proptest::prelude::*;
use std::fmt::Write;

fn regatta() -> Sheet {
    read_sheet(include_str!("../../../demo/regatta.toml")).0.expect("the demo")
}

#[test]
fn the_demo_s_cards_are_as_reviewed() {
    let mut text = String::new();
    for card in all_cards(&regatta(), None) {
        let _ = writeln!(text, "{} ({}): {}", card.subject, card.title, card.task);
        for e in &card.entries {
            let _ = writeln!(text, "  {:20} {}{}", e.label, e.value, e.note.as_ref().map_or_else(String::new, |n| format!("   [{n}]")));
        }
        let _ = writeln!(text, "  {}\n", card.url.as_deref().unwrap_or("-"));
        assert!(card.missing.is_empty(), "{:?}", card.missing);
    }
    insta::assert_snapshot!(text);
}

#[test]
fn a_secret_is_on_the_card_only_when_asked_for() {
    let sheet = regatta();
    let line = sheet.line("umpire-launch").expect("the launch");
    let hidden = format!("{:?}", line_card(&sheet, line, None).expect("a card"));
    assert!(hidden.contains("--reveal") && !hidden.contains("oars"), "{hidden}");
    let told = |s: &Secret| (*s == Secret::Env("REGATTA_PASSPHRASE".into())).then(|| SecretText::new("oars & cox"));
    let card = line_card(&sheet, line, Some(&told)).expect("a card");
    assert!(card.entries.iter().any(|e| e.label == "passphrase" && e.value == "oars & cox"));
    let url = card.url.expect("a URL");
    assert!(url.ends_with("&passphrase=oars%20%26%20cox"), "{url}");
    let Some(Link::Srt(srt)) = parse_url(&url).0 else { panic!("{url}") };
    assert_eq!((srt.mode, srt.passphrase), (Mode::Caller, Some(Secret::Literal(SecretText::new("oars & cox")))));
    let bicycle = sheet.line("towpath-bicycle").expect("the bicycle");
    let lost = line_card(&sheet, bicycle, Some(&told)).expect("a card");
    assert_eq!(lost.missing, ["The passphrase cannot be read where the sheet says."]);
}

#[test]
fn what_the_sheet_does_not_say_is_told() {
    let sheet =
        read_sheet("[show]\nname = \"Tarn Hollow Regatta\"\n[[line]]\nname = \"launch\"\nfrom = \"srt://:7103\"\n").0.expect("a sheet");
    let card = line_card(&sheet, &sheet.lines[0], None).expect("a card");
    assert!(card.missing[0].contains("[show]"), "{card:?}");
    assert_eq!(card.entries.iter().find(|e| e.label == "address").map(|e| e.value.as_str()), Some("?"));
    let device = &regatta().devices[1];
    assert!(device_card(&regatta(), device).entries.iter().any(|e| e.label == "main bitrate"));
}

proptest! {
    /// Whatever a line is, the card of its far end has nothing that contradicts it.
    #[test]
    fn a_line_and_its_card_never_contradict_each_other(
        kind in 0..6_usize, port in 1024..60_000_u16, latency in 20..2000_u64, id in "[a-z:,=#!]{0,20}", key in 0..4_usize, bind in any::<bool>(),
    ) {
        let mut url = match kind {
            0 => format!("srt://127.20.0.1:{port}?mode=listener&latency={latency}"),
            1 => format!("srt://127.20.1.13:{port}?mode=caller&latency={latency}"),
            2 if bind => format!("srt://127.20.1.13:{port}?mode=rendezvous&bind=127.20.0.1:{}", port + 1),
            2 => format!("srt://127.20.1.13:{port}?mode=rendezvous"),
            3 => format!("udp://127.20.0.1:{port}"),
            4 => format!("rtp://239.20.0.6:{port}?interface=127.20.0.1"),
            _ => format!("rtsp://desk@127.20.0.11:{port}/main"),
        };
        if kind < 3 && !id.is_empty() {
            url += &format!("&streamid={}", percent_encoding::utf8_percent_encode(&id, percent_encoding::NON_ALPHANUMERIC));
        }
        if kind < 3 && key > 0 {
            url += &format!("&pbkeylen={}&passphrase-env=REGATTA_PASSPHRASE", 8 + key * 8);
        }
        let from = parse_url(&url).0.expect(&url);
        let mut sheet = Sheet::of_one("Tarn Hollow Regatta", from, Vec::new());
        sheet.show.address = Some("127.20.0.1".into());
        let far = far_of_line(&sheet, &sheet.lines[0]).expect("a far end");
        let found = clashes(&sheet.lines[0].from, &far, true, Some("127.20.0.1"), sheet.show.latency, "in");
        prop_assert!(found.is_empty(), "{url}: {found:?}");
        // And the card's URL says the same as the link.
        let card = line_card(&sheet, &sheet.lines[0], None).expect("a card");
        let (again, problems) = parse_url(&card.url.expect("a URL"));
        prop_assert!(problems.is_empty(), "{problems:?}");
        let mut shown = again.expect("a link");
        match (&mut shown, &far) {
            (Link::Srt(a), Link::Srt(b)) => a.passphrase.clone_from(&b.passphrase),
            // A camera that is pulled is named by its own address, so that the URL can be used.
            (Link::Rtsp(a), _) => prop_assert_eq!(a.host.take(), Some("127.20.0.11".to_owned())),
            _ => {}
        }
        prop_assert_eq!(shown, far);
    }
}

#[test]
fn a_name_s_card_has_the_group_and_its_key_instead_of_a_port() {
    let sheet = |stave: &str| {
        let text = format!(
            "[show]\nname = \"Tarn Hollow Regatta\"\n{stave}[[line]]\nname = \"dock\"\nfrom = \"stave://127.20.0.15:7340/Winners Dock\"\n\
             [[feed]]\nname = \"desk\"\nline = \"dock\"\nstave = \"Dock\"\n"
        );
        read_sheet(&text).0.expect("a sheet")
    };
    let with = sheet("[stave]\nmachine = \"boathouse\"\ngroup = \"tarn-hollow\"\naddress = \"127.20.0.1\"\nkey = { env = \"LAN\" }\n");
    let told = |s: &Secret| (*s == Secret::Env("LAN".into())).then(|| SecretText::new("names beside the water"));
    let cards = all_cards(&with, Some(&told));
    let value = |n: usize, label: &str| cards[n].entries.iter().find(|e| e.label == label).map(|e| e.value.clone());
    assert!(cards[0].task.starts_with("Offer this name") && cards[1].task.starts_with("Take this name"));
    assert_eq!(value(0, "address").as_deref(), Some("127.20.0.15:7340"), "the line calls a fixed place");
    assert_eq!(value(1, "address").as_deref(), Some("127.20.0.1:7340"));
    assert_eq!((value(0, "machine"), value(1, "machine").as_deref()), (None, Some("boathouse")));
    for n in 0..2 {
        assert_eq!((value(n, "group").as_deref(), value(n, "key").as_deref()), (Some("tarn-hollow"), Some("names beside the water")));
    }
    assert_eq!((cards[0].url.as_deref(), cards[1].url.as_deref()), (None, Some("stave://boathouse/Dock")));
    let hidden = format!("{:?}", all_cards(&with, None));
    assert!(!hidden.contains("water") && hidden.contains("--reveal"));
    let open = all_cards(&sheet(""), None);
    let key = |n: usize| open[n].entries.iter().find(|e| e.label == "key").map(|e| e.value.as_str());
    assert_eq!((key(0), key(1)), (Some("none"), Some("none")));
}
