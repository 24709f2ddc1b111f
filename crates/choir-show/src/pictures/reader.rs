//! Reads what a line keeps of its stream, from where it was the last time, as units.

use crate::media::RecentSent;
use choir_proto::ts::{AccessUnit, Aligned, Depth, Index, Sent, Since, TsCounters, TsMeter};

/// Reads one line's stream.
#[derive(Default)]
pub(super) struct Reader {
    /// Session, and the number to go on from.
    place: Option<(u32, u64)>,
    index: Index,
    meter: Option<TsMeter>,
}

/// How what was read follows on what was read before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Follows {
    /// Without a gap.
    On,
    /// Something is missing between.
    Gap,
    /// It is another session.
    Anew,
}

impl Reader {
    /// To be asked with.
    pub fn place(&self) -> Option<(u32, u64)> {
        self.place
    }

    /// Begins with what has come: how it follows. After a gap the reader has forgotten all.
    pub fn follow(&mut self, RecentSent { session, since }: RecentSent) -> (Follows, Vec<AccessUnit>) {
        let Since { sent, anew, next } = since;
        let mut units = Vec::new();
        let follows = match anew {
            None => Follows::On,
            Some(tables) => {
                let same = self.place.is_some_and(|(of, _)| of == session);
                *self = Self::default();
                if let Some((tables, (at, _))) = tables.zip(sent.first()) {
                    self.read(*at, Sent::Packets(tables), &mut units);
                }
                if same { Follows::Gap } else { Follows::Anew }
            }
        };
        self.place = Some((session, next));
        sent.into_iter().for_each(|(at, sent)| self.read(at, sent, &mut units));
        (follows, units)
    }

    fn read(&mut self, at: i64, sent: Sent, units: &mut Vec<AccessUnit>) {
        match sent {
            Sent::Unit(format, timed) => units.extend(timed.unit.map(|unit| unit.joined(at, &format))),
            Sent::Packets(bytes) => {
                let part = Aligned::Packets(bytes);
                let meter = self.meter.get_or_insert_with(|| TsMeter::new(Depth::Units));
                meter.push(at, &self.index.push(&part));
                units.extend(std::iter::from_fn(|| meter.poll_unit()));
            }
        }
    }

    /// Pixels of the picture, as far as the stream has said.
    pub fn pixels(&self) -> Option<usize> {
        let format = self.meter.as_ref()?.info(TsCounters::default()).video?.format?;
        Some(format.width as usize * format.height as usize)
    }
}
