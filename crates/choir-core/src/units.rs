//! Numbers as engineers write them, with their units. A number without one is refused where the
//! unit matters: a latency typed in the wrong unit costs ten minutes.

use std::{fmt, time::Duration};

/// Bits per second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
pub struct Bitrate(pub u64);

/// Why a value was not understood: what is the case, and what is allowed.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{what} {allowed}")]
pub struct UnitError {
    /// What is wrong.
    pub what: String,
    /// What is allowed, as a sentence.
    pub allowed: String,
}

fn error(what: impl Into<String>, allowed: impl Into<String>) -> UnitError {
    UnitError { what: what.into(), allowed: allowed.into() }
}

/// Splits `8.5 Mbps` into its number and its unit.
fn split(text: &str) -> Option<(f64, &str)> {
    let text = text.trim();
    let end = text.find(|c: char| !(c.is_ascii_digit() || c == '.')).unwrap_or(text.len());
    let number: f64 = text[..end].parse().ok()?;
    number.is_finite().then(|| (number, text[end..].trim()))
}

/// Reads a time with its unit: `200 ms`, `2 s`, `1.5 min`, `1 h`.
///
/// # Errors
/// No unit, an unknown one, or no number.
pub fn parse_duration(text: &str) -> Result<Duration, UnitError> {
    let allowed = "Write it with its unit: ms, s, min or h.";
    let Some((number, unit)) = split(text) else { return Err(error(format!("\"{text}\" is not a time."), allowed)) };
    let seconds = match unit.to_ascii_lowercase().as_str() {
        "us" | "µs" => number / 1e6,
        "ms" | "msec" => number / 1e3,
        "s" | "sec" => number,
        "min" => number * 60.0,
        "h" => number * 3600.0,
        "" => return Err(error(format!("\"{text}\" has no unit."), format!("Write \"{text} ms\" or \"{text} s\"."))),
        other => return Err(error(format!("\"{other}\" is not a unit of time."), allowed)),
    };
    Duration::try_from_secs_f64(seconds).map_err(|_| error(format!("\"{text}\" is too long."), "At most some years."))
}

/// Reads a bitrate: `8 Mbps`, `800 kbps`, `8Mbit/s`.
///
/// # Errors
/// No unit, an unknown one, or no number.
pub fn parse_bitrate(text: &str) -> Result<Bitrate, UnitError> {
    let allowed = "Write it with its unit: kbps, Mbps or Gbps.";
    let Some((number, unit)) = split(text) else { return Err(error(format!("\"{text}\" is not a bitrate."), allowed)) };
    let factor = match unit.to_ascii_lowercase().replace("bit/s", "bps").as_str() {
        "bps" => 1.0,
        "k" | "kbps" => 1e3,
        "m" | "mbps" => 1e6,
        "g" | "gbps" => 1e9,
        "" => return Err(error(format!("\"{text}\" has no unit."), format!("Write \"{text} Mbps\" or \"{text} kbps\"."))),
        other => return Err(error(format!("\"{other}\" is not a unit of bitrate."), allowed)),
    };
    Ok(Bitrate((number * factor).round() as u64))
}

/// Reads a share: `1%`, `0.1 %`. Gives 0 to 1.
///
/// # Errors
/// No percent sign, or outside 0 to 100.
pub fn parse_share(text: &str) -> Result<f64, UnitError> {
    let allowed = "Write it in percent, 0% to 100%.";
    match split(text) {
        Some((n, "%")) if (0.0..=100.0).contains(&n) => Ok(n / 100.0),
        Some((_, "")) => Err(error(format!("\"{text}\" has no unit."), format!("Write \"{text}%\"."))),
        _ => Err(error(format!("\"{text}\" is not a share."), allowed)),
    }
}

/// Reads a picture size: `1920x1080`.
///
/// # Errors
/// Not two numbers with an x between.
pub fn parse_size(text: &str) -> Result<(u32, u32), UnitError> {
    let parsed = text.split_once(['x', 'X', '×']).and_then(|(w, h)| Some((w.trim().parse().ok()?, h.trim().parse().ok()?)));
    match parsed {
        Some((w, h)) if (16..=16_384).contains(&w) && (16..=16_384).contains(&h) => Ok((w, h)),
        _ => Err(error(format!("\"{text}\" is not a picture size."), "Write width x height in pixels, like 1920x1080.")),
    }
}

