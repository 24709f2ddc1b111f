//! Streams and their encoders, by the first media service (`trt`) or the second (`tr2`), which
//! knows H.265.
//!
//! Both say nearly the same in different places; here it is one [`Profile`] with one
//! [`VideoEncoder`].

use super::{
    device::plain,
    soap::Call,
    xml::{Element, escape},
};
use std::fmt::Write;

/// Profiles, inputs and options that are read of one device.
const KEPT_MAX: usize = 64;

/// Which media service is spoken to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Media {
    /// The first.
    One,
    /// The second.
    Two,
}

impl Media {
    fn prefix(self) -> &'static str {
        if self == Self::One { "trt" } else { "tr2" }
    }

    fn call(self, name: &str, inside: &str) -> Call {
        Call::new(self.prefix(), name, inside)
    }

    /// A call that sets something for good, which the first service wants to be told.
    fn set(self, name: &str, inside: String) -> Call {
        self.call(name, &if self == Self::One { inside + "<trt:ForcePersistence>true</trt:ForcePersistence>" } else { inside })
    }

    /// A call with an element in this service's namespace.
    fn with(self, name: &str, element: &str, text: &str, more: &str) -> Call {
        let p = self.prefix();
        self.call(name, &format!("<{p}:{element}>{}</{p}:{element}>{more}", escape(text)))
    }
}

/// An input of the device.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Input {
    /// The device's word for it.
    pub token: String,
    /// Pixels of what comes in.
    pub size: (u32, u32),
    /// Frames per second of what comes in; 0 without a signal.
    pub rate: f64,
}

/// What an input is bound by.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SourceConfig {
    /// The device's word for it.
    pub token: String,
    /// Name.
    pub name: String,
    /// The input it takes.
    pub input: String,
    /// x, y, width, height.
    pub bounds: [u32; 4],
}

/// A group and port that a stream can be heard at.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Group {
    /// Address.
    pub address: String,
    /// Port; 0 is none.
    pub port: u16,
    /// Routers that it passes.
    pub ttl: u8,
}

/// Settings of a video encoder.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct VideoEncoder {
    /// The device's word for it.
    pub token: String,
    /// Name.
    pub name: String,
    /// `H264`, `H265`, `JPEG`, `MPEG4`, as the device writes it.
    pub encoding: String,
    /// `Baseline`, `Main`, `High`.
    pub profile: Option<String>,
    /// Pixels.
    pub size: (u32, u32),
    /// Frames per second.
    pub rate: f64,
    /// kbit/s.
    pub kbps: u32,
    /// The bitrate is held constant; the first service cannot say.
    pub constant: Option<bool>,
    /// Frames from keyframe to keyframe.
    pub gop: Option<u32>,
    /// The device's own measure; sent back as it came.
    pub quality: f64,
    /// Multicast.
    pub group: Option<Group>,
    /// First service only; sent back as it came.
    pub session_timeout: String,
}

/// Settings of an audio encoder.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AudioEncoder {
    /// The device's word for it.
    pub token: String,
    /// Name.
    pub name: String,
    /// `AAC`, `G711`, `G726`, or a media type's name by the second service.
    pub encoding: String,
    /// kbit/s.
    pub kbps: u32,
    /// kHz.
    pub khz: u32,
}

/// One stream: an input, its encoders, and what steers it.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Profile {
    /// The device's word for it.
    pub token: String,
    /// Name.
    pub name: String,
    /// Where its picture comes from.
    pub source: Option<SourceConfig>,
    /// Its video encoder.
    pub video: Option<VideoEncoder>,
    /// Its audio encoder; without one it is mute.
    pub audio: Option<AudioEncoder>,
    /// What steers it: the device's word for the head, empty where it has none.
    pub ptz: Option<String>,
}

/// Frame rates that can be had.
#[derive(Debug, Clone, PartialEq)]
pub enum Rates {
    /// Any of these.
    Each(Vec<f64>),
    /// From one to the other.
    Between(f64, f64),
}

