//! Devices in the patch sheet: shared settings, rows, every mistake with its place, and what is set
//! by hand.

#![allow(clippy::panic, reason = "a helper that fails its test")]

use choir_core::{
    Grade,
    by_hand::by_hand,
    device::{Control, Keyframe, NetworkWish, RateControl, Sound},
    sheet::{Sheet, read_sheet},
};
use proptest::prelude::*;
use std::net::{IpAddr, Ipv4Addr};

const SHOW: &str = "[show]\nname = \"Tarn Hollow Regatta\"\n";

fn sheet(text: &str) -> Sheet {
    let (sheet, findings) = read_sheet(&format!("{SHOW}{text}"));
    sheet.unwrap_or_else(|| panic!("{findings:?}"))
}

#[test]
fn settings_are_written_once_and_drawn_on_by_name() {
    let s = sheet(
        "[settings.show-picture]\ncodec = \"h264\"\nsize = \"1280x720\"\nrate = 25\nbitrate = \"5 Mbps\"\nkeyframe = \"2 s\"\naudio = \"on\"\n\
         [settings.small]\nlike = \"show-picture\"\nsize = \"320x180\"\n\
         [[device]]\nname = \"finish-tower\"\naddress = \"127.20.0.11:8000\"\ncontrol = \"onvif\"\nuser = \"desk\"\npassword = { env = \"X\" }\n\
         network = { address = \"127.20.0.11/24\", gateway = \"127.20.0.1\" }\n\
         main = { like = \"show-picture\", bitrate = \"8 Mbps\", rate-control = \"cbr\", multicast = \"239.20.0.11:6000\" }\nsub = \"small\"\n\
         presets = { 3 = \"Finish line\" }\n",
    );
    let d = &s.devices[0];
    assert_eq!((d.port, d.control, d.kind.as_str(), d.title.as_str()), (Some(8000), Control::Onvif, "camera", "finish-tower"));
    let main = &d.streams["main"];
    assert_eq!(
        (main.size, main.bitrate.map(|b| b.0), main.rate_control),
        (Some((1280, 720)), Some(8_000_000), Some(RateControl::Constant))
    );
    assert_eq!((main.keyframe, main.audio.clone()), (Some(Keyframe::Seconds(2.0)), Some(Sound::On)));
    assert_eq!(main.multicast, Some(Some((Ipv4Addr::new(239, 20, 0, 11), 6000))));
    assert_eq!((d.streams["sub"].size, d.streams["sub"].rate), (Some((320, 180)), Some(25.0)));
    assert_eq!((d.presets[&3].as_str(), d.streams["sub"].multicast), ("Finish line", None));
    let gateway = Some(Ipv4Addr::new(127, 20, 0, 1));
    assert_eq!(d.network, Some(NetworkWish::Static { ip: [127, 20, 0, 11].into(), prefix: 24, gateway }));
}

#[test]
fn a_row_of_alike_cameras_is_one_entry() {
    let s = sheet(
        "[[line]]\nname = \"lane-1\"\nfrom = \"udp://:5001\"\n[[line]]\nname = \"lane-2\"\nfrom = \"udp://:5002\"\n\
         [[device]]\nname = \"lane\"\ntitle = \"Lane {n}, camera\"\naddress = \"127.20.0.255\"\ncontrol = \"visca\"\ncount = 2\n\
         network = { address = \"127.20.0.255/16\" }\nmain = { line = \"lane-{n}\", multicast = \"239.20.0.1:6000\" }\n",
    );
    let told: Vec<_> =
        s.devices.iter().map(|d| (d.name.as_str(), d.title.as_str(), d.address, d.streams["main"].line.as_deref())).collect();
    let at = |c, d| IpAddr::V4(Ipv4Addr::new(127, 20, c, d));
    let wanted = [("lane-1", "Lane 1, camera", at(0, 255), Some("lane-1")), ("lane-2", "Lane 2, camera", at(1, 0), Some("lane-2"))];
    assert_eq!(told, wanted);
    assert!(matches!(s.devices[1].network, Some(NetworkWish::Static { ip, .. }) if IpAddr::V4(ip) == at(1, 0)));
    assert_eq!(s.devices[1].streams["main"].multicast, Some(Some((Ipv4Addr::new(239, 20, 0, 2), 6000))));
}

#[test]
fn every_mistake_of_a_device_is_told_with_its_place() {
    let text = r#"[show]
name = "Tarn Hollow Regatta"
[settings]
show-picture = { codec = "h266", bitrate = 5, keyframe = 50, rate = 500 }
[[device]]
name = "Finish"
adress = "127.20.0.11"
[[device]]
name = "finish-tower"
address = "tower.local"
control = "onvfi"
kind = "drone"
[[device]]
name = "pontoon"
address = "127.20.0.12:0"
control = "visca"
[[device]]
name = "launch"
address = "127.20.0.13"
control = "onvif"
password = "oars"
camera = 9
count = 0
network = { address = "127.20.0.13" }
main = { like = "show-pictures", size = "big", audio = "loud", multicast = "127.0.0.1:6000", keyframe = "long" }
sub = "nothing"
presets = { 300 = "x", 3 = 4 }
[[device]]
name = "bicycle"
address = "127.20.0.14"
control = "manual"
main = { line = "towpath" }
[[device]]
name = "bicycle"
address = "127.20.0.14"
control = "manual"
network = "static"
sub = { codec = "h264" }
"#;
    let told: String = read_sheet(text).1.iter().map(|f| format!("{}\n", f.in_file("sheet.toml"))).collect();
    insta::assert_snapshot!(told);
}

#[test]
fn what_is_set_by_hand_is_said_as_it_is_typed() {
    let s = sheet(
        "[[line]]\nname = \"towpath\"\nfrom = \"srt://:7104?passphrase-env=X\"\n[[device]]\nname = \"bicycle\"\naddress = \"127.20.0.14\"\n\
         control = \"manual\"\nnetwork = { address = \"127.20.0.14/20\", gateway = \"127.20.0.1\" }\n\
         main = { size = \"640x360\", rate = 25, keyframe = \"2 s\", audio = \"aac\", line = \"towpath\" }\n",
    );
    let told: Vec<String> = by_hand(&s.devices[0], &s).into_iter().map(|(what, value)| format!("{what}: {value}")).collect();
    assert_eq!(
        told,
        [
            "network address: 127.20.0.14/20, mask 255.255.240.0",
            "network gateway: 127.20.0.1",
            "main size: 640x360",
            "main rate: 25 frames per second",
            "main keyframe: 50 frames (2.0 s)",
            "main audio: aac",
            "main goes to line: towpath, which this end has as srt://:7104?mode=listener&passphrase-env=X",
        ]
    );
}

proptest! {
    #[test]
    fn any_device_entry_is_read_or_told(key in "[a-z-]{1,12}", value in "[ -~]{0,30}") {
        let quoted = value.replace(['"', '\\'], "");
        for v in [format!("\"{quoted}\""), "7".into(), "{ }".into(), "[1]".into(), "true".into()] {
            let text = format!("{SHOW}[[device]]\nname = \"a\"\naddress = \"127.20.0.11\"\ncontrol = \"onvif\"\n{key} = {v}\nmain = {{ {key} = {v} }}\n");
            let (sheet, findings) = read_sheet(&text);
            prop_assert_eq!(sheet.is_none(), findings.iter().any(|f| f.grade == Grade::Error));
        }
    }
}
