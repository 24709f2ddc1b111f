//! Recordings and playlists.

use super::bounded;
use choir_proto::{hls, mp4::Mp4File};
use std::io::Cursor;

/// A file.
pub fn entry(data: &[u8]) {
    if let Ok(file) = Mp4File::read(&mut Cursor::new(data)) {
        bounded(file.samples.len(), 4 << 20);
    }
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = hls::Playlist::read(text);
        let _ = hls::resolve("https://host/a/b?c", text);
    }
}