/// What an encoder can do with one codec.
#[derive(Debug, Clone, PartialEq)]
pub struct EncoderOptions {
    /// `H264`, `H265`.
    pub encoding: String,
    /// Pixels.
    pub sizes: Vec<(u32, u32)>,
    /// Frames per second.
    pub rates: Option<Rates>,
    /// kbit/s.
    pub kbps: Option<(u32, u32)>,
    /// Frames from keyframe to keyframe.
    pub gop: Option<(u32, u32)>,
    /// Profiles.
    pub profiles: Vec<String>,
    /// The bitrate can be held constant, when it says.
    pub constant: Option<bool>,
}

/// Asks for all streams.
#[must_use]
pub fn get_profiles(m: Media) -> Call {
    m.call("GetProfiles", if m == Media::Two { "<tr2:Type>All</tr2:Type>" } else { "" })
}

/// Reads all streams.
#[must_use]
pub fn read_profiles(m: Media, answer: &Element) -> Vec<Profile> {
    answer.all("Profiles").take(KEPT_MAX).map(|e| profile(m, e)).collect()
}

fn token_of(e: &Element) -> String {
    e.attribute("token").unwrap_or_default().to_owned()
}

fn profile(m: Media, e: &Element) -> Profile {
    let part = |one: &str, two: &str| match m {
        Media::One => e.child(one),
        Media::Two => e.child("Configurations").and_then(|c| c.child(two)),
    };
    Profile {
        token: token_of(e),
        name: plain(e.text_at("Name").unwrap_or_default()),
        source: part("VideoSourceConfiguration", "VideoSource").map(source_config),
        video: part("VideoEncoderConfiguration", "VideoEncoder").map(|v| video_encoder(m, v)),
        audio: part("AudioEncoderConfiguration", "AudioEncoder").map(audio_encoder),
        ptz: part("PTZConfiguration", "PTZ").map(|head| head.text_at("NodeToken").unwrap_or_default().to_owned()),
    }
}

fn source_config(e: &Element) -> SourceConfig {
    let bounds = ["x", "y", "width", "height"];
    SourceConfig {
        token: token_of(e),
        name: plain(e.text_at("Name").unwrap_or_default()),
        input: e.text_at("SourceToken").unwrap_or_default().to_owned(),
        bounds: bounds.map(|b| e.child("Bounds").and_then(|e| e.attribute(b)?.parse().ok()).unwrap_or(0)),
    }
}

/// Reads one video encoder's settings.
#[must_use]
pub fn video_encoder(m: Media, e: &Element) -> VideoEncoder {
    let codec = e.child("H264").or_else(|| e.child("MPEG4"));
    let (gop, profile) = match m {
        Media::One => {
            let profile = codec.and_then(|c| c.text_at("H264Profile").or(c.text_at("Mpeg4Profile")));
            (codec.and_then(|c| c.number_at("GovLength")), profile)
        }
        Media::Two => (e.attribute("GovLength").and_then(|g| g.parse().ok()), e.attribute("Profile")),
    };
    let group = e.child("Multicast").and_then(|g| {
        Some(Group {
            address: g.text_at("Address/IPv4Address").or(g.text_at("Address/IPv6Address"))?.to_owned(),
            port: g.number_at("Port")?,
            ttl: g.number_at("TTL").unwrap_or(1),
        })
    });
    VideoEncoder {
        token: token_of(e),
        name: plain(e.text_at("Name").unwrap_or_default()),
        encoding: plain(e.text_at("Encoding").unwrap_or_default()).to_uppercase(),
        profile: profile.map(plain),
        size: (e.number_at("Resolution/Width").unwrap_or(0), e.number_at("Resolution/Height").unwrap_or(0)),
        rate: e.number_at::<f64>("RateControl/FrameRateLimit").filter(|r| r.is_finite()).unwrap_or(0.0),
        kbps: e.number_at("RateControl/BitrateLimit").unwrap_or(0),
        constant: e.child("RateControl").and_then(|r| r.attribute("ConstantBitRate")).map(|c| c == "true" || c == "1"),
        gop,
        quality: e.number_at::<f64>("Quality").filter(|q| q.is_finite()).unwrap_or(0.0),
        group: group.filter(|g| g.port > 0),
        session_timeout: plain(e.text_at("SessionTimeout").unwrap_or("PT60S")),
    }
}

