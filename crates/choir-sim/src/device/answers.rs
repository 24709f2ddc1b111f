//! What a device answers to each ONVIF request.

use super::{
    Turn,
    state::{GOP, KBPS, Kind, Net, Quirk, RATES, SIZES, Shared, State, StreamState},
};
use crate::camera::{Place, SHIPPED_RATE, SHIPPED_SIZE};
use choir_host::clock::unix_us;
use choir_proto::onvif::{
    Element, escape,
    media::{Group, Media, VideoEncoder, video_encoder, write_video_encoder},
    ptz::read_vector,
    soap::{envelope, parse_duration, parts_of},
};
use std::{
    fmt::Write,
    net::Ipv4Addr,
    sync::{PoisonError, atomic::Ordering},
};

/// An answer.
pub(super) enum Answer {
    /// The whole message.
    Body(String),
    /// Codes and words.
    Fault(Vec<&'static str>, &'static str),
}

type Result<T> = std::result::Result<T, (Vec<&'static str>, &'static str)>;

/// Its page.
pub(super) fn page(shared: &Shared) -> String {
    format!("<html><head><title>{}</title></head><body>Settings by ONVIF.</body></html>", escape(&shared.settings.name))
}

/// Maker, model and kind, as it says them.
pub(super) fn identity(shared: &Shared) -> (&'static str, &'static str, &'static str) {
    match shared.settings.kind {
        Kind::PtzCamera => ("Tarn Works", "Heron 20", "ptz"),
        Kind::Encoder => ("Quayside", "Coracle Four", "video_encoder"),
    }
}

fn wrong(code: &'static str) -> (Vec<&'static str>, &'static str) {
    (vec!["Sender", "InvalidArgVal", code], "Invalid value")
}

/// Answers a request.
pub(super) fn answer(shared: &Shared, ask: &Element) -> Answer {
    let m = if ask.namespace.contains("/ver20/media/") { Media::Two } else { Media::One };
    let prefix = match ask.namespace.as_str() {
        n if n.contains("/device/") => "tds",
        n if n.contains("/ptz/") => "tptz",
        _ if m == Media::Two => "tr2",
        _ => "trt",
    };
    let inside = match prefix {
        "tds" => device(shared, ask),
        "tptz" if shared.settings.kind == Kind::PtzCamera => ptz(shared, ask),
        "tr2" if shared.has(Quirk::FirstMediaOnly) => Err((vec!["Receiver", "ActionNotSupported"], "Unknown")),
        "trt" | "tr2" => media(shared, m, prefix, ask),
        _ => Err((vec!["Receiver", "ActionNotSupported"], "Unknown")),
    };
    match inside {
        Ok(inside) => Answer::Body(envelope("", &format!("<{prefix}:{0}Response>{inside}</{prefix}:{0}Response>", ask.name))),
        Err((codes, reason)) => Answer::Fault(codes, reason),
    }
}

/// The address that it gives for a service.
fn address(shared: &Shared, path: &str) -> String {
    let own = shared.look(|s| s.network.address);
    let ip = if shared.has(Quirk::OldAddress) { Ipv4Addr::new(192, 168, 77, 77) } else { own };
    let port = shared.settings.control_port + u16::from(shared.has(Quirk::OddPort) && path != "device_service");
    format!("http://{ip}:{port}/onvif/{path}")
}

