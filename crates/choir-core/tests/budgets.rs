//! What crosses each network, by arithmetic that can be done by hand.

use choir_core::{
    budget::{Budget, budget},
    sheet::read_sheet,
};

fn of(text: &str) -> Budget {
    budget(&read_sheet(&format!("[show]\nname = \"Tarn Hollow Regatta\"\n{text}")).0.expect("a sheet"))
}

#[test]
fn the_sum_is_that_of_the_packets() {
    let b = of("[[network]]\nname = \"mobile\"\nkind = \"uplink\"\ncapacity = { in = \"20 Mbps\", out = \"5 Mbps\" }\nreserve = \"10%\"\n\
        [[line]]\nname = \"launch\"\nfrom = { mode = \"listener\", port = 7103, overhead = \"10%\", passphrase = { env = \"A\" } }\n\
        expect = { bitrate = \"8 Mbps\", audio = \"on\" }\nvia = \"mobile\"\n");
    let mobile = &b.networks[0];
    let media = 8_128_000.0;
    let wire = media * 188.0 / 184.0 * 1.015 * 1360.0 / 1316.0;
    let s = &mobile.streams[0];
    assert_eq!(s.media_bps, Some(8_128_000));
    assert!((s.total_bps as f64 - wire * 1.1).abs() < 2.0, "{s:?}");
    assert!((s.media_bps.unwrap_or(0) + s.headers_bps + s.again_bps).abs_diff(s.total_bps) <= 2, "the parts are the whole: {s:?}");
    assert_eq!(s.how, "(8.0 Mbps + 128 kbps sound) x 1.037 (transport stream) x 1360/1316 (SRT, UDP, IP) x 1.10 (repeats) = 9.6 Mbps");
    let [towards, away] = mobile.directions.as_slice() else { panic!("two directions") };
    assert_eq!((towards.capacity_bps, towards.allowed_bps, away.total_bps), (Some(20_000_000), Some(18_000_000), 0));
    assert!(towards.remedies.is_empty() && mobile.over().count() == 0);
    assert_eq!(towards.free_bps(), Some(20_000_000 - s.total_bps as i64));
}

#[test]
fn what_a_switcher_pulls_and_what_a_port_adds_is_counted() {
    let b =
        of("address = \"127.20.0.1\"\n[[network]]\nname = \"site\"\nkind = \"lan\"\nrange = \"127.20.0.0/24\"\ncapacity = \"100 Mbps\"\n\
        [[line]]\nname = \"tower\"\nfrom = \"rtsp://127.20.0.11/main\"\nexpect = { bitrate = \"5 Mbps\" }\n\
        [[line]]\nname = \"pontoon\"\nfrom = \"udp://127.20.0.1:7300\"\n\
        [[feed]]\nname = \"desk\"\nline = \"tower\"\nto = [\"udp://127.20.0.31:7204\", \"udp://127.20.0.32:7204\", \"clip.ts\"]\n");
    let site = &b.networks[0];
    let totals: Vec<(&str, u64)> = site.streams.iter().map(|s| (s.subject.as_str(), s.total_bps)).collect();
    // RTSP carries no transport stream; Ethernet's 38 bytes come with each packet.
    let pulled = (5_000_000.0_f64 * 1478.0 / 1400.0).round() as u64;
    let sent = (5_000_000.0_f64 * 188.0 / 184.0 * 1.015 * (1316.0 + 66.0) / 1316.0).round() as u64;
    assert_eq!(totals, [("line tower", pulled), ("line pontoon", 0), ("feed desk", sent), ("feed desk", sent)]);
    assert_eq!(site.unknown().map(|s| s.subject.as_str()).collect::<Vec<_>>(), ["line pontoon"]);
}

#[test]
fn a_network_that_is_full_says_what_to_change_until_it_fits() {
    let b = of("[[network]]\nname = \"mobile\"\nkind = \"wireless\"\nrange = \"127.20.1.0/24\"\ncapacity = \"20 Mbps\"\n\
        path = { rtt = \"60 ms\", loss = \"0.5%\" }\n\
        [[device]]\nname = \"tower\"\naddress = \"127.20.1.11\"\ncontrol = \"onvif\"\n\
        main = { codec = \"h264\", bitrate = \"8 Mbps\", line = \"tower\" }\nsub = { codec = \"h264\", bitrate = \"500 kbps\" }\n\
        [[line]]\nname = \"tower\"\nfrom = \"srt://127.20.1.11:7300\"\n\
        [[feed]]\nname = \"desk\"\nline = \"tower\"\nto = [\"srt://127.20.1.31:7204\", \"srt://127.20.1.32:7204\"]\n");
    let way = &b.networks[0].directions[0];
    assert_eq!((b.networks[0].directions.len(), way.allowed_bps), (1, Some(16_000_000)));
    let said: Vec<&str> = way.remedies.iter().map(|r| r.what.as_str()).collect();
    assert!(said[0].starts_with("send feed desk only once") && said[1].starts_with("set overhead to 10 %"), "{said:?}");
    assert!(said[2].starts_with("H.265 instead of H.264 for line tower"), "{said:?}");
    let mut left = way.total_bps;
    for r in &way.remedies {
        assert_eq!(left - r.saves_bps, r.then_bps, "each on top of those before it");
        left = r.then_bps;
    }
    assert!(left <= 16_000_000 && way.remedies.last().is_some_and(|r| r.fits), "{:?}", way.remedies);
    assert!(way.remedies.iter().rev().skip(1).all(|r| !r.fits), "none more than needed: {:?}", way.remedies);
}

#[test]
fn a_name_crosses_the_network_of_this_machine_once_for_each_receiver() {
    let b = of("[stave]\naddress = \"127.20.0.1\"\n[[network]]\nname = \"site\"\nrange = \"127.20.0.0/24\"\ncapacity = \"1 Gbps\"\n\
        [[line]]\nname = \"dock\"\nfrom = \"stave://Winners Dock\"\nexpect = { bitrate = \"100 Mbps\" }\n\
        [[feed]]\nname = \"desk\"\nline = \"dock\"\nto = \"udp://127.20.0.31:7204\"\nstave = \"Dock\"\n\
        [[feed]]\nname = \"all\"\nline = \"dock\"\nstave = { name = \"Dock For All\", multicast = \"239.20.0.9:7350\" }\n");
    let wire = (100_000_000.0_f64 * 1499.0 / 1400.0).round() as u64;
    let told: Vec<(&str, u64)> = b.networks[0].streams.iter().map(|s| (s.subject.as_str(), s.total_bps)).collect();
    assert_eq!((told[0], told[2], told[3]), (("line dock", wire), ("feed desk by name", wire), ("feed all", wire)));
    let how: Vec<&str> = b.networks[0].streams.iter().map(|s| s.how.as_str()).collect();
    assert!(
        how[0].ends_with("= 107.1 Mbps") && how[2].ends_with("for each receiver") && how[3].ends_with("all that hear its group"),
        "{how:?}"
    );
}