fn audio_encoder(e: &Element) -> AudioEncoder {
    AudioEncoder {
        token: token_of(e),
        name: plain(e.text_at("Name").unwrap_or_default()),
        encoding: plain(e.text_at("Encoding").unwrap_or_default()).to_uppercase(),
        kbps: e.number_at("Bitrate").unwrap_or(0),
        khz: e.number_at("SampleRate").unwrap_or(0),
    }
}

/// Writes a video encoder's settings as an element with this tag.
#[must_use]
pub fn write_video_encoder(m: Media, tag: &str, v: &VideoEncoder) -> String {
    let mut out = format!("<{tag} token=\"{}\"", escape(&v.token));
    if m == Media::Two {
        let _ = v.gop.map(|g| write!(out, " GovLength=\"{g}\""));
        let _ = v.profile.as_ref().map(|p| write!(out, " Profile=\"{}\"", escape(p)));
    }
    let (w, h) = v.size;
    let _ = write!(
        out,
        "><tt:Name>{}</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>{}</tt:Encoding>\
         <tt:Resolution><tt:Width>{w}</tt:Width><tt:Height>{h}</tt:Height></tt:Resolution>",
        escape(&v.name),
        escape(&v.encoding)
    );
    let quality = format!("<tt:Quality>{}</tt:Quality>", v.quality);
    let group = v.group.clone().unwrap_or(Group { address: "0.0.0.0".into(), port: 0, ttl: 1 });
    let kind = if group.address.contains(':') { "IPv6" } else { "IPv4" };
    let multicast = format!(
        "<tt:Multicast><tt:Address><tt:Type>{kind}</tt:Type><tt:{kind}Address>{}</tt:{kind}Address></tt:Address>\
         <tt:Port>{}</tt:Port><tt:TTL>{}</tt:TTL><tt:AutoStart>false</tt:AutoStart></tt:Multicast>",
        escape(&group.address),
        group.port,
        group.ttl
    );
    match m {
        // The order of the schema; devices with strict readers refuse any other.
        Media::One => {
            // Whole frames per second are all that the first service can say.
            let rate = v.rate.round() as u32;
            let _ = write!(
                out,
                "{quality}<tt:RateControl><tt:FrameRateLimit>{rate}</tt:FrameRateLimit><tt:EncodingInterval>1</tt:EncodingInterval>\
                 <tt:BitrateLimit>{}</tt:BitrateLimit></tt:RateControl>",
                v.kbps
            );
            if v.encoding == "H264" {
                let profile = v.profile.as_deref().unwrap_or("Main");
                let gop = v.gop.unwrap_or(rate);
                let _ = write!(
                    out,
                    "<tt:H264><tt:GovLength>{gop}</tt:GovLength><tt:H264Profile>{}</tt:H264Profile></tt:H264>",
                    escape(profile)
                );
            }
            let _ = write!(out, "{multicast}<tt:SessionTimeout>{}</tt:SessionTimeout>", escape(&v.session_timeout));
        }
        Media::Two => {
            let constant = v.constant.map_or_else(String::new, |c| format!(" ConstantBitRate=\"{c}\""));
            let _ = write!(
                out,
                "<tt:RateControl{constant}><tt:FrameRateLimit>{}</tt:FrameRateLimit><tt:BitrateLimit>{}</tt:BitrateLimit></tt:RateControl>\
                 {multicast}{quality}",
                v.rate, v.kbps
            );
        }
    }
    let _ = write!(out, "</{tag}>");
    out
}