fn device(shared: &Shared, ask: &Element) -> Result<String> {
    let (maker, model, _) = identity(shared);
    let media2 = !shared.has(Quirk::FirstMediaOnly);
    let ptz = shared.settings.kind == Kind::PtzCamera;
    Ok(match ask.name.as_str() {
        "GetSystemDateAndTime" => {
            let [y, mo, d, h, mi, s] = parts_of(unix_us() + shared.settings.clock_ahead * 1_000_000);
            format!(
                "<tds:SystemDateAndTime><tt:DateTimeType>Manual</tt:DateTimeType><tt:DaylightSavings>false</tt:DaylightSavings>\
                 <tt:UTCDateTime><tt:Time><tt:Hour>{h}</tt:Hour><tt:Minute>{mi}</tt:Minute><tt:Second>{s}</tt:Second></tt:Time>\
                 <tt:Date><tt:Year>{y}</tt:Year><tt:Month>{mo}</tt:Month><tt:Day>{d}</tt:Day></tt:Date></tt:UTCDateTime></tds:SystemDateAndTime>"
            )
        }
        "GetDeviceInformation" => format!(
            "<tds:Manufacturer>{maker}</tds:Manufacturer><tds:Model>{model}</tds:Model><tds:FirmwareVersion>4.2.1</tds:FirmwareVersion>\
             <tds:SerialNumber>TH-{:08X}</tds:SerialNumber><tds:HardwareId>1</tds:HardwareId>",
            u32::from(shared.settings.address)
        ),
        "GetServices" if shared.has(Quirk::OldServices) => return Err((vec!["Receiver", "ActionNotSupported"], "Unknown")),
        "GetServices" => {
            let mut out = String::new();
            let mut service = |namespace: &str, path: &str| {
                let _ = write!(
                    out,
                    "<tds:Service><tds:Namespace>http://www.onvif.org/{namespace}/wsdl</tds:Namespace><tds:XAddr>{}</tds:XAddr>\
                     <tds:Version><tt:Major>2</tt:Major><tt:Minor>60</tt:Minor></tds:Version></tds:Service>",
                    address(shared, path)
                );
            };
            service("ver10/device", "device_service");
            service("ver10/media", "media");
            if media2 {
                service("ver20/media", "media2");
            }
            if ptz {
                service("ver20/ptz", "ptz");
            }
            out
        }
        "GetCapabilities" => {
            let ptz = if ptz { format!("<tt:PTZ><tt:XAddr>{}</tt:XAddr></tt:PTZ>", address(shared, "ptz")) } else { String::new() };
            format!("<tds:Capabilities><tt:Media><tt:XAddr>{}</tt:XAddr></tt:Media>{ptz}</tds:Capabilities>", address(shared, "media"))
        }
        "GetNetworkInterfaces" => network(shared),
        "SetNetworkInterfaces" => set_network(shared, ask)?,
        "GetNetworkDefaultGateway" => {
            let gateway = shared.look(|s| s.network.gateway).map_or_else(String::new, |g| format!("<tt:IPv4Address>{g}</tt:IPv4Address>"));
            format!("<tds:NetworkGateway>{gateway}</tds:NetworkGateway>")
        }
        "SetNetworkDefaultGateway" => {
            let gateway = ask.number_at("IPv4Address").ok_or_else(|| wrong("InvalidGatewayAddress"))?;
            shared.look(|s| {
                s.network.gateway = Some(gateway);
                if let Some(n) = &mut s.next_network {
                    n.gateway = Some(gateway);
                }
            });
            String::new()
        }
        "SystemReboot" => {
            shared.turn.send_replace(Turn::Restart);
            "<tds:Message>Restarting</tds:Message>".into()
        }
        "GetUsers" => {
            let user = shared.look(|s| s.credentials.user.clone());
            format!("<tds:User><tt:Username>{}</tt:Username><tt:UserLevel>Administrator</tt:UserLevel></tds:User>", escape(&user))
        }
        "SetUser" => {
            let user = ask.text_at("User/Username").unwrap_or_default();
            let password = ask.text_at("User/Password").unwrap_or_default();
            if password.len() < 8 {
                return Err((vec!["Sender", "OperationProhibited", "PasswordTooWeak"], "Too weak"));
            }
            shared.look(|s| {
                if s.credentials.user != user {
                    return Err((vec!["Sender", "InvalidArgVal", "UsernameMissing"], "No such user"));
                }
                if shared.has(Quirk::KeepsItsOwn) {
                    return Ok(());
                }
                s.credentials = s.credentials.with_password(password);
                Ok(())
            })?;
            shared.streams_changed.send_modify(|c| *c += 1);
            String::new()
        }
        _ => return Err((vec!["Receiver", "ActionNotSupported"], "Unknown")),
    })
}

fn network(shared: &Shared) -> String {
    let Net { address, prefix, dhcp, .. } = shared.look(|s| s.network);
    let place = if dhcp { "FromDHCP" } else { "Manual" };
    let [_, b, c, d] = address.octets();
    format!(
        "<tds:NetworkInterfaces token=\"eth0\"><tt:Enabled>true</tt:Enabled><tt:Info><tt:Name>eth0</tt:Name>\
         <tt:HwAddress>02:7a:00:{b:02x}:{c:02x}:{d:02x}</tt:HwAddress><tt:MTU>1500</tt:MTU></tt:Info><tt:IPv4><tt:Enabled>true</tt:Enabled>\
         <tt:Config><tt:{place}><tt:Address>{address}</tt:Address><tt:PrefixLength>{prefix}</tt:PrefixLength></tt:{place}>\
         <tt:DHCP>{dhcp}</tt:DHCP></tt:Config></tt:IPv4></tds:NetworkInterfaces>"
    )
}

