//! The sheet, and the addresses in it.

use choir_core::{link::parse_url, sheet::read_sheet};

/// A text.
pub fn entry(data: &[u8]) {
    if let Ok(text) = std::str::from_utf8(data) {
        let _ = parse_url(text);
        let _ = read_sheet(text);
    }
}
