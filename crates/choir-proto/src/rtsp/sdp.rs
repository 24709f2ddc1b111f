//! Session descriptions (RFC 8866) as cameras write them, down to what can be made of each track.

use crate::{
    audio::{AacConfig, Law, StreamMux},
    rtp::{AuHeaders, Feedback, ParameterSets, PayloadFormat},
};
use base64::Engine;
use std::net::IpAddr;

/// Lines of a description; a camera's has some thirty.
const LINES_MAX: usize = 2000;
/// Tracks kept.
const TRACKS_MAX: usize = 16;

/// One track.
#[derive(Debug, Clone, PartialEq)]
pub struct SdpTrack {
    /// `video`, `audio`, `application`.
    pub kind: String,
    /// Where it is sent, 0 when not said.
    pub port: u16,
    /// RTP payload type.
    pub payload_type: u8,
    /// Its name, as in `H264`.
    pub encoding: String,
    /// Ticks per second.
    pub clock_rate: u32,
    /// How to read it, or why it is left aside, as a sentence.
    pub format: Result<PayloadFormat, String>,
    /// Where it is controlled.
    pub control: Option<String>,
    /// Where it is sent.
    pub connection: Option<IpAddr>,
    /// Only packets from here are meant (RFC 4570).
    pub source: Option<IpAddr>,
    /// Frames per second as declared.
    pub frame_rate: Option<f64>,
    /// Bits per second as declared.
    pub bandwidth: Option<u64>,
    /// Requests that its sender takes (RFC 4585, 4.2).
    pub feedback: Feedback,
}

/// All of it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct SessionDescription {
    /// Name.
    pub name: String,
    /// Where the whole is controlled.
    pub control: Option<String>,
    /// Tracks in order.
    pub tracks: Vec<SdpTrack>,
}

/// Why a text is no description.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum SdpError {
    /// Nothing of one is in it.
    #[error("not a session description: it has no v= and no m= line")]
    Nothing,
    /// Longer than any.
    #[error("the session description is longer than 2000 lines")]
    TooLong,
}

/// Attributes of one level.
#[derive(Debug, Default)]
struct Level<'a> {
    connection: Option<IpAddr>,
    source: Option<IpAddr>,
    bandwidth: Option<u64>,
    attributes: Vec<(&'a str, &'a str)>,
}

impl<'a> Level<'a> {
    fn all(&self, name: &str) -> impl Iterator<Item = &'a str> {
        self.attributes.iter().filter(move |(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| *v)
    }
    /// The value of an attribute that begins with this payload type.
    fn of_type(&self, name: &str, payload_type: u8) -> Option<&'a str> {
        self.all(name).find_map(|v| {
            let (n, rest) = v.trim().split_once([' ', '\t'])?;
            (n.parse() == Ok(payload_type)).then_some(rest.trim())
        })
    }
    fn line(&mut self, kind: &str, value: &'a str) {
        match kind {
            "c" => self.connection = address(value),
            "b" => {
                let (unit, n) = value.split_once(':').unwrap_or(("", value));
                let n: Option<u64> = n.trim().parse().ok();
                // Kilobits, but for the one that says bits (RFC 3890).
                self.bandwidth = n.map(|n| if unit == "TIAS" { n } else { n.saturating_mul(1000) });
            }
            "a" => {
                let (name, value) = value.split_once(':').unwrap_or((value, ""));
                if name.eq_ignore_ascii_case("source-filter") {
                    self.source = value.split_whitespace().nth(4).and_then(|s| s.parse().ok());
                }
                self.attributes.push((name.trim(), value.trim()));
            }
            _ => {}
        }
    }
}

/// `IN IP4 239.20.0.1/16`: the address, unless it says nothing.
fn address(value: &str) -> Option<IpAddr> {
    let text = value.split_whitespace().nth(2)?;
    text.split('/').next()?.parse::<IpAddr>().ok().filter(|a| !a.is_unspecified())
}