fn set_network(shared: &Shared, ask: &Element) -> Result<String> {
    if ask.text_at("InterfaceToken") != Some("eth0") {
        return Err(wrong("InvalidNetworkInterface"));
    }
    let v4 = ask.at("NetworkInterface/IPv4").ok_or_else(|| wrong("InvalidIPv4Address"))?;
    let dhcp = v4.text_at("DHCP") == Some("true");
    let now = shared.look(|s| s.network);
    let next = if dhcp {
        Net { address: shared.settings.lease, prefix: 24, dhcp, ..now }
    } else {
        let address: Ipv4Addr = v4.number_at("Manual/Address").ok_or_else(|| wrong("InvalidIPv4Address"))?;
        // A stand-in never leaves this machine.
        if !address.is_loopback() {
            return Err(wrong("InvalidIPv4Address"));
        }
        Net { address, prefix: v4.number_at("Manual/PrefixLength").unwrap_or(24), dhcp, ..now }
    };
    if shared.has(Quirk::KeepsItsOwn) {
        return Ok("<tds:RebootNeeded>false</tds:RebootNeeded>".into());
    }
    shared.look(|s| s.next_network = Some(next));
    let at_restart = shared.settings.kind == Kind::Encoder;
    if !at_restart {
        shared.turn.send_replace(Turn::Move);
    }
    Ok(format!("<tds:RebootNeeded>{at_restart}</tds:RebootNeeded>"))
}

/// What its profiles say of its head.
const HEAD: &str = "<tt:Name>head</tt:Name><tt:UseCount>2</tt:UseCount><tt:NodeToken>head</tt:NodeToken>";
const NAMES: [&str; 2] = ["main", "sub"];

fn encoder_of(s: &StreamState, n: usize) -> VideoEncoder {
    VideoEncoder {
        token: format!("encoder-{}", NAMES[n]),
        name: NAMES[n].into(),
        encoding: s.codec.clone(),
        profile: Some(s.profile.clone()),
        size: s.size,
        rate: f64::from(s.rate),
        kbps: s.kbps,
        constant: Some(s.constant),
        gop: Some(s.gop),
        quality: 4.0,
        group: s.group.map(|(ip, port)| Group { address: ip.to_string(), port, ttl: 1 }),
        session_timeout: "PT60S".into(),
    }
}

fn stream_of(ask: &Element, element: &str, start: &str) -> Result<usize> {
    let token = ask.text_at(element).unwrap_or_default();
    let known = NAMES.iter().position(|n| token.strip_prefix(start) == Some(n));
    known.ok_or_else(|| wrong(if start == "profile-" { "NoProfile" } else { "NoConfig" }))
}

fn profiles(m: Media, p: &str, shared: &Shared, s: &State) -> String {
    let mut out = String::new();
    let token = |tag: &str, inside: &str| format!("<{tag}>{inside}</{}>", tag.split(' ').next().unwrap_or(tag));
    for (n, name) in NAMES.iter().enumerate() {
        // The first service has no word for H.265: such a stream shows as the codec it knows best.
        let stream = &s.stored[n];
        let source = format!(
            "<tt:Name>source</tt:Name><tt:UseCount>2</tt:UseCount><tt:SourceToken>{}</tt:SourceToken>\
             <tt:Bounds x=\"0\" y=\"0\" width=\"1280\" height=\"720\"/>",
            s.active_input
        );
        let audio = "<tt:Name>sound</tt:Name><tt:UseCount>2</tt:UseCount><tt:Encoding>AAC</tt:Encoding><tt:Bitrate>96</tt:Bitrate>\
                     <tt:SampleRate>48</tt:SampleRate>";
        let ptz = shared.settings.kind == Kind::PtzCamera;
        let _ = match m {
            Media::One => {
                let audio = if stream.audio { token("tt:AudioEncoderConfiguration token=\"sound\"", audio) } else { String::new() };
                let ptz = if ptz { token("tt:PTZConfiguration token=\"head\"", HEAD) } else { String::new() };
                write!(
                    out,
                    "<{p}:Profiles token=\"profile-{name}\" fixed=\"true\"><tt:Name>{name}</tt:Name>{}{}{audio}{ptz}</{p}:Profiles>",
                    token("tt:VideoSourceConfiguration token=\"source\"", &source),
                    write_video_encoder(m, "tt:VideoEncoderConfiguration", &encoder_of(stream, n)),
                )
            }
            Media::Two => {
                let audio = if stream.audio {
                    token("tr2:AudioEncoder token=\"sound\"", &audio.replace(">AAC<", ">MP4A-LATM<"))
                } else {
                    String::new()
                };
                let ptz = if ptz { token("tr2:PTZ token=\"head\"", HEAD) } else { String::new() };
                write!(
                    out,
                    "<{p}:Profiles token=\"profile-{name}\" fixed=\"true\"><tr2:Name>{name}</tr2:Name><tr2:Configurations>{}{}{audio}{ptz}\
                     </tr2:Configurations></{p}:Profiles>",
                    token("tr2:VideoSource token=\"source\"", &source),
                    write_video_encoder(m, "tr2:VideoEncoder", &encoder_of(stream, n)),
                )
            }
        };
    }
    out
}

