//! Writes the session description of what a server has.

use crate::{audio::AacConfig, h26x, media::Codec, rtp::ParameterSets};
use base64::{Engine, prelude::BASE64_STANDARD};
use std::{fmt::Write, net::IpAddr};

/// One track to describe: what it is, its payload type, and the parameter sets of a video track.
pub type Described<'a> = (&'a Codec, u8, Option<&'a ParameterSets>);

/// The description. `group` is where all tracks are sent when they go to a group: address, first
/// port, and routers to pass.
#[must_use]
pub fn describe(name: &str, host: IpAddr, tracks: &[Described<'_>], group: Option<(IpAddr, u16, u8)>) -> String {
    let family = |ip: IpAddr| if ip.is_ipv4() { "IP4" } else { "IP6" };
    let plain: String = name.chars().filter(|c| !c.is_control()).collect();
    let mut text = format!("v=0\r\no=- 1 1 IN {} {host}\r\ns={plain}\r\n", family(host));
    match group {
        Some((ip, _, ttl)) if ip.is_ipv4() => {
            let _ = write!(text, "c=IN IP4 {ip}/{ttl}\r\n");
        }
        Some((ip, ..)) => {
            let _ = write!(text, "c=IN IP6 {ip}\r\n");
        }
        None => {
            let _ = write!(text, "c=IN {} {}\r\n", family(host), if host.is_ipv4() { "0.0.0.0" } else { "::" });
        }
    }
    text += "t=0 0\r\na=control:*\r\na=range:npt=now-\r\n";
    for (n, (codec, payload_type, sets)) in tracks.iter().enumerate() {
        let port = group.map_or(0, |(_, p, _)| p + 2 * n as u16);
        text += &track(codec, *payload_type, *sets, port);
        let _ = write!(text, "a=control:track{}\r\n", n + 1);
    }
    text
}

fn track(codec: &Codec, pt: u8, sets: Option<&ParameterSets>, port: u16) -> String {
    let encode = |rank: u8| {
        let of: Vec<String> = sets.into_iter().flat_map(|s| s.of_rank(rank)).map(|s| BASE64_STANDARD.encode(s)).collect();
        of.join(",")
    };
    match codec {
        Codec::H264 => {
            let sps = sets.and_then(|s| s.of_rank(1).next());
            let profile = sps
                .and_then(|s| s.get(1..4))
                .map_or_else(String::new, |b| format!("profile-level-id={:02X}{:02X}{:02X};", b[0], b[1], b[2]));
            let rate = sps.and_then(|s| h26x::parse_sps(s)).and_then(|f| f.declared_rate);
            let rate = rate.map_or_else(String::new, |r| format!("a=framerate:{r:.2}\r\n"));
            format!(
                "m=video {port} RTP/AVP {pt}\r\na=rtpmap:{pt} H264/90000\r\n{rate}\
                 a=fmtp:{pt} packetization-mode=1;{profile}sprop-parameter-sets={},{}\r\n",
                encode(1),
                encode(2)
            )
        }
        Codec::H265 => format!(
            "m=video {port} RTP/AVP {pt}\r\na=rtpmap:{pt} H265/90000\r\na=fmtp:{pt} sprop-vps={};sprop-sps={};sprop-pps={}\r\n",
            encode(0),
            encode(1),
            encode(2)
        ),
        Codec::Aac(config) => aac(config, pt, port),
        Codec::G711(law) => {
            let (name, fixed) = if *law == crate::audio::Law::Mu { ("PCMU", 0) } else { ("PCMA", 8) };
            format!("m=audio {port} RTP/AVP {fixed}\r\na=rtpmap:{fixed} {name}/8000\r\n")
        }
        Codec::Pcm(channels) => format!("m=audio {port} RTP/AVP {pt}\r\na=rtpmap:{pt} L24/48000/{channels}\r\n"),
        Codec::Ts => format!("m=video {port} RTP/AVP 33\r\na=rtpmap:33 MP2T/90000\r\n"),
    }
}

fn aac(config: &AacConfig, pt: u8, port: u16) -> String {
    let [a, b] = config.to_bytes();
    format!(
        "m=audio {port} RTP/AVP {pt}\r\na=rtpmap:{pt} mpeg4-generic/{}/{}\r\n\
         a=fmtp:{pt} streamtype=5;profile-level-id=1;mode=AAC-hbr;sizelength=13;indexlength=3;indexdeltalength=3;config={a:02X}{b:02X}\r\n",
        config.sample_rate, config.channels
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{rtp::PayloadFormat, rtsp::parse_sdp};

    #[test]
    fn what_is_written_is_understood() {
        let sps = [0x67, 0x64, 0x00, 0x1f, 0xac, 0xd9, 0x40, 0x50, 0x05, 0xbb];
        let pps = [0x68, 0xEE, 0x3C, 0x80];
        let sets = ParameterSets::from_description(false, [&sps[..], &pps[..]].into_iter());
        let config = AacConfig { object_type: 2, sample_rate: 48_000, channels: 2, frame_samples: 1024 };
        let (h264, sound) = (Codec::H264, Codec::Aac(config));
        let text = describe("boathouse\r\n-1", [127, 20, 0, 1].into(), &[(&h264, 96, Some(&sets)), (&sound, 97, None)], None);
        let read = parse_sdp(&text).expect("a description");
        assert_eq!(read.name, "boathouse-1");
        assert_eq!(read.tracks[0].format, Ok(PayloadFormat::H264 { sets }));
        assert!(matches!(read.tracks[1].format, Ok(PayloadFormat::Aac { config: c, .. }) if c == config));
        assert_eq!(read.tracks[1].control.as_deref(), Some("track2"));
        let group =
            describe("x", [127, 20, 0, 1].into(), &[(&h264, 96, None), (&sound, 97, None)], Some(([239, 20, 0, 1].into(), 6000, 1)));
        let read = parse_sdp(&group).expect("a description");
        assert_eq!((read.tracks[1].port, read.tracks[1].connection), (6002, Some([239, 20, 0, 1].into())));
    }
}