/// Sets a video encoder.
#[must_use]
pub fn set_video_encoder(m: Media, v: &VideoEncoder) -> Call {
    let p = m.prefix();
    let inside = write_video_encoder(m, &format!("{p}:Configuration"), v);
    m.set("SetVideoEncoderConfiguration", inside)
}

/// Asks what an encoder can do in a stream.
#[must_use]
pub fn get_options(m: Media, encoder: &str, profile: &str) -> Call {
    let p = m.prefix();
    let more = format!("<{p}:ProfileToken>{}</{p}:ProfileToken>", escape(profile));
    m.with("GetVideoEncoderConfigurationOptions", "ConfigurationToken", encoder, &more)
}

/// Reads what an encoder can do, one entry for each codec.
#[must_use]
pub fn read_options(m: Media, answer: &Element) -> Vec<EncoderOptions> {
    match m {
        Media::Two => answer.all("Options").take(KEPT_MAX).map(options_two).collect(),
        Media::One => {
            let Some(options) = answer.child("Options") else { return Vec::new() };
            let main = options.child("H264");
            // The bitrate's range came later, in an extension that repeats the rest.
            let extended = options.at("Extension/H264");
            main.or(extended).map(|o| options_one(o, extended.unwrap_or(o))).into_iter().collect()
        }
    }
}

fn sizes(e: &Element) -> Vec<(u32, u32)> {
    e.all("ResolutionsAvailable").take(KEPT_MAX).filter_map(|r| Some((r.number_at("Width")?, r.number_at("Height")?))).collect()
}

fn range<T: std::str::FromStr>(e: &Element, name: &str) -> Option<(T, T)> {
    e.child(name).and_then(|r| Some((r.number_at("Min")?, r.number_at("Max")?)))
}

fn options_one(o: &Element, extended: &Element) -> EncoderOptions {
    EncoderOptions {
        encoding: "H264".into(),
        sizes: sizes(o),
        rates: range(o, "FrameRateRange").map(|(a, b)| Rates::Between(a, b)),
        kbps: range(extended, "BitrateRange"),
        gop: range(o, "GovLengthRange"),
        profiles: o.all("H264ProfilesSupported").take(KEPT_MAX).map(|p| plain(&p.text)).collect(),
        constant: None,
    }
}

fn options_two(o: &Element) -> EncoderOptions {
    let list = |name| o.attribute(name).unwrap_or_default().split_whitespace().take(KEPT_MAX);
    let rates: Vec<f64> = list("FrameRatesSupported").filter_map(|r| r.parse().ok()).collect();
    let gop: Vec<u32> = list("GovLengthRange").filter_map(|g| g.parse().ok()).collect();
    EncoderOptions {
        encoding: plain(o.text_at("Encoding").unwrap_or_default()).to_uppercase(),
        sizes: sizes(o),
        rates: (!rates.is_empty()).then_some(Rates::Each(rates)),
        kbps: range(o, "BitrateRange"),
        gop: gop.first().copied().zip(gop.last().copied()),
        profiles: list("ProfilesSupported").map(plain).collect(),
        constant: o.attribute("ConstantBitRateSupported").map(|c| c == "true" || c == "1"),
    }
}

/// Asks for the inputs; only the first service tells them.
#[must_use]
pub fn get_inputs() -> Call {
    Media::One.call("GetVideoSources", "")
}

/// Reads the inputs.
#[must_use]
pub fn read_inputs(answer: &Element) -> Vec<Input> {
    let one = |e: &Element| Input {
        token: token_of(e),
        size: (e.number_at("Resolution/Width").unwrap_or(0), e.number_at("Resolution/Height").unwrap_or(0)),
        rate: e.number_at::<f64>("Framerate").filter(|r| r.is_finite()).unwrap_or(0.0),
    };
    answer.all("VideoSources").take(KEPT_MAX).map(one).collect()
}