fn resolution((w, h): (u32, u32)) -> String {
    format!("<tt:ResolutionsAvailable><tt:Width>{w}</tt:Width><tt:Height>{h}</tt:Height></tt:ResolutionsAvailable>")
}

fn min_max(tag: &str, (a, z): (u32, u32)) -> String {
    format!("<tt:{tag}><tt:Min>{a}</tt:Min><tt:Max>{z}</tt:Max></tt:{tag}>")
}

fn options(m: Media) -> String {
    let sizes: String = SIZES.into_iter().map(resolution).collect();
    match m {
        Media::One => {
            let common = format!(
                "{sizes}{}{}{}<tt:H264ProfilesSupported>Main</tt:H264ProfilesSupported><tt:H264ProfilesSupported>High</tt:H264ProfilesSupported>",
                min_max("GovLengthRange", GOP),
                min_max("FrameRateRange", (RATES[0], RATES[2])),
                min_max("EncodingIntervalRange", (1, 1))
            );
            format!(
                "<trt:Options>{}<tt:H264>{common}</tt:H264><tt:Extension><tt:H264>{common}{}</tt:H264></tt:Extension></trt:Options>",
                min_max("QualityRange", (0, 10)),
                min_max("BitrateRange", KBPS)
            )
        }
        Media::Two => {
            let one = |codec: &str, profiles: &str, rates: &str, sizes: &str, constant: bool| {
                format!(
                    "<tr2:Options GovLengthRange=\"{} {}\" FrameRatesSupported=\"{rates}\" ProfilesSupported=\"{profiles}\" \
                     ConstantBitRateSupported=\"{constant}\"><tt:Encoding>{codec}</tt:Encoding>{}{sizes}{}</tr2:Options>",
                    GOP.0,
                    GOP.1,
                    min_max("QualityRange", (0, 10)),
                    min_max("BitrateRange", KBPS)
                )
            };
            let rates = RATES.map(|r| r.to_string()).join(" ");
            one("H264", "Main High", &rates, &sizes, true)
                + &one("H265", "Main", &SHIPPED_RATE.to_string(), &resolution(SHIPPED_SIZE), false)
        }
    }
}