/// Reads a description. What is odd in it is passed over.
///
/// # Errors
/// It is none.
pub fn parse_sdp(text: &str) -> Result<SessionDescription, SdpError> {
    if text.lines().count() > LINES_MAX {
        return Err(SdpError::TooLong);
    }
    let mut session = Level::default();
    let mut name = String::new();
    let mut media: Vec<(&str, Level<'_>)> = Vec::new();
    let mut version = false;
    for line in text.lines() {
        let Some((kind, value)) = line.trim().split_once('=') else { continue };
        let value = value.trim();
        let full = media.len() >= TRACKS_MAX;
        match (kind, media.last_mut()) {
            ("v", _) => version = true,
            ("s", None) => name = value.to_owned(),
            ("m", _) if full => {}
            ("m", _) => media.push((value, Level::default())),
            (_, Some((_, level))) => level.line(kind, value),
            (_, None) => session.line(kind, value),
        }
    }
    if !version && media.is_empty() {
        return Err(SdpError::Nothing);
    }
    let tracks = media.iter().filter_map(|(m, level)| track(m, level, &session)).collect();
    Ok(SessionDescription { name, control: session.all("control").next().map(str::to_owned), tracks })
}

fn track(media: &str, level: &Level<'_>, session: &Level<'_>) -> Option<SdpTrack> {
    let mut words = media.split_whitespace();
    let kind = words.next()?.to_ascii_lowercase();
    let port = words.next()?.split('/').next()?.parse().ok()?;
    let profile = words.next()?.to_owned();
    let types: Vec<u8> = words.filter_map(|w| w.parse().ok()).filter(|t| *t < 128).collect();
    // Several types may be offered; the first that can be carried is taken, else the first is
    // named.
    let read = |payload_type: u8| {
        let map = level.of_type("rtpmap", payload_type).map(str::to_owned).or_else(|| fixed(payload_type).map(str::to_owned));
        let map = map.unwrap_or_else(|| format!("payload type {payload_type}/90000"));
        let mut parts = map.split('/');
        let encoding = parts.next().unwrap_or_default().trim().to_owned();
        let clock_rate = parts.next().and_then(|r| r.trim().parse().ok()).filter(|r| *r > 0).unwrap_or(90_000);
        let channels = parts.next().and_then(|c| c.trim().parse().ok()).unwrap_or(1);
        let fmtp = Fmtp::parse(level.of_type("fmtp", payload_type).unwrap_or_default());
        let format = if profile.starts_with("RTP/AVP") {
            payload_format(&kind, &encoding, clock_rate, channels, &fmtp)
        } else {
            Err(format!("it travels by {profile}, not by RTP/AVP"))
        };
        (payload_type, encoding, clock_rate, format)
    };
    let all: Vec<_> = types.into_iter().map(read).collect();
    let chosen = all.iter().position(|t| t.3.is_ok()).unwrap_or(0);
    let (payload_type, encoding, clock_rate, format) = all.into_iter().nth(chosen)?;
    let rate = level.all("framerate").next().and_then(|r| r.parse().ok()).filter(|r: &f64| r.is_finite() && *r > 0.0);
    Some(SdpTrack {
        kind,
        port,
        payload_type,
        encoding,
        clock_rate,
        format,
        control: level.all("control").next().map(str::to_owned),
        connection: level.connection.or(session.connection),
        source: level.source.or(session.source),
        frame_rate: rate,
        bandwidth: level.bandwidth.or(session.bandwidth),
        feedback: feedback(level, payload_type),
    })
}

/// `96 nack pli`, `* ccm fir`.
fn feedback(level: &Level<'_>, payload_type: u8) -> Feedback {
    let mut taken = Feedback::default();
    for value in level.all("rtcp-fb") {
        let words: Vec<&str> = value.split_whitespace().collect();
        if let [of, kind, what, ..] = words[..]
            && (of == "*" || of.parse() == Ok(payload_type))
        {
            taken.picture_loss |= (kind, what) == ("nack", "pli");
            taken.full_intra |= (kind, what) == ("ccm", "fir");
        }
    }
    taken
}

/// Types with a fixed meaning (RFC 3551, table 4 and 5).
fn fixed(payload_type: u8) -> Option<&'static str> {
    Some(match payload_type {
        0 => "PCMU/8000",
        8 => "PCMA/8000",
        9 => "G722/8000",
        10 => "L16/44100/2",
        11 => "L16/44100",
        14 => "MPA/90000",
        26 => "JPEG/90000",
        32 => "MPV/90000",
        33 => "MP2T/90000",
        _ => return None,
    })
}

/// Format parameters.
struct Fmtp<'a>(Vec<(&'a str, &'a str)>);

impl<'a> Fmtp<'a> {
    fn parse(text: &'a str) -> Self {
        Self(text.split(';').filter_map(|p| p.trim().split_once('=')).map(|(n, v)| (n.trim(), v.trim())).collect())
    }
    fn get(&self, name: &str) -> Option<&'a str> {
        self.0.iter().find(|(n, _)| n.eq_ignore_ascii_case(name)).map(|(_, v)| *v)
    }
    fn number(&self, name: &str) -> Option<u32> {
        self.get(name)?.parse().ok()
    }
    fn hex(&self, name: &str) -> Option<Vec<u8>> {
        hex::decode(self.get(name)?.trim_matches('"')).ok()
    }
    /// Several NAL units in base64, with commas between.
    fn nals(&self, names: &[&str]) -> Vec<Vec<u8>> {
        let texts = names.iter().filter_map(|n| self.get(n));
        texts.flat_map(|t| t.split(',')).filter_map(|b| decode(b.trim())).collect()
    }
}