/// Puts another input on a stream.
#[must_use]
pub fn set_input(m: Media, s: &SourceConfig) -> Call {
    let p = m.prefix();
    let [x, y, w, h] = s.bounds;
    let inside = format!(
        "<{p}:Configuration token=\"{}\"><tt:Name>{}</tt:Name><tt:UseCount>1</tt:UseCount><tt:SourceToken>{}</tt:SourceToken>\
         <tt:Bounds x=\"{x}\" y=\"{y}\" width=\"{w}\" height=\"{h}\"/></{p}:Configuration>",
        escape(&s.token),
        escape(&s.name),
        escape(&s.input)
    );
    m.set("SetVideoSourceConfiguration", inside)
}

/// Asks which audio encoders there are.
#[must_use]
pub fn get_audio_encoders(m: Media) -> Call {
    m.call("GetAudioEncoderConfigurations", "")
}

/// Reads the audio encoders.
#[must_use]
pub fn read_audio_encoders(answer: &Element) -> Vec<AudioEncoder> {
    answer.all("Configurations").take(KEPT_MAX).map(audio_encoder).collect()
}

/// Sets an audio encoder's codec.
#[must_use]
pub fn set_audio_encoder(m: Media, a: &AudioEncoder) -> Call {
    let p = m.prefix();
    let inside = format!(
        "<{p}:Configuration token=\"{}\"><tt:Name>{}</tt:Name><tt:UseCount>1</tt:UseCount><tt:Encoding>{}</tt:Encoding>\
         <tt:Bitrate>{}</tt:Bitrate><tt:SampleRate>{}</tt:SampleRate></{p}:Configuration>",
        escape(&a.token),
        escape(&a.name),
        escape(&a.encoding),
        a.kbps,
        a.khz
    );
    m.set("SetAudioEncoderConfiguration", inside)
}

/// Gives a stream sound by this audio encoder, or with `None` takes it away.
#[must_use]
pub fn set_sound(m: Media, profile: &str, encoder: Option<&str>) -> Call {
    match m {
        Media::One => {
            let add = encoder.map_or_else(String::new, |e| format!("<trt:ConfigurationToken>{}</trt:ConfigurationToken>", escape(e)));
            let name = if encoder.is_some() { "AddAudioEncoderConfiguration" } else { "RemoveAudioEncoderConfiguration" };
            m.with(name, "ProfileToken", profile, &add)
        }
        Media::Two => {
            let token = encoder.map_or_else(String::new, |e| format!("<tr2:Token>{}</tr2:Token>", escape(e)));
            let more = format!("<tr2:Configuration><tr2:Type>AudioEncoder</tr2:Type>{token}</tr2:Configuration>");
            m.with(if encoder.is_some() { "AddConfiguration" } else { "RemoveConfiguration" }, "ProfileToken", profile, &more)
        }
    }
}

/// Asks where a stream can be pulled by RTSP.
#[must_use]
pub fn get_stream_url(m: Media, profile: &str) -> Call {
    let token = escape(profile);
    match m {
        Media::One => m.call(
            "GetStreamUri",
            &format!(
                "<trt:StreamSetup><tt:Stream>RTP-Unicast</tt:Stream><tt:Transport><tt:Protocol>RTSP</tt:Protocol></tt:Transport>\
                 </trt:StreamSetup><trt:ProfileToken>{token}</trt:ProfileToken>"
            ),
        ),
        Media::Two => m.call("GetStreamUri", &format!("<tr2:Protocol>RTSP</tr2:Protocol><tr2:ProfileToken>{token}</tr2:ProfileToken>")),
    }
}

/// Asks for a picture at which decoding can start (ONVIF Media and Media2 Service,
/// `SetSynchronizationPoint`).
#[must_use]
pub fn set_synchronization_point(m: Media, profile: &str) -> Call {
    m.with("SetSynchronizationPoint", "ProfileToken", profile, "")
}

