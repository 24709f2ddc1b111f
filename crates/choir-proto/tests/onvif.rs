//! ONVIF messages as they go out (a reviewed snapshot), answers as devices give them, and whatever
//! else comes.

use choir_proto::onvif::{
    Call, Token,
    device::{self, Services},
    discovery::{self, Announcement},
    media::{self, AudioEncoder, Group, Media, SourceConfig, VideoEncoder},
    ptz::{self, Vector},
    soap::{SoapError, envelope, read_answer},
    xml,
};
use proptest::prelude::*;
use std::{net::Ipv4Addr, time::Duration};

fn encoder() -> VideoEncoder {
    VideoEncoder {
        token: "encoder-main".into(),
        name: "main".into(),
        encoding: "H264".into(),
        profile: Some("High".into()),
        size: (1280, 720),
        rate: 25.0,
        kbps: 5000,
        constant: Some(true),
        gop: Some(50),
        quality: 4.0,
        group: Some(Group { address: "239.20.0.11".into(), port: 6000, ttl: 1 }),
        session_timeout: "PT60S".into(),
    }
}

/// Everything that is ever asked.
fn calls() -> Vec<Call> {
    let source = SourceConfig { token: "source".into(), name: "source".into(), input: "2".into(), bounds: [0, 0, 1280, 720] };
    let sound = AudioEncoder { token: "sound".into(), name: "sound".into(), encoding: "AAC".into(), kbps: 96, khz: 48 };
    let mut all = vec![
        device::get_clock(),
        device::get_identity(),
        device::get_services(),
        device::get_capabilities(),
        device::get_network(),
        device::set_network("eth0", Some((Ipv4Addr::new(127, 20, 0, 13), 24))),
        device::set_network("eth0", None),
        device::get_gateway(),
        device::set_gateway(Ipv4Addr::new(127, 20, 0, 1)),
        device::restart(),
        device::get_users(),
        device::set_password("desk", "four <oars>", "Administrator"),
        media::get_inputs(),
    ];
    for m in [Media::One, Media::Two] {
        all.extend([
            media::get_profiles(m),
            media::get_options(m, "encoder-main", "profile-main"),
            media::set_video_encoder(m, &encoder()),
            media::set_input(m, &source),
            media::get_audio_encoders(m),
            media::set_audio_encoder(m, &sound),
            media::set_sound(m, "profile-main", Some("sound")),
            media::set_sound(m, "profile-main", None),
            media::get_stream_url(m, "profile-main"),
        ]);
    }
    let v = Vector { pan: 0.3, tilt: -0.1, zoom: 0.0 };
    all.extend([
        ptz::get_presets("profile-main"),
        ptz::set_preset("profile-main", "Finish line", Some("3")),
        ptz::set_preset("profile-main", "Finish line", None),
        ptz::goto_preset("profile-main", "3"),
        ptz::goto_home("profile-main"),
        ptz::continuous_move("profile-main", v, Duration::from_millis(800)),
        ptz::get_node("head"),
        ptz::move_in_picture("profile-main", v),
        ptz::move_in_picture("profile-main", Vector { zoom: 0.25, ..v }),
        ptz::stop("profile-main"),
        ptz::get_status("profile-main"),
    ]);
    all
}

#[test]
fn every_request_is_as_reviewed() {
    let token = Token::new("desk", "four oars and a cox", 1_795_441_603_250_000, [7; 16]);
    let mut text = format!("{}\n\n", calls()[1].message(Some(&token)));
    for call in calls() {
        xml::read(call.message(None).as_bytes()).expect("well-formed");
        text += &format!("{}\n{}\n\n", call.action, call.body);
    }
    let a = Announcement {
        endpoint: "urn:uuid:1".into(),
        addresses: vec!["http://127.20.0.11:8000/onvif/device_service".into()],
        scopes: vec!["onvif://www.onvif.org/name/finish%20tower".into()],
        leaving: false,
    };
    text += &format!("{}\n\n{}\n", discovery::probe("urn:uuid:2"), discovery::announce(&a, "urn:uuid:3", Some("urn:uuid:2")));
    insta::assert_snapshot!(text);
}

