//! SOAP 1.2 envelopes: who asks (WS-Security UsernameToken Profile 1.1), what is answered, and
//! faults as sentences.

use super::xml::{self, Element, XmlError, escape};
use crate::foreign::plain;
use base64::{Engine, prelude::BASE64_STANDARD};
use sha1::{Digest, Sha1};
use std::fmt::Write;
use subtle::ConstantTimeEq;

/// SOAP 1.2.
pub const ENVELOPE: &str = "http://www.w3.org/2003/05/soap-envelope";
const WSSE: &str = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd";
const WSU: &str = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd";
const DIGEST: &str = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-username-token-profile-1.0#PasswordDigest";
const BASE64: &str = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-soap-message-security-1.0#Base64Binary";
/// Namespaces that every message may use, with the prefixes that all of ours have.
const PREFIXES: &[(&str, &str)] = &[
    ("s", ENVELOPE),
    ("tt", "http://www.onvif.org/ver10/schema"),
    ("tds", "http://www.onvif.org/ver10/device/wsdl"),
    ("trt", "http://www.onvif.org/ver10/media/wsdl"),
    ("tr2", "http://www.onvif.org/ver20/media/wsdl"),
    ("tptz", "http://www.onvif.org/ver20/ptz/wsdl"),
    ("ter", "http://www.onvif.org/ver10/error"),
];

/// What proves who asks: the password itself does not travel.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token {
    user: String,
    digest: String,
    nonce: String,
    created: String,
}

impl Token {
    /// A token made at the device's own time (µs since 1970) with 16 random bytes.
    #[must_use]
    pub fn new(user: &str, password: &str, device_unix_us: i64, nonce: [u8; 16]) -> Self {
        let created = time_text(device_unix_us);
        Self { user: user.to_owned(), digest: digest(&nonce, &created, password), nonce: BASE64_STANDARD.encode(nonce), created }
    }

    /// The token of a message, as a device reads it.
    #[must_use]
    pub fn read(envelope: &Element) -> Option<Self> {
        let token = envelope.at("Header/Security/UsernameToken")?;
        let text = |name| token.text_at(name).unwrap_or_default().to_owned();
        Some(Self { user: text("Username"), digest: text("Password"), nonce: text("Nonce"), created: text("Created") })
    }

    /// Whether it is this user, and when it was made (µs since 1970).
    #[must_use]
    pub fn proves(&self, user: &str, password: &str) -> Option<i64> {
        let nonce = BASE64_STANDARD.decode(&self.nonce).ok()?;
        let right = digest(&nonce, &self.created, password).as_bytes().ct_eq(self.digest.as_bytes());
        (bool::from(right) && self.user == user).then(|| parse_time(&self.created)).flatten()
    }

    fn header(&self) -> String {
        let Self { user, digest, nonce, created } = self;
        format!(
            "<s:Header><wsse:Security xmlns:wsse=\"{WSSE}\" xmlns:wsu=\"{WSU}\" s:mustUnderstand=\"true\"><wsse:UsernameToken>\
             <wsse:Username>{}</wsse:Username><wsse:Password Type=\"{DIGEST}\">{digest}</wsse:Password>\
             <wsse:Nonce EncodingType=\"{BASE64}\">{nonce}</wsse:Nonce><wsu:Created>{created}</wsu:Created>\
             </wsse:UsernameToken></wsse:Security></s:Header>",
            escape(user)
        )
    }
}

/// UsernameToken Profile 1.1, 3.1: Base64 of SHA-1 of nonce, time and password.
fn digest(nonce: &[u8], created: &str, password: &str) -> String {
    let mut h = Sha1::new();
    h.update(nonce);
    h.update(created);
    h.update(password);
    BASE64_STANDARD.encode(h.finalize())
}

/// One request: its body and the name of what is asked.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Call {
    /// Namespace and name of the action, for the content type.
    pub action: String,
    /// The body's XML.
    pub body: String,
}

impl Call {
    /// `prefix` is one of those that every message has; `inside` is XML.
    #[must_use]
    pub fn new(prefix: &str, name: &str, inside: &str) -> Self {
        let namespace = PREFIXES.iter().find(|(p, _)| *p == prefix).map_or("", |(_, n)| *n);
        Self { action: format!("{namespace}/{name}"), body: format!("<{prefix}:{name}>{inside}</{prefix}:{name}>") }
    }

    /// Name of the action.
    #[must_use]
    pub fn name(&self) -> &str {
        self.action.rsplit('/').next().unwrap_or_default()
    }

    /// The whole message.
    #[must_use]
    pub fn message(&self, token: Option<&Token>) -> String {
        envelope(&token.map(Token::header).unwrap_or_default(), &self.body)
    }
}