/// Reads where a stream can be pulled.
#[must_use]
pub fn read_stream_url(answer: &Element) -> Option<String> {
    answer.text_at("Uri").or(answer.text_at("MediaUri/Uri")).map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::{super::soap::envelope, super::xml, *};

    #[test]
    fn an_encoder_comes_back_as_it_was_sent() {
        let encoder = VideoEncoder {
            token: "enc<1>".into(),
            name: "main & only".into(),
            encoding: "H264".into(),
            profile: Some("High".into()),
            size: (1280, 720),
            rate: 25.0,
            kbps: 5000,
            constant: None,
            gop: Some(50),
            quality: 4.0,
            group: Some(Group { address: "239.20.0.11".into(), port: 6000, ttl: 2 }),
            session_timeout: "PT60S".into(),
        };
        for m in [Media::One, Media::Two] {
            let sent = VideoEncoder { constant: (m == Media::Two).then_some(true), ..encoder.clone() };
            let call = set_video_encoder(m, &sent);
            let message = xml::read(call.message(None).as_bytes()).expect("xml");
            let read = video_encoder(m, message.find("Configuration").expect("there"));
            assert_eq!(read, sent, "{m:?}");
        }
    }

    #[test]
    fn options_of_both_services_are_read() {
        let one = "<trt:GetVideoEncoderConfigurationOptionsResponse><trt:Options><tt:H264>\
            <tt:ResolutionsAvailable><tt:Width>1280</tt:Width><tt:Height>720</tt:Height></tt:ResolutionsAvailable>\
            <tt:GovLengthRange><tt:Min>1</tt:Min><tt:Max>100</tt:Max></tt:GovLengthRange>\
            <tt:FrameRateRange><tt:Min>1</tt:Min><tt:Max>50</tt:Max></tt:FrameRateRange>\
            <tt:H264ProfilesSupported>Main</tt:H264ProfilesSupported></tt:H264><tt:Extension><tt:H264>\
            <tt:BitrateRange><tt:Min>256</tt:Min><tt:Max>8000</tt:Max></tt:BitrateRange></tt:H264></tt:Extension></trt:Options>\
            </trt:GetVideoEncoderConfigurationOptionsResponse>";
        let two = "<tr2:GetVideoEncoderConfigurationOptionsResponse><tr2:Options GovLengthRange=\"1 100\" FrameRatesSupported=\"50 25\" \
            ProfilesSupported=\"Main High\" ConstantBitRateSupported=\"true\"><tt:Encoding>H265</tt:Encoding>\
            <tt:ResolutionsAvailable><tt:Width>960</tt:Width><tt:Height>540</tt:Height></tt:ResolutionsAvailable>\
            <tt:BitrateRange><tt:Min>256</tt:Min><tt:Max>8000</tt:Max></tt:BitrateRange></tr2:Options></tr2:GetVideoEncoderConfigurationOptionsResponse>";
        let read = |m, body: &str| {
            let e = xml::read(envelope("", body).as_bytes()).expect("xml");
            read_options(m, e.at("Body").and_then(|b| b.children.first()).expect("answer"))
        };
        let first = read(Media::One, one);
        assert_eq!(
            (first[0].rates.clone(), first[0].kbps, first[0].gop),
            (Some(Rates::Between(1.0, 50.0)), Some((256, 8000)), Some((1, 100)))
        );
        assert_eq!((first[0].sizes.as_slice(), first[0].profiles.as_slice()), (&[(1280, 720)][..], &["Main".to_owned()][..]));
        let second = read(Media::Two, two);
        assert_eq!((second[0].encoding.as_str(), second[0].constant), ("H265", Some(true)));
        assert_eq!((second[0].rates.clone(), second[0].gop), (Some(Rates::Each(vec![50.0, 25.0])), Some((1, 100))));
    }
}