fn answer(body: &str) -> xml::Element {
    read_answer(envelope("", body).as_bytes()).expect("an answer")
}

#[test]
fn answers_are_read_with_other_prefixes_and_orders_than_ours() {
    let services = answer(
        "<x:GetServicesResponse xmlns:x=\"http://www.onvif.org/ver10/device/wsdl\"><x:Service><x:XAddr>http://127.20.0.11/m2</x:XAddr>\
         <x:Namespace>http://www.onvif.org/ver20/media/wsdl/</x:Namespace></x:Service><x:Service><x:Namespace>urn:other</x:Namespace>\
         <x:XAddr>http://127.20.0.11/o</x:XAddr></x:Service></x:GetServicesResponse>",
    );
    assert_eq!(device::read_services(&services), Services { media2: Some("http://127.20.0.11/m2".into()), ..Services::default() });
    let network = answer(
        "<tds:GetNetworkInterfacesResponse><tds:NetworkInterfaces token=\"off\"><tt:Enabled>false</tt:Enabled></tds:NetworkInterfaces>\
         <tds:NetworkInterfaces token=\"eth0\"><tt:Enabled>true</tt:Enabled><tt:IPv4><tt:Config><tt:DHCP>true</tt:DHCP>\
         <tt:FromDHCP><tt:PrefixLength>24</tt:PrefixLength><tt:Address>10.77.0.30</tt:Address></tt:FromDHCP>\
         <tt:Manual><tt:Address>192.168.0.100</tt:Address><tt:PrefixLength>24</tt:PrefixLength></tt:Manual></tt:Config></tt:IPv4>\
         </tds:NetworkInterfaces></tds:GetNetworkInterfacesResponse>",
    );
    let network = device::read_network(&network).expect("an interface");
    assert_eq!((network.token.as_str(), network.dhcp, network.address), ("eth0", true, Some((Ipv4Addr::new(10, 77, 0, 30), 24))));
    let clock = answer(
        "<tds:GetSystemDateAndTimeResponse><tds:SystemDateAndTime><tt:UTCDateTime><tt:Date><tt:Year>2026</tt:Year><tt:Month>11</tt:Month>\
         <tt:Day>23</tt:Day></tt:Date><tt:Time><tt:Hour>13</tt:Hour><tt:Minute>46</tt:Minute><tt:Second>43</tt:Second></tt:Time></tt:UTCDateTime>\
         </tds:SystemDateAndTime></tds:GetSystemDateAndTimeResponse>",
    );
    assert_eq!(device::read_clock(&clock), Some(1_795_441_603_000_000));
    let status = answer(
        "<tptz:GetStatusResponse><tptz:PTZStatus><tt:Position><tt:PanTilt x=\"0.5\" y=\"nan\"/><tt:Zoom x=\"0.1\"/></tt:Position>\
         <tt:MoveStatus><tt:PanTilt>IDLE</tt:PanTilt><tt:Zoom>MOVING</tt:Zoom></tt:MoveStatus></tptz:PTZStatus></tptz:GetStatusResponse>",
    );
    let status = ptz::read_status(&status);
    assert_eq!((status.position, status.moving), (Some(Vector { pan: 0.5, tilt: 0.0, zoom: 0.1 }), Some(true)));
}

#[test]
fn announcements_come_back_and_are_bounded() {
    let scopes = vec!["onvif://www.onvif.org/name/finish%20tower%2".into(), "onvif://www.onvif.org/hardware/Heron%2020".into()];
    let a = Announcement { endpoint: "urn:uuid:1".into(), addresses: vec!["http://127.20.0.11/x".into()], scopes, leaving: false };
    for relates in [None, Some("urn:uuid:2")] {
        assert_eq!(discovery::read_announcements(discovery::announce(&a, "urn:uuid:3", relates).as_bytes()), std::slice::from_ref(&a));
    }
    assert_eq!((a.scope("name"), a.scope("hardware"), a.scope("other")), (Some("finish tower%2".into()), Some("Heron 20".into()), None));
    let leaving = Announcement { leaving: true, ..a.clone() };
    assert_eq!(discovery::read_announcements(discovery::announce(&leaving, "urn:uuid:3", None).as_bytes()), [leaving]);
    assert_eq!(discovery::read_probe(discovery::probe("urn:uuid:9").as_bytes()), Some("urn:uuid:9".into()));
    let many = Announcement { addresses: vec!["http://127.20.0.11/x".into(); 500], ..a };
    assert_eq!(discovery::read_announcements(discovery::announce(&many, "urn:uuid:3", None).as_bytes())[0].addresses.len(), 32);
    assert!(discovery::read_announcements(&vec![b' '; 40_000]).is_empty());
    assert_eq!(discovery::message_id([0xFF; 16]), "urn:uuid:ffffffff-ffff-4fff-bfff-ffffffffffff");
}

