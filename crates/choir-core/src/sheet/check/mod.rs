//! What can only be judged over the whole sheet. One module per kind of mistake; each rule says
//! what is the case, where, and what to do.

mod addresses;
mod ends;
mod keys;
mod media;
mod names;
mod paths;
mod ports;
mod rotas;
mod secrets;
mod stave;

use super::{Feed, Line, Sheet, places::Spot, reader::Reader};
use crate::{device::Device, link::Link, network::Network};

/// The sheet and where its entries stand.
pub(super) struct Whole {
    pub sheet: Sheet,
    /// Also of entries that are wrong otherwise.
    pub line_names: Vec<String>,
    pub network_names: Vec<String>,
    pub network_spots: Vec<Spot>,
    pub line_spots: Vec<Spot>,
    pub feed_spots: Vec<Spot>,
    pub device_spots: Vec<Spot>,
    pub rota_spots: Vec<Spot>,
    pub stave_at: usize,
    pub keys_at: usize,
}

/// One end of a link in the sheet.
struct End<'a> {
    subject: String,
    spot: &'a Spot,
    /// `from`, `to.0`.
    path: String,
    link: &'a Link,
    inbound: bool,
    name: &'a str,
    crossed: Vec<&'a Network>,
    far: Option<&'a Link>,
    /// `far`, `far.0`.
    far_path: String,
}

impl End<'_> {
    fn at(&self) -> usize {
        self.spot.of_value(&self.path)
    }

    /// Where one of the link's own fields stands; in a URL, the URL.
    fn field(&self, key: &str) -> usize {
        self.spot.of_value(&format!("{}.{key}", self.path))
    }
}

impl Whole {
    fn lines(&self) -> impl Iterator<Item = (&Line, &Spot)> {
        self.sheet.lines.iter().zip(&self.line_spots)
    }

    fn feeds(&self) -> impl Iterator<Item = (&Feed, &Spot)> {
        self.sheet.feeds.iter().zip(&self.feed_spots)
    }

    fn devices(&self) -> impl Iterator<Item = (&Device, &Spot)> {
        self.sheet.devices.iter().zip(&self.device_spots)
    }

    fn networks(&self) -> impl Iterator<Item = (&Network, &Spot)> {
        self.sheet.networks.iter().zip(&self.network_spots)
    }

    /// Every end of every link, lines first.
    fn ends(&self) -> Vec<End<'_>> {
        let of_lines = self.lines().map(|(line, spot)| End {
            subject: format!("line \"{}\"", line.name),
            spot,
            path: "from".into(),
            link: &line.from,
            inbound: true,
            name: &line.name,
            crossed: self.sheet.line_crosses(line),
            far: line.far.as_ref(),
            far_path: "far".into(),
        });
        let of_feeds = self.feeds().flat_map(|(feed, spot)| {
            feed.to.iter().enumerate().map(move |(n, to)| End {
                subject: format!("feed \"{}\"", feed.name),
                spot,
                // A name stands by itself, behind the others.
                path: if matches!(to.link, Link::Stave(_)) && spot.has("stave") { "stave".into() } else { format!("to.{n}") },
                link: &to.link,
                inbound: false,
                name: &feed.name,
                crossed: self.sheet.feed_crosses(feed, &to.link),
                far: feed.far.get(n),
                far_path: format!("far.{n}"),
            })
        });
        of_lines.chain(of_feeds).collect()
    }
}

pub(super) fn check(r: &mut Reader<'_>, whole: &Whole) {
    let ends = whole.ends();
    names::check(r, whole, &ends);
    ports::check(r, &ends);
    ends::check(r, whole, &ends);
    secrets::check(r, whole, &ends);
    paths::check(r, whole, &ends);
    media::check(r, whole);
    stave::check(r, whole, &ends);
    addresses::check(r, whole);
    rotas::check(r, whole);
    keys::check(r, whole);
}