fn media(shared: &Shared, m: Media, p: &str, ask: &Element) -> Result<String> {
    Ok(match ask.name.as_str() {
        "GetProfiles" => shared.look(|s| profiles(m, p, shared, s)),
        "GetVideoSources" if m == Media::One => {
            let one = |(n, signal): (usize, &bool)| {
                let (rate, w, h) = if *signal { (25, 1280, 720) } else { (0, 0, 0) };
                format!(
                    "<trt:VideoSources token=\"{}\"><tt:Framerate>{rate}</tt:Framerate>\
                     <tt:Resolution><tt:Width>{w}</tt:Width><tt:Height>{h}</tt:Height></tt:Resolution></trt:VideoSources>",
                    n + 1
                )
            };
            shared.settings.inputs.iter().enumerate().map(one).collect()
        }
        "GetVideoEncoderConfigurationOptions" => {
            stream_of(ask, "ConfigurationToken", "encoder-")?;
            options(m)
        }
        "SetVideoEncoderConfiguration" => {
            let config = ask.child("Configuration").ok_or_else(|| wrong("NoConfig"))?;
            let v = video_encoder(m, config);
            let n = NAMES.iter().position(|n| v.token == format!("encoder-{n}")).ok_or_else(|| wrong("NoConfig"))?;
            let old = shared.look(|s| s.stored[n].clone());
            let group = v.group.as_ref().and_then(|g| Some((g.address.parse().ok()?, g.port)));
            let wanted = StreamState {
                codec: v.encoding,
                profile: v.profile.unwrap_or(old.profile),
                size: v.size,
                rate: v.rate.round() as u32,
                kbps: v.kbps,
                constant: v.constant.unwrap_or(old.constant),
                gop: v.gop.unwrap_or(old.gop),
                audio: old.audio,
                group,
            };
            shared.set_stream(n, wanted).map_err(wrong)?;
            String::new()
        }
        "SetVideoSourceConfiguration" => {
            let input: usize = ask.number_at("Configuration/SourceToken").ok_or_else(|| wrong("NoSource"))?;
            if !(1..=shared.settings.inputs.len()).contains(&input) {
                return Err(wrong("NoSource"));
            }
            shared.look(|s| s.active_input = input);
            shared.streams_changed.send_modify(|c| *c += 1);
            String::new()
        }
        "GetAudioEncoderConfigurations" => {
            let codec = if m == Media::One { "AAC" } else { "MP4A-LATM" };
            format!(
                "<{p}:Configurations token=\"sound\"><tt:Name>sound</tt:Name><tt:UseCount>2</tt:UseCount><tt:Encoding>{codec}</tt:Encoding>\
                 <tt:Bitrate>96</tt:Bitrate><tt:SampleRate>48</tt:SampleRate></{p}:Configurations>"
            )
        }
        "SetAudioEncoderConfiguration" => match ask.text_at("Configuration/Encoding") {
            Some("AAC" | "MP4A-LATM") => String::new(),
            _ => return Err(wrong("ConfigModify")),
        },
        "AddAudioEncoderConfiguration" | "AddConfiguration" => sound(shared, ask, true)?,
        "RemoveAudioEncoderConfiguration" | "RemoveConfiguration" => sound(shared, ask, false)?,
        "SetSynchronizationPoint" if !shared.has(Quirk::NoKeyframes) => {
            let n = stream_of(ask, "ProfileToken", "profile-")?;
            shared.counts.keyframes.fetch_add(1, Ordering::Relaxed);
            if let Some(sent) = shared.sent.lock().unwrap_or_else(PoisonError::into_inner).get(n) {
                sent.control.request_keyframe();
            }
            String::new()
        }
        "GetStreamUri" => {
            let n = stream_of(ask, "ProfileToken", "profile-")?;
            let own = shared.look(|s| s.network.address);
            let ip = if shared.has(Quirk::OldAddress) { Ipv4Addr::new(192, 168, 77, 77) } else { own };
            let url = format!("rtsp://{ip}:{}/{}", shared.settings.rtsp_port, NAMES[n]);
            match m {
                Media::One => format!("<trt:MediaUri><tt:Uri>{url}</tt:Uri></trt:MediaUri>"),
                Media::Two => format!("<tr2:Uri>{url}</tr2:Uri>"),
            }
        }
        _ => return Err((vec!["Receiver", "ActionNotSupported"], "Unknown")),
    })
}

fn sound(shared: &Shared, ask: &Element, on: bool) -> Result<String> {
    let n = stream_of(ask, "ProfileToken", "profile-")?;
    shared.look(|s| (s.active[n].audio, s.stored[n].audio) = (on, on));
    shared.streams_changed.send_modify(|c| *c += 1);
    Ok(String::new())
}

/// How it moves relative to its picture.
fn node(ask: &Element) -> Result<String> {
    if ask.text_at("NodeToken") != Some("head") {
        return Err(wrong("NoEntity"));
    }
    let range = |axis: &str| format!("<tt:{axis}><tt:Min>-1</tt:Min><tt:Max>1</tt:Max></tt:{axis}>");
    let space = |kind: &str, uri: &str, axes: &[&str]| {
        let axes: String = axes.iter().map(|a| range(a)).collect();
        format!("<tt:{kind}><tt:URI>http://www.onvif.org/ver10/tptz/{uri}</tt:URI>{axes}</tt:{kind}>")
    };
    let turns = ["PanTiltSpaces/TranslationGenericSpace", "PanTiltSpaces/TranslationSpaceFov"];
    let turns: String = turns.map(|uri| space("RelativePanTiltTranslationSpace", uri, &["XRange", "YRange"])).concat();
    let zoom = space("RelativeZoomTranslationSpace", "ZoomSpaces/TranslationGenericSpace", &["XRange"]);
    Ok(format!(
        "<tptz:PTZNode token=\"head\"><tt:Name>head</tt:Name><tt:SupportedPTZSpaces>{turns}{zoom}</tt:SupportedPTZSpaces>\
         <tt:MaximumNumberOfPresets>99</tt:MaximumNumberOfPresets><tt:HomeSupported>true</tt:HomeSupported></tptz:PTZNode>"
    ))
}

