//! A switcher's programme: the input that is on air, cut at keyframes as it comes, on its way out.

use crate::SimError;
use bytes::Bytes;
use choir_core::link::Link;
use choir_host::{Stop, lock};
use choir_ports::{Flow, LinkStatus, Outlet, Way, open_ways};
use choir_proto::ts::{Aligned, Index, PacketAligner, Preroll, SourceKey, Splicer};
use std::{
    collections::BTreeMap,
    path::Path,
    sync::{Arc, Mutex},
    time::{Duration, Instant},
};

/// What goes out of a switcher.
pub struct Programme {
    mixer: Mutex<Mixer>,
    outlet: Arc<Outlet>,
    begun: Instant,
    /// How its way out stands.
    pub status: Arc<LinkStatus>,
}

#[derive(Default)]
struct Mixer {
    on_air: Option<u32>,
    splicer: Splicer,
    inputs: BTreeMap<u32, Source>,
}

/// An input, followed so that it can come on at its next keyframe.
#[derive(Default)]
struct Source {
    session: u32,
    aligner: PacketAligner,
    index: Index,
    preroll: Preroll,
}

impl Programme {
    /// Opens its way out.
    ///
    /// # Errors
    /// It cannot be opened.
    pub async fn open(name: &str, to: Link, latency: Duration, stop: &Stop) -> Result<Arc<Self>, SimError> {
        let (outlet, status) = (Outlet::new(), LinkStatus::new());
        let flow = Flow::Out(outlet.clone().into());
        let way = Way { name: name.into(), link: to, flow, status: status.clone(), stave: None, shard: None };
        open_ways(vec![way], latency, Path::new("."), stop, &Stop::given()).await?;
        Ok(Arc::new(Self { mixer: Mutex::default(), outlet, begun: Instant::now(), status }))
    }

    /// Puts an input on air: it comes on at its next keyframe.
    pub fn show(&self, input: Option<u32>) {
        lock(&self.mixer).on_air = input;
    }

    /// Takes what came of an input in its session, as a transport stream.
    pub fn heard(&self, input: u32, session: u32, bytes: &Bytes) {
        let now = self.begun.elapsed().as_micros() as i64;
        let mut mixer = lock(&self.mixer);
        let Mixer { on_air, splicer, inputs } = &mut *mixer;
        let source = inputs.entry(input).or_default();
        if source.session != session {
            *source = Source { session, ..Source::default() };
        }
        let Source { aligner, index, preroll, .. } = source;
        aligner.push(bytes, |part| {
            if !matches!(part, Aligned::Packets(_)) {
                return;
            }
            let piece = index.push(&part);
            let (out, _) = splicer.push(*on_air, SourceKey { line: input, session }, now, &piece, preroll);
            preroll.push(now, &piece);
            if !out.is_empty() {
                self.outlet.push(out);
            }
        });
    }
}