/// Whatever reads an answer, on any tree at all.
fn read_everything(e: &xml::Element) {
    let _ = (device::read_identity(e), device::read_clock(e), device::read_services(e), device::read_capabilities(e));
    let _ = (device::read_network(e), device::read_gateway(e), device::read_restart_needed(e), device::read_level(e, "desk"));
    for m in [Media::One, Media::Two] {
        let _ = (media::read_profiles(m, e), media::read_options(m, e), media::read_inputs(e), media::read_audio_encoders(e));
    }
    let _ = (media::read_stream_url(e), ptz::read_presets(e), ptz::read_stored(e), ptz::read_status(e));
}

proptest! {
    #[test]
    fn junk_costs_nothing_but_an_error(junk in proptest::collection::vec(any::<u8>(), 0..2000)) {
        let _ = read_answer(&junk);
        prop_assert!(discovery::read_announcements(&junk).len() <= 32);
    }

    /// A good message with some bytes changed or cut: read or refused, never worse.
    #[test]
    fn spoilt_messages_are_read_or_refused(which in 0usize..30, cut in 0usize..4000, at in 0usize..4000, byte in any::<u8>()) {
        let calls = calls();
        let mut message = calls[which % calls.len()].message(Some(&Token::new("a", "b", 0, [1; 16]))).into_bytes();
        let at = at % message.len();
        message[at] = byte;
        message.truncate(message.len() - cut % 50);
        match read_answer(&message) {
            Ok(e) => read_everything(&e),
            Err(SoapError::Fault(f)) => prop_assert!(f.to_string().len() < 1000),
            Err(e) => prop_assert!(!e.to_string().is_empty()),
        }
    }
}

#[test]
fn moves_across_the_picture_follow_the_ranges_that_the_device_says() {
    let node = |spaces: &str| {
        let inside = format!("<tptz:PTZNode token=\"n\"><tt:SupportedPTZSpaces>{spaces}</tt:SupportedPTZSpaces></tptz:PTZNode>");
        ptz::read_picture_moves(&answer(&format!("<tptz:GetNodeResponse>{inside}</tptz:GetNodeResponse>")))
    };
    let range = |axis: &str, least: &str, most: &str| format!("<tt:{axis}><tt:Min>{least}</tt:Min><tt:Max>{most}</tt:Max></tt:{axis}>");
    let turns = |space: &str, least: &str| {
        let (x, y) = (range("XRange", least, "100"), range("YRange", "-50", "50"));
        let uri = format!("http://www.onvif.org/ver10/tptz/PanTiltSpaces/{space}");
        format!("<tt:RelativePanTiltTranslationSpace><tt:URI>{uri}</tt:URI>{x}{y}</tt:RelativePanTiltTranslationSpace>")
    };
    let moves = node(&(turns("TranslationGenericSpace", "-1") + &turns("TranslationSpaceFov", "-100"))).expect("moves");
    assert_eq!(moves.zoom, None);
    assert_eq!(moves.towards(0.5, -0.5, 1.0), Vector { pan: 50.0, tilt: -25.0, zoom: 0.0 });
    assert_eq!(moves.towards(-9.0, 9.0, 0.0), Vector { pan: -100.0, tilt: 50.0, zoom: 0.0 }, "never beyond its range");
    for spaces in
        [String::new(), turns("TranslationGenericSpace", "-1"), turns("TranslationSpaceFov", "100"), turns("TranslationSpaceFov", "NaN")]
    {
        assert_eq!(node(&spaces), None, "{spaces}");
    }
}