fn ptz(shared: &Shared, ask: &Element) -> Result<String> {
    if ask.name == "GetNode" {
        return if shared.has(Quirk::NoPictureMoves) { Err((vec!["Receiver", "ActionNotSupported"], "Unknown")) } else { node(ask) };
    }
    stream_of(ask, "ProfileToken", "profile-")?;
    let number = || ask.number_at::<u8>("PresetToken").ok_or_else(|| wrong("NoToken"));
    let head = &shared.head;
    Ok(match ask.name.as_str() {
        "GetPresets" => {
            let presets = shared.look(|s| s.presets.clone());
            let one = |(n, (name, at)): (&u8, &(String, Place))| {
                format!(
                    "<tptz:Preset token=\"{n}\"><tt:Name>{}</tt:Name><tt:PTZPosition>{}</tt:PTZPosition></tptz:Preset>",
                    escape(name),
                    place(*at)
                )
            };
            presets.iter().map(one).collect()
        }
        "SetPreset" => {
            let name = ask.text_at("PresetName").unwrap_or_default().to_owned();
            let at = head.place();
            let given = ask.number_at::<u8>("PresetToken");
            let own = shared.has(Quirk::OwnPresetNumbers);
            if given.is_some_and(|n| own && !shared.look(|s| s.presets.contains_key(&n))) {
                return Err(wrong("NoToken"));
            }
            let n = shared.look(|s| {
                // Without a number it takes the first that is free.
                let n = given.or_else(|| (1..=99).find(|n| !s.presets.contains_key(n)))?;
                s.presets.insert(n, (name, at));
                Some(n)
            });
            let n = n.ok_or((vec!["Receiver", "Action", "TooManyPresets"], "Full"))?;
            format!("<tptz:PresetToken>{n}</tptz:PresetToken>")
        }
        "GotoPreset" => {
            let n = number()?;
            let at = shared.look(|s| s.presets.get(&n).map(|p| p.1)).ok_or_else(|| wrong("NoToken"))?;
            head.travel(at);
            String::new()
        }
        "GotoHomePosition" => {
            head.travel(Place::default());
            String::new()
        }
        "ContinuousMove" => {
            let v = ask.child("Velocity").and_then(read_vector).ok_or_else(|| wrong("InvalidVelocity"))?;
            let time = ask.text_at("Timeout").and_then(parse_duration);
            head.drive(Place { pan: v.pan, tilt: v.tilt, zoom: v.zoom }, time);
            String::new()
        }
        "RelativeMove" => {
            let by = ask.child("Translation").ok_or_else(|| wrong("InvalidTranslation"))?;
            let fov = by.child("PanTilt").and_then(|t| t.attribute("space")).is_some_and(|s| s.ends_with("/TranslationSpaceFov"));
            let v = read_vector(by).filter(|_| fov).ok_or((vec!["Sender", "InvalidArgVal", "SpaceNotSupported"], "Only by its picture"))?;
            head.frame(v.pan, v.tilt, v.zoom);
            String::new()
        }
        "Stop" => {
            if shared.loses_stop() {
                return Err((vec!["Receiver", "CriticalError"], "Busy"));
            }
            head.stop();
            String::new()
        }
        "GetStatus" => {
            let word = if head.moving() { "MOVING" } else { "IDLE" };
            format!(
                "<tptz:PTZStatus><tt:Position>{}</tt:Position><tt:MoveStatus><tt:PanTilt>{word}</tt:PanTilt><tt:Zoom>{word}</tt:Zoom></tt:MoveStatus>\
                 </tptz:PTZStatus>",
                place(head.place())
            )
        }
        _ => return Err((vec!["Receiver", "ActionNotSupported"], "Unknown")),
    })
}

fn place(p: Place) -> String {
    format!("<tt:PanTilt x=\"{:.4}\" y=\"{:.4}\"/><tt:Zoom x=\"{:.4}\"/>", p.pan, p.tilt, p.zoom)
}