/// An envelope round a header (with its tags) and a body (without).
#[must_use]
pub fn envelope(header: &str, body: &str) -> String {
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?><s:Envelope");
    for (prefix, namespace) in PREFIXES {
        let _ = write!(out, " xmlns:{prefix}=\"{namespace}\"");
    }
    let _ = write!(out, ">{header}<s:Body>{body}</s:Body></s:Envelope>");
    out
}

/// A refusal by the device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Fault {
    /// Codes from the general to the special, without prefixes: `Sender`, `InvalidArgVal`,
    /// `NoProfile`.
    pub codes: Vec<String>,
    /// The device's own words.
    pub reason: String,
}

impl Fault {
    /// A device's fault.
    #[must_use]
    pub fn message(codes: &[&str], reason: &str) -> String {
        let (first, rest) = codes.split_first().unwrap_or((&"Receiver", &[]));
        let sub =
            rest.iter().rev().fold(String::new(), |inner, code| format!("<s:Subcode><s:Value>ter:{code}</s:Value>{inner}</s:Subcode>"));
        envelope(
            "",
            &format!(
                "<s:Fault><s:Code><s:Value>s:{first}</s:Value>{sub}</s:Code><s:Reason><s:Text xml:lang=\"en\">{}</s:Text></s:Reason></s:Fault>",
                escape(reason)
            ),
        )
    }

    fn read(fault: &Element) -> Self {
        let mut codes = Vec::new();
        let mut at = fault.child("Code");
        while let Some(code) = at {
            codes.extend(code.text_at("Value").map(|v| v.rsplit(':').next().unwrap_or(v).to_owned()));
            at = code.child("Subcode");
        }
        // SOAP 1.1 has its own form, which some devices fall back to.
        if codes.is_empty() {
            codes.extend(fault.text_at("faultcode").map(|v| v.rsplit(':').next().unwrap_or(v).to_owned()));
        }
        let reason = fault.text_at("Reason/Text").or(fault.text_at("faultstring")).unwrap_or_default();
        Self { codes, reason: plain(reason, 200) }
    }

    /// The device wants to know who asks, or does not believe it.
    #[must_use]
    pub fn is_refusal(&self) -> bool {
        self.codes.iter().any(|c| matches!(c.as_str(), "NotAuthorized" | "FailedAuthentication" | "InvalidSecurityToken"))
    }

    /// The device does not know the action.
    #[must_use]
    pub fn is_unknown_action(&self) -> bool {
        self.codes
            .iter()
            .any(|c| matches!(c.as_str(), "ActionNotSupported" | "MustUnderstand" | "UnknownAction" | "OptionalActionNotImplemented"))
    }
}

impl std::fmt::Display for Fault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The most special code that has a sentence.
        match self.codes.iter().rev().find_map(|c| sentence(c)) {
            Some(text) => f.write_str(text)?,
            None => write!(f, "the device refuses ({})", self.codes.join(", "))?,
        }
        if self.reason.is_empty() { Ok(()) } else { write!(f, "; in its own words: {}", self.reason) }
    }
}

/// The device's codes (ONVIF Core, Media, PTZ) as sentences.
const SENTENCES: &[(&str, &str)] = &[
    ("NotAuthorized", "the device does not take this user and password, or the user may not do this"),
    ("FailedAuthentication", "the device does not take this user and password"),
    ("InvalidSecurityToken", "the device does not take this proof of the password"),
    ("OperationProhibited", "this user may not do this"),
    ("ActionNotSupported", "the device cannot do this"),
    ("OptionalActionNotImplemented", "the device cannot do this"),
    ("ConfigModify", "the device refuses these settings together"),
    ("ConfigurationConflict", "the device refuses these settings together with those of its other streams"),
    ("NoConfig", "the device no longer has this configuration"),
    ("NoProfile", "the device no longer has this stream"),
    ("NoSource", "the device has no such input"),
    ("NoPTZProfile", "this stream of the device cannot be steered"),
    ("NoToken", "the device has no preset of this number"),
    ("TooManyPresets", "the device has no room for another preset"),
    ("PresetExist", "another preset has this name already"),
    ("InvalidPosition", "the position is outside the device's reach"),
    ("InvalidVelocity", "the device cannot move at this speed"),
    ("InvalidTranslation", "the device cannot move that far"),
    ("MovingPTZ", "the device is moving, and takes this only when it stands still"),
    ("NoHomePosition", "the device has no home position"),
    ("CannotOverwriteHome", "the home position of this device is fixed"),
    ("NoStatus", "the device does not know where it looks"),
    ("SpaceNotSupported", "the device does not count positions this way"),
    ("InvalidIPv4Address", "the device does not take this IPv4 address"),
    ("InvalidIPv6Address", "the device does not take this IPv6 address"),
    ("InvalidGatewayAddress", "the device does not take this gateway"),
    ("InvalidNetworkInterface", "the device has no such network interface"),
    ("InvalidMtuValue", "the device does not take this packet size"),
    ("PasswordTooWeak", "the password is too weak for the device"),
    ("Password", "the password is too short or too weak for the device"),
    ("PasswordTooLong", "the password is too long for the device"),
    ("UsernameMissing", "the device has no user of this name"),
    ("UserNotFound", "the device has no user of this name"),
    ("FixedUser", "this user of the device cannot be changed"),
    ("IncompleteConfiguration", "this stream of the device lacks a part, so it cannot be sent"),
    ("StreamConflict", "the device cannot send this stream beside its others"),
    ("InvalidStreamSetup", "the device does not send this stream in this way"),
    ("MaxNVTProfiles", "the device has no room for another stream"),
    ("OutofMemory", "the device is out of memory"),
    ("CriticalError", "the device reports a fault of its own"),
    ("OutOfBounds", "a value is out of the device's range"),
    ("InvalidArgVal", "the device does not take one of the values"),
    ("InvalidArgs", "the device does not understand the request's values"),
    ("TagMismatch", "the device does not understand the request"),
    ("WellFormed", "the device could not read the request"),
    ("VersionMismatch", "the device speaks another version of SOAP"),
    ("MustUnderstand", "the device does not know a part of the request"),
];