/// Base64, with or without its padding.
fn decode(text: &str) -> Option<Vec<u8>> {
    use base64::engine::{DecodePaddingMode, GeneralPurpose, GeneralPurposeConfig};
    const LENIENT: GeneralPurpose = GeneralPurpose::new(
        &base64::alphabet::STANDARD,
        GeneralPurposeConfig::new().with_decode_padding_mode(DecodePaddingMode::Indifferent).with_decode_allow_trailing_bits(true),
    );
    LENIENT.decode(text).ok().filter(|d| !d.is_empty())
}

fn payload_format(kind: &str, encoding: &str, clock_rate: u32, channels: u32, fmtp: &Fmtp<'_>) -> Result<PayloadFormat, String> {
    match encoding.to_ascii_uppercase().as_str() {
        "H264" => {
            if fmtp.number("packetization-mode").is_some_and(|m| m > 1) {
                return Err("its NAL units are interleaved (packetization-mode 2)".into());
            }
            let nals = fmtp.nals(&["sprop-parameter-sets"]);
            Ok(PayloadFormat::H264 { sets: ParameterSets::from_description(false, nals.iter().map(Vec::as_slice)) })
        }
        "H265" | "HEVC" => {
            let nals = fmtp.nals(&["sprop-vps", "sprop-sps", "sprop-pps"]);
            Ok(PayloadFormat::H265 {
                sets: ParameterSets::from_description(true, nals.iter().map(Vec::as_slice)),
                order_numbers: fmtp.number("sprop-max-don-diff").is_some_and(|n| n > 0),
            })
        }
        "MPEG4-GENERIC" if kind == "audio" => {
            let config = match fmtp.hex("config") {
                Some(bytes) => AacConfig::parse(&bytes).ok_or("its AAC is of a kind that cannot be handed on")?,
                // Some leave it out: what the map says is enough for AAC-LC.
                None => AacConfig { object_type: 2, sample_rate: clock_rate, channels: channels.clamp(1, 7) as u8, frame_samples: 1024 },
            };
            let n = |name| fmtp.number(name).unwrap_or(0).min(32);
            let low = fmtp.get("mode").is_some_and(|m| m.eq_ignore_ascii_case("AAC-lbr"));
            let (size, index) = if low { (6, 2) } else { (13, 3) };
            let or = |name, default| fmtp.number(name).map_or(default, |n| n.min(32));
            let constant_size = fmtp.number("constantsize").unwrap_or(0).min(8192) as usize;
            let headers = AuHeaders {
                size: if constant_size > 0 { 0 } else { or("sizelength", size) },
                index: or("indexlength", index),
                index_delta: or("indexdeltalength", index),
                cts_delta: n("ctsdeltalength"),
                dts_delta: n("dtsdeltalength"),
                random_access: n("randomaccessindication").min(1),
                stream_state: n("streamstateindication"),
                auxiliary: n("auxiliarydatasizelength"),
                constant_size,
            };
            Ok(PayloadFormat::Aac { config, headers })
        }
        "MP4A-LATM" => {
            let in_band = fmtp.number("cpresent") != Some(0);
            let mux = match fmtp.hex("config").map(|b| StreamMux::parse(&b)) {
                Some(Err(e)) => return Err(e.to_string()),
                Some(Ok(mux)) => Some(mux),
                None if in_band => None,
                None => return Err("its LATM has no config, neither in the description nor in band".into()),
            };
            Ok(PayloadFormat::Latm { mux, in_band })
        }
        "PCMU" | "PCMA" if channels != 1 || clock_rate != 8000 => Err("its G.711 is not one channel of 8 kHz".into()),
        "PCMU" => Ok(PayloadFormat::G711(Law::Mu)),
        "PCMA" => Ok(PayloadFormat::G711(Law::A)),
        "MP2T" => Ok(PayloadFormat::Ts),
        _ if kind == "application" => Err("it carries no picture or sound".into()),
        _ => Err("this format is not carried".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const CAMERA: &str = "v=0\r\no=- 1 1 IN IP4 127.20.0.11\r\ns=finish-tower\r\nc=IN IP4 0.0.0.0\r\nt=0 0\r\na=control:*\r\n\
        m=video 0 RTP/AVP 96\r\nb=AS:6000\r\na=rtpmap:96 H264/90000\r\na=framerate:25.0\r\n\
        a=fmtp:96 packetization-mode=1;profile-level-id=42001F; sprop-parameter-sets=Z2QAH6zZQFAFuwFqAgICgAAAAwCAAAAZB4wYyw==,aO48gA\r\n\
        a=control:trackID=1\r\n\
        m=audio 0 RTP/AVP 0 97\r\na=rtpmap:97 mpeg4-generic/48000/2\r\n\
        a=fmtp:97 streamtype=5;profile-level-id=1;mode=AAC-hbr;sizelength=13;indexlength=3;indexdeltalength=3;config=1190\r\n\
        a=control:rtsp://127.20.0.11/main/trackID=2\r\n\
        m=application 0 RTP/AVP 107\r\na=rtpmap:107 vnd.metadata/90000\r\na=control:trackID=3\r\n";

    #[test]
    fn a_camera_is_understood() {
        let sdp = parse_sdp(CAMERA).expect("a description");
        assert_eq!((sdp.name.as_str(), sdp.control.as_deref(), sdp.tracks.len()), ("finish-tower", Some("*"), 3));
        let video = &sdp.tracks[0];
        let Ok(PayloadFormat::H264 { sets }) = &video.format else { panic!("{video:?}") };
        assert!(sets.complete());
        assert_eq!((video.frame_rate, video.bandwidth, video.control.as_deref()), (Some(25.0), Some(6_000_000), Some("trackID=1")));
        // The first type that can be carried: G.711 stands before AAC here.
        assert_eq!(sdp.tracks[1].format, Ok(PayloadFormat::G711(Law::Mu)));
        assert_eq!(sdp.tracks[2].format, Err("it carries no picture or sound".into()));
    }

    #[test]
    fn every_audio_format_is_told_apart() {
        let of = |map: &str, fmtp: &str| {
            let text = format!("v=0\nm=audio 5004 RTP/AVP 98\na=rtpmap:98 {map}\na=fmtp:98 {fmtp}\n");
            parse_sdp(&text).expect("a description").tracks[0].format.clone()
        };
        let latm = of("MP4A-LATM/48000/2", "cpresent=0;config=400023203fc0");
        assert!(matches!(latm, Ok(PayloadFormat::Latm { mux: Some(m), in_band: false }) if m.config.sample_rate == 48_000), "{latm:?}");
        assert!(matches!(of("MP4A-LATM/48000", ""), Ok(PayloadFormat::Latm { mux: None, in_band: true })));
        assert!(of("MP4A-LATM/48000", "cpresent=0").is_err());
        assert!(matches!(of("mpeg4-generic/16000/1", "mode=AAC-lbr"), Ok(PayloadFormat::Aac { headers, config })
            if headers.size == 6 && config.sample_rate == 16_000));
        assert_eq!(of("PCMA/8000", ""), Ok(PayloadFormat::G711(Law::A)));
        assert!(of("PCMA/16000", "").is_err());
        assert_eq!(of("opus/48000/2", ""), Err("this format is not carried".into()));
    }

    #[test]
    fn requests_for_keyframes_are_taken_where_the_description_says_so() {
        let of = |lines: &str| {
            let text = format!("v=0\nm=video 0 RTP/AVPF 96\na=rtpmap:96 H264/90000\n{lines}");
            parse_sdp(&text).expect("a description").tracks[0].feedback
        };
        assert_eq!(of("a=rtcp-fb:96 nack pli\n"), Feedback { picture_loss: true, full_intra: false });
        assert_eq!(of("a=rtcp-fb:* ccm fir\na=rtcp-fb:* nack pli\n"), Feedback { picture_loss: true, full_intra: true });
        assert_eq!(of("a=rtcp-fb:97 nack pli\na=rtcp-fb:96 nack\n"), Feedback::default());
    }

    #[test]
    fn a_multicast_description_says_where_from() {
        let text = "v=0\nc=IN IP4 239.20.0.5/8\na=source-filter: incl IN IP4 239.20.0.5 127.20.0.13\nm=video 5004 RTP/AVP 33\n";
        let t = &parse_sdp(text).expect("a description").tracks[0];
        assert_eq!((t.port, &t.format), (5004, &Ok(PayloadFormat::Ts)));
        assert_eq!(t.connection, Some([239, 20, 0, 5].into()));
        assert_eq!(t.source, Some([127, 20, 0, 13].into()));
        assert_eq!(parse_sdp("hello"), Err(SdpError::Nothing));
    }

    proptest! {
        #[test]
        fn noise_never_panics(text in "\\PC{0,400}", at in 0usize..700, junk in "[ -~]{0,12}") {
            let _ = parse_sdp(&text);
            let at = (0..=at.min(CAMERA.len())).rev().find(|i| CAMERA.is_char_boundary(*i)).unwrap_or(0);
            let _ = parse_sdp(&format!("{}{junk}{}", &CAMERA[..at], &CAMERA[at..]));
        }
    }
}