/// `1280x720`.
#[must_use]
pub fn say_size((width, height): (u32, u32)) -> String {
    format!("{width}x{height}")
}

/// Frames per second without a needless fraction: `25`, `29.97`.
#[must_use]
pub fn say_rate(rate: f64) -> String {
    format!("{}", (rate * 100.0).round() / 100.0)
}

impl fmt::Display for Bitrate {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let bps = self.0 as f64;
        if self.0 >= 999_500_000 {
            write!(f, "{:.2} Gbps", bps / 1e9)
        } else if self.0 >= 999_500 {
            write!(f, "{:.1} Mbps", bps / 1e6)
        } else if self.0 >= 1000 {
            write!(f, "{:.0} kbps", bps / 1e3)
        } else {
            write!(f, "{} bps", self.0)
        }
    }
}

/// Bytes as people say them: `14.2 MB`.
#[must_use]
pub fn say_bytes(bytes: u64) -> String {
    match bytes {
        0..1_000 => format!("{bytes} bytes"),
        1_000..1_000_000 => format!("{} kB", bytes / 1_000),
        1_000_000..1_000_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{:.1} GB", bytes as f64 / 1e9),
    }
}

/// A time as engineers say it: `850 ms`, `2.5 s`, `12 min 03 s`, `2 h 05 min`.
#[must_use]
pub fn say_duration(d: Duration) -> String {
    let ms = d.as_millis();
    match d.as_secs() {
        0 => format!("{ms} ms"),
        1..=59 => format!("{:.1} s", d.as_secs_f64()),
        s @ 60..=3599 => format!("{} min {:02} s", s / 60, s % 60),
        s => format!("{} h {:02} min", s / 3600, s % 3600 / 60),
    }
}

/// As milliseconds with fractions.
#[must_use]
pub fn in_ms(d: Duration) -> f64 {
    d.as_secs_f64() * 1000.0
}

/// Of milliseconds with fractions; none below zero.
#[must_use]
pub fn of_ms(ms: f64) -> Duration {
    Duration::from_secs_f64(ms.max(0.0) / 1000.0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_need_a_unit() {
        assert_eq!(parse_duration("200 ms"), Ok(Duration::from_millis(200)));
        assert_eq!(parse_duration("2s"), Ok(Duration::from_secs(2)));
        assert_eq!(parse_duration("1.5 min"), Ok(Duration::from_secs(90)));
        let e = parse_duration("200").expect_err("no unit");
        assert_eq!(e.to_string(), "\"200\" has no unit. Write \"200 ms\" or \"200 s\".");
        for bad in ["", "ms", "-5 ms", "2 parsecs", "1e9 h x", "99999999999999999999 h"] {
            assert!(parse_duration(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn bitrates_read_and_print() {
        assert_eq!(parse_bitrate("8 Mbps"), Ok(Bitrate(8_000_000)));
        assert_eq!(parse_bitrate("20Mbit/s"), Ok(Bitrate(20_000_000)));
        assert_eq!(parse_bitrate("800k"), Ok(Bitrate(800_000)));
        assert!(parse_bitrate("8").is_err() && parse_bitrate("8 MB").is_err());
        for (n, text) in [(12, "12 bps"), (64_000, "64 kbps"), (999_600, "1.0 Mbps"), (8_250_000, "8.2 Mbps"), (1_500_000_000, "1.50 Gbps")]
        {
            assert_eq!(Bitrate(n).to_string(), text);
        }
    }

    #[test]
    fn shares_and_sizes() {
        assert_eq!(parse_share("1%"), Ok(0.01));
        assert!(parse_share("1").is_err() && parse_share("101%").is_err());
        assert_eq!(parse_size("1920x1080"), Ok((1920, 1080)));
        assert!(parse_size("1920").is_err() && parse_size("0x9").is_err());
    }

    #[test]
    fn times_are_said_as_people_say_them() {
        for (ms, text) in [(850, "850 ms"), (2500, "2.5 s"), (723_000, "12 min 03 s"), (7_500_000, "2 h 05 min")] {
            assert_eq!(say_duration(Duration::from_millis(ms)), text);
        }
    }
}
