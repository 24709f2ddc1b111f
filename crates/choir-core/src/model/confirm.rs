//! Where a feed's picture can be had back from those who were sent it.

use crate::link::{Link, show_url};
use std::fmt;

/// Where to look whether a picture of a feed reaches its viewers.
#[derive(Debug, Clone, PartialEq)]
pub enum Confirm {
    /// A server that it can be played from.
    Played(Link),
    /// A playlist.
    Hls(String),
}

impl fmt::Display for Confirm {
    /// Without what may be secret: a key, a query.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Played(link) => f.write_str(&show_url(link)),
            Self::Hls(url) => {
                let place = url.split(['?', '#']).next().unwrap_or_default();
                let (scheme, rest) = place.split_once("://").unwrap_or(("https", place));
                // Nor a user and password.
                write!(f, "{scheme}://{}", rest.rsplit_once('@').map_or(rest, |(_, host)| host))
            }
        }
    }
}