fn sentence(code: &str) -> Option<&'static str> {
    SENTENCES.iter().find(|(c, _)| *c == code).map(|(_, s)| *s)
}

/// Why an answer is of no use.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum SoapError {
    /// Not XML, or too much of it.
    #[error(transparent)]
    Xml(#[from] XmlError),
    /// XML, but no SOAP.
    #[error("the answer is not SOAP. Check that this is the ONVIF address")]
    NotSoap,
    /// Refused.
    #[error("{0}")]
    Fault(Fault),
}

/// Reads an answer; gives what stands in its body.
///
/// # Errors
/// See [`SoapError`].
pub fn read_answer(bytes: &[u8]) -> Result<Element, SoapError> {
    let envelope = xml::read(bytes)?;
    let body = envelope.child("Body").filter(|_| envelope.name == "Envelope").ok_or(SoapError::NotSoap)?;
    match body.children.first() {
        Some(fault) if fault.name == "Fault" => Err(SoapError::Fault(Fault::read(fault))),
        Some(answer) => Ok(answer.clone()),
        // An empty body is an answer without news.
        None => Ok(Element::default()),
    }
}

/// Days since 1970 of a date (proleptic Gregorian).
fn days(year: i64, month: i64, day: i64) -> i64 {
    let y = if month <= 2 { year - 1 } else { year };
    let era = y.div_euclid(400);
    let of_era = y - era * 400;
    let of_year = (153 * ((month + 9) % 12) + 2) / 5 + day - 1;
    era * 146_097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719_468
}

/// µs since 1970 from the parts of a date and time (UTC); `None` when they are none.
#[must_use]
pub fn unix_us_of(date: (i64, i64, i64), time: (i64, i64, i64)) -> Option<i64> {
    let fits = (1970..=9999).contains(&date.0)
        && (1..=12).contains(&date.1)
        && (1..=31).contains(&date.2)
        && (0..24).contains(&time.0)
        && (0..60).contains(&time.1)
        && (0..=60).contains(&time.2);
    fits.then(|| (days(date.0, date.1, date.2) * 86_400 + time.0 * 3600 + time.1 * 60 + time.2) * 1_000_000)
}

/// Year, month, day, hour, minute, second of a time (UTC).
#[must_use]
pub fn parts_of(unix_us: i64) -> [i64; 6] {
    let seconds = unix_us.div_euclid(1_000_000);
    let (day, rest) = (seconds.div_euclid(86_400) + 719_468, seconds.rem_euclid(86_400));
    let (era, of_era) = (day.div_euclid(146_097), day.rem_euclid(146_097));
    let year = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year + year / 4 - year / 100);
    let m = (5 * of_year + 2) / 153;
    let month = if m < 10 { m + 3 } else { m - 9 };
    [year + era * 400 + i64::from(month <= 2), month, of_year - (153 * m + 2) / 5 + 1, rest / 3600, rest / 60 % 60, rest % 60]
}

/// A time as XML writes it (UTC).
#[must_use]
pub fn time_text(unix_us: i64) -> String {
    let [y, mo, d, h, mi, s] = parts_of(unix_us);
    format!("{y:04}-{mo:02}-{d:02}T{h:02}:{mi:02}:{s:02}.{:03}Z", unix_us.rem_euclid(1_000_000) / 1000)
}

