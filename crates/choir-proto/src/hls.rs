//! Playlists of HTTP Live Streaming (RFC 8216): which segment is the newest, and where it is.

use crate::foreign::plain;

/// Largest playlist, bytes: hours of segments.
pub const PLAYLIST_MOST: usize = 1 << 20;
/// Longest address in one, bytes.
const URI_MOST: usize = 4096;

/// What a playlist lists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Playlist {
    /// Versions of one programme.
    Versions(Vec<Version>),
    /// Segments, oldest first.
    Segments(Vec<Segment>),
}

/// One version of a programme.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Version {
    /// Bits per second at most.
    pub bandwidth: u64,
    /// Of its playlist.
    pub uri: String,
}

/// One segment.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Segment {
    /// Where it is.
    pub part: Part,
    /// What has to stand before it, where it is a fragment of an MP4 file.
    pub map: Option<Part>,
    /// It is encrypted, by this method.
    pub encrypted: Option<String>,
}

/// A resource, or bytes of one: how many, and from where on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Part {
    /// As the playlist has it.
    pub uri: String,
    /// Length and offset.
    pub range: Option<(u64, u64)>,
}

impl Playlist {
    /// Reads one.
    ///
    /// # Errors
    /// It is not one: what is wrong with it.
    pub fn read(text: &str) -> Result<Self, String> {
        let mut lines = text.lines().map(str::trim).filter(|l| !l.is_empty());
        if text.len() > PLAYLIST_MOST {
            return Err("the playlist is larger than 1 MiB".into());
        }
        if lines.next().map(|l| l.trim_start_matches('\u{feff}')) != Some("#EXTM3U") {
            return Err("it is not a playlist: it does not begin with #EXTM3U".into());
        }
        let (mut versions, mut segments) = (Vec::new(), Vec::new());
        let (mut bandwidth, mut range, mut map, mut encrypted) = (None, None, None, None);
        // Where the next part of a resource begins without an offset.
        let mut next: Option<(String, u64)> = None;
        for line in lines {
            if let Some(list) = line.strip_prefix("#EXT-X-STREAM-INF:") {
                bandwidth = Some(attribute(list, "BANDWIDTH").and_then(|b| b.parse().ok()).unwrap_or(u64::MAX));
            } else if let Some(bytes) = line.strip_prefix("#EXT-X-BYTERANGE:") {
                range = Some(byte_range(bytes).ok_or("a byte range cannot be read")?);
            } else if let Some(list) = line.strip_prefix("#EXT-X-MAP:") {
                let uri = uri(&attribute(list, "URI").ok_or("a map has no URI")?)?;
                let range = match attribute(list, "BYTERANGE") {
                    Some(bytes) => byte_range(&bytes).map(|(length, at)| (length, at.unwrap_or(0))),
                    None => None,
                };
                map = Some(Part { uri, range });
            } else if let Some(list) = line.strip_prefix("#EXT-X-KEY:") {
                encrypted = attribute(list, "METHOD").filter(|m| m != "NONE").map(|m| plain(&m, 40));
            } else if !line.starts_with('#') {
                let uri = uri(line)?;
                if let Some(bandwidth) = bandwidth.take() {
                    versions.push(Version { bandwidth, uri });
                    continue;
                }
                let range = match range.take() {
                    Some((length, at)) => {
                        let at = at.or(next.as_ref().filter(|(of, _)| *of == uri).map(|(_, at)| *at)).unwrap_or(0);
                        next = Some((uri.clone(), at.saturating_add(length)));
                        Some((length, at))
                    }
                    None => None,
                };
                segments.push(Segment { part: Part { uri, range }, map: map.clone(), encrypted: encrypted.clone() });
            }
        }
        match (versions.is_empty(), segments.is_empty()) {
            (false, _) => Ok(Self::Versions(versions)),
            (true, false) => Ok(Self::Segments(segments)),
            (true, true) => Err("the playlist lists nothing yet".into()),
        }
    }
}

fn uri(text: &str) -> Result<String, String> {
    if text.is_empty() || text.len() > URI_MOST || text.chars().any(|c| c.is_control() || c == ' ') {
        return Err("an address in the playlist cannot be one".into());
    }
    Ok(text.to_owned())
}

/// `1200@400`: length, and offset if it is said.
fn byte_range(text: &str) -> Option<(u64, Option<u64>)> {
    match text.split_once('@') {
        Some((length, at)) => Some((length.parse().ok()?, Some(at.parse().ok()?))),
        None => Some((text.parse().ok()?, None)),
    }
}

/// A value of an attribute list, without its quotes (section 4.2).
fn attribute(list: &str, name: &str) -> Option<String> {
    let mut rest = list;
    loop {
        let (key, after) = rest.split_once('=')?;
        let (value, more) = match after.strip_prefix('"') {
            Some(quoted) => quoted.split_once('"')?,
            None => after.find(',').map_or((after, ""), |at| after.split_at(at)),
        };
        if key.trim() == name {
            return Some(value.to_owned());
        }
        rest = more.trim_start_matches(',');
    }
}

