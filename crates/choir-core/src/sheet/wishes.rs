//! What a line should bring and what a feed's destinations take.

use super::{Accepts, Expect, places::start, reader::Reader};
use crate::{
    spelling::did_you_mean,
    units::{parse_bitrate, parse_size},
};
use toml_edit::{Item, TableLike};

const CODECS: [&str; 2] = ["h264", "h265"];

impl Reader<'_> {
    pub(super) fn expect(&mut self, item: &Item, subject: &str) -> Expect {
        let at = start(item.span());
        let Some(table) = item.as_table_like() else {
            self.error(at, subject, "expect must be a table.", "Write expect = { size = \"1280x720\", rate = 25 }.");
            return Expect::default();
        };
        self.known(table, subject, &["codec", "size", "rate", "bitrate", "keyframe", "audio"]);
        Expect {
            codec: self.one_of(table, subject, "codec", &CODECS),
            size: self.parsed(table, subject, "size", parse_size),
            rate: self.rate(table, subject),
            bitrate: self.parsed(table, subject, "bitrate", parse_bitrate),
            keyframe: self.keyframe(table, subject),
            audio: self.one_of(table, subject, "audio", &["on", "off"]).map(|w| w == "on"),
        }
    }

    pub(super) fn rate(&mut self, table: &dyn TableLike, subject: &str) -> Option<f64> {
        let item = table.get("rate")?;
        let rate = frame_rate(item.as_float(), item.as_integer());
        if rate.is_none() {
            self.error(start(item.span()), subject, "rate is not a frame rate.", "Write frames per second as a number, 1 to 240.");
        }
        rate
    }

    /// `accepts = { codec = ["h264"], size = ["1920x1080"], rate = [25, 50] }`.
    pub(super) fn accepts(&mut self, item: &Item, subject: &str) -> Accepts {
        let Some(table) = item.as_table_like() else {
            let remedy = "Write accepts = { codec = [\"h264\"], rate = [25, 50] }.";
            self.error(start(item.span()), subject, "accepts must be a table.", remedy);
            return Accepts::default();
        };
        self.known(table, subject, &["codec", "size", "rate"]);
        let mut accepts = Accepts::default();
        for (codec, at) in self.texts(table, subject, "codec") {
            if !CODECS.contains(&codec.as_str()) {
                self.error(at, subject, format!("codec \"{codec}\" is unknown."), did_you_mean(&codec, &CODECS));
            }
            accepts.codecs.push(codec);
        }
        for (size, at) in self.texts(table, subject, "size") {
            match parse_size(&size) {
                Ok(size) => accepts.sizes.push(size),
                Err(e) => self.error(at, subject, e.what, e.allowed),
            }
        }
        if let Some(item) = table.get("rate") {
            let one = frame_rate(item.as_float(), item.as_integer()).map(|r| vec![r]);
            let many = || item.as_array()?.iter().map(|v| frame_rate(v.as_float(), v.as_integer())).collect::<Option<Vec<f64>>>();
            match one.or_else(many) {
                Some(rates) => accepts.rates = rates,
                None => self.error(start(item.span()), subject, "rate must be frame rates.", "Write rate = [25, 50]."),
            }
        }
        accepts
    }
}

fn frame_rate(float: Option<f64>, whole: Option<i64>) -> Option<f64> {
    float.or_else(|| whole.map(|n| n as f64)).filter(|r| (1.0..=240.0).contains(r))
}