/// A time that XML has written (UTC), µs since 1970.
#[must_use]
pub fn parse_time(text: &str) -> Option<i64> {
    let (date, time) = text.trim().trim_end_matches('Z').split_once('T')?;
    let mut d = date.split('-').map(|p| p.parse::<i64>().ok());
    let (clock, fraction) = time.split_once('.').unwrap_or((time, "0"));
    let mut t = clock.split(':').map(|p| p.parse::<i64>().ok());
    let whole = unix_us_of((d.next()??, d.next()??, d.next()??), (t.next()??, t.next()??, t.next()??))?;
    let us: i64 = format!("{fraction:0<6}").get(..6)?.parse().ok()?;
    Some(whole + us)
}

/// A duration as XML writes it: `PT1.5S`.
#[must_use]
pub fn duration_text(d: std::time::Duration) -> String {
    format!("PT{}S", (d.as_secs_f64() * 1000.0).round() / 1000.0)
}

/// A duration of the form `PT1M1.5S`, up to a day.
#[must_use]
pub fn parse_duration(text: &str) -> Option<std::time::Duration> {
    let mut seconds = 0.0;
    let mut rest = text.strip_prefix("PT")?;
    for (unit, each) in [('H', 3600.0), ('M', 60.0), ('S', 1.0)] {
        if let Some((n, after)) = rest.split_once(unit) {
            seconds += n.parse::<f64>().ok()? * each;
            rest = after;
        }
    }
    (rest.is_empty() && (0.0..=86_400.0).contains(&seconds)).then(|| std::time::Duration::from_secs_f64(seconds))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    #[test]
    fn the_published_token_comes_out() {
        // ONVIF Application Programmer's Guide, 6.1.1.3.
        let nonce = BASE64_STANDARD.decode("LKqI6G/AikKCQrN0zqZFlg==").expect("base64");
        assert_eq!(digest(&nonce, "2010-09-16T07:50:45Z", "userpassword"), "tuOSpGlFlIXsozq4HFNeeGeFLEI=");
    }

    #[test]
    fn a_token_proves_its_user_only() {
        let token = Token::new("desk", "four <oars>", 1_795_441_603_250_000, [7; 16]);
        let message = Call::new("tds", "GetUsers", "").message(Some(&token));
        assert!(!message.contains("four"));
        let read = Token::read(&xml::read(message.as_bytes()).expect("xml")).expect("token");
        assert_eq!(read, token);
        assert_eq!(read.proves("desk", "four <oars>"), Some(1_795_441_603_250_000));
        assert_eq!(read.proves("desk", "four oars"), None);
        assert_eq!(read.proves("umpire", "four <oars>"), None);
    }

    #[test]
    fn times_are_written_and_read() {
        for us in [0, 951_782_399_000_000, 1_795_441_603_250_000, 4_102_444_800_000_000] {
            assert_eq!(parse_time(&time_text(us)), Some(us));
        }
        assert_eq!(time_text(951_782_400_000_000), "2000-02-29T00:00:00.000Z");
        assert_eq!(parse_time("2026-11-23T13:46:44Z").map(time_text).as_deref(), Some("2026-11-23T13:46:44.000Z"));
        for bad in ["", "2026-13-01T00:00:00Z", "2026-11-23", "2026-11-23T25:00:00Z", "xTy", "1-1-1T1:1:1.é"] {
            assert_eq!(parse_time(bad), None, "{bad}");
        }
        assert_eq!(duration_text(Duration::from_millis(800)), "PT0.8S");
        assert_eq!(parse_duration("PT1M0.5S"), Some(Duration::from_millis(60_500)));
        for bad in ["", "PT", "P1D", "PT1", "PT-1S", "PTNaNS", "PT1e9S"] {
            assert!(parse_duration(bad).is_none_or(|d| bad == "PT" && d.is_zero()), "{bad}");
        }
    }

    #[test]
    fn every_fault_is_a_sentence() {
        for (code, text) in SENTENCES {
            let fault = Fault::message(&["Sender", "InvalidArgVal", code], "say <no>");
            let Err(SoapError::Fault(read)) = read_answer(fault.as_bytes()) else { panic!("{code}") };
            assert_eq!(read.codes, ["Sender", "InvalidArgVal", code]);
            assert_eq!(read.to_string(), format!("{text}; in its own words: say <no>"));
        }
        let odd = Fault { codes: vec!["Receiver".into(), "Odd".into()], reason: String::new() };
        assert_eq!(odd.to_string(), "the device refuses (Receiver, Odd)");
        let old = b"<s:Envelope xmlns:s=\"x\"><s:Body><s:Fault><faultcode>s:Client</faultcode><faultstring>no</faultstring></s:Fault></s:Body></s:Envelope>";
        assert!(matches!(read_answer(old), Err(SoapError::Fault(f)) if f.codes == ["Client"] && f.reason == "no"));
        assert_eq!(read_answer(b"<html/>"), Err(SoapError::NotSoap));
    }
}