/// An address of a playlist, seen from the playlist's own (RFC 3986, section 5, for what
/// playlists hold).
#[must_use]
pub fn resolve(base: &str, uri: &str) -> String {
    if uri.contains("://") {
        return uri.to_owned();
    }
    let place = base.split(['?', '#']).next().unwrap_or(base);
    let (scheme, rest) = place.split_once("://").unwrap_or(("https", place));
    let (authority, path) = rest.find('/').map_or((rest, "/"), |at| rest.split_at(at));
    if let Some(other) = uri.strip_prefix("//") {
        return format!("{scheme}://{other}");
    }
    let (target, query) = uri.find(['?', '#']).map_or((uri, ""), |at| uri.split_at(at));
    let whole = if target.starts_with('/') { target.to_owned() } else { format!("{}/{target}", path.rsplit_once('/').map_or("", |p| p.0)) };
    let mut parts: Vec<&str> = Vec::new();
    for part in whole.split('/').skip(1) {
        match part {
            "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    format!("{scheme}://{authority}/{}{query}", parts.join("/"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn part(uri: &str, range: Option<(u64, u64)>) -> Part {
        Part { uri: uri.into(), range }
    }

    #[test]
    fn versions_and_segments_are_read_with_ranges_maps_and_keys() {
        let versions = "#EXTM3U\r\n#EXT-X-STREAM-INF:CODECS=\"avc1.4d401f,mp4a.40.2\",BANDWIDTH=3000000\r\nhigh/index.m3u8\r\n\
                        #EXT-X-STREAM-INF:BANDWIDTH=800000\nlow.m3u8?part=1\n";
        let low = Version { bandwidth: 800_000, uri: "low.m3u8?part=1".into() };
        assert_eq!(
            Playlist::read(versions),
            Ok(Playlist::Versions(vec![Version { bandwidth: 3_000_000, uri: "high/index.m3u8".into() }, low]))
        );
        let segments = "#EXTM3U\n#EXT-X-TARGETDURATION:4\n#EXTINF:4.0,\na.ts\n#EXT-X-BYTERANGE:100@50\n#EXTINF:4,\nall.ts\n\
                        #EXT-X-BYTERANGE:30\n#EXTINF:4,\nall.ts\n#EXT-X-MAP:URI=\"init.mp4\",BYTERANGE=\"720@0\"\n\
                        #EXT-X-KEY:METHOD=AES-128,URI=\"k\"\n#EXTINF:4,\nc.m4s\n";
        let plain = |uri: &str, range| Segment { part: part(uri, range), map: None, encrypted: None };
        let last = Segment { part: part("c.m4s", None), map: Some(part("init.mp4", Some((720, 0)))), encrypted: Some("AES-128".into()) };
        let all = vec![plain("a.ts", None), plain("all.ts", Some((100, 50))), plain("all.ts", Some((30, 150))), last];
        assert_eq!(Playlist::read(segments), Ok(Playlist::Segments(all)));
    }

    #[test]
    fn what_is_no_playlist_is_told() {
        for (text, says) in [
            ("", "does not begin"),
            ("<html>", "does not begin"),
            ("#EXTM3U\n#EXT-X-TARGETDURATION:4\n", "lists nothing yet"),
            ("#EXTM3U\n#EXTINF:4,\nfile with spaces.ts\n", "cannot be one"),
            ("#EXTM3U\n#EXT-X-BYTERANGE:many\na.ts\n", "byte range"),
            ("#EXTM3U\n#EXT-X-MAP:BYTERANGE=\"1@0\"\na.ts\n", "no URI"),
        ] {
            let error = Playlist::read(text).expect_err(text);
            assert!(error.contains(says), "{text}: {error}");
        }
        assert!(Playlist::read(&"#EXTM3U\n".repeat(PLAYLIST_MOST / 8)).is_err());
    }

    #[test]
    fn addresses_are_seen_from_the_playlist() {
        let base = "https://viewers.example:8443/live/heat/index.m3u8?token=1";
        for (uri, whole) in [
            ("a.ts", "https://viewers.example:8443/live/heat/a.ts"),
            ("../b.ts?x=1", "https://viewers.example:8443/live/b.ts?x=1"),
            ("./c/../d.ts", "https://viewers.example:8443/live/heat/d.ts"),
            ("/e.ts", "https://viewers.example:8443/e.ts"),
            ("//cache.example/f.ts", "https://cache.example/f.ts"),
            ("http://cache.example/g.ts", "http://cache.example/g.ts"),
            ("../../../../h.ts", "https://viewers.example:8443/h.ts"),
        ] {
            assert_eq!(resolve(base, uri), whole);
        }
        assert_eq!(resolve("http://host", "a.ts"), "http://host/a.ts");
    }

    proptest! {
        #[test]
        fn hostile_playlists_do_no_harm(text in "(#EXTM3U\n)?([#A-Z:=,\"@0-9./ \n-]|#EXT-X-MAP:|#EXT-X-BYTERANGE:|#EXT-X-STREAM-INF:|é){0,80}", uri in ".{0,40}") {
            let _ = Playlist::read(&text);
            let _ = resolve(&text, &uri);
        }
    }
}
