//! A switcher: inputs that take a link each and measure what reaches them, down to the frame; a
//! desk that puts one of them on air, and into its programme.

use crate::{
    SimError,
    measured::{Measured, Picture},
    programme::Programme,
};
use choir_core::{
    link::Link,
    view::{InputView, TallyView},
};
use choir_host::{Stop, clock::unix_us};
use choir_ports::{Arrival, Flow, Intake, LinkStatus, StaveWay, Way, open_ways, stave::Node};
use choir_proto::{
    mux::ToTs,
    ts::{AccessUnit, Depth, TsReader},
};
use futures_core::future::BoxFuture;
use std::{
    path::Path,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

/// Sees every whole access unit that reaches an input.
pub type Tap = Box<dyn FnMut(&AccessUnit) + Send>;

/// One input.
pub struct Input {
    name: String,
    /// How its way in stands.
    pub status: Arc<LinkStatus>,
    state: Mutex<State>,
}

struct State {
    reader: TsReader,
    to_ts: ToTs,
    session: u32,
    measured: Measured,
    tap: Option<Tap>,
    /// What comes is a switcher's programme, of several cameras.
    mixed: bool,
    /// Where it goes on, and its number there.
    programme: Option<(Arc<Programme>, u32)>,
}

impl Input {
    /// What comes is a switcher's programme: frame numbers may jump at keyframes.
    pub fn takes_programme(&self) {
        self.lock().mixed = true;
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// What it measured so far.
    #[must_use]
    pub fn view(&self) -> InputView {
        let s = self.lock();
        let size = s.reader.info().video.and_then(|v| v.format).map(|f| (f.width, f.height));
        InputView { tally: *self.status.control.tally().borrow(), ..s.measured.view(&self.name, size) }
    }
}

impl Intake for Input {
    fn arrive(&self, arrivals: &mut Vec<Arrival>) {
        let mut s = self.lock();
        arrivals.drain(..).for_each(|a| s.arrived(&a));
    }
}

impl State {
    fn arrived(&mut self, arrival: &Arrival) {
        let s = self;
        if s.session != arrival.session {
            s.session = arrival.session;
            (s.reader, s.to_ts) = (TsReader::new(Depth::Units), ToTs::default());
        }
        let bytes = s.to_ts.push(&arrival.media);
        if let Some((programme, number)) = &s.programme {
            programme.heard(*number, s.session, &bytes);
        }
        s.measured.bytes(bytes.len());
        s.reader.push(unix_us(), &bytes);
        while let Some(unit) = s.reader.poll_unit() {
            if let Some(tap) = &mut s.tap {
                tap(&unit);
            }
            if unit.kind.is_video() {
                let picture = Picture { kind: unit.kind, keyframe: unit.keyframe, data: &unit.data, at_us: unit.arrived };
                s.measured.picture(&picture, s.mixed);
            }
        }
    }
}

/// A switcher's desk: one input is on air, another one next.
#[derive(Clone)]
pub struct Desk {
    inputs: Vec<Arc<Input>>,
    programme: Option<Arc<Programme>>,
}

impl Desk {
    /// Over these inputs; nothing is on air yet.
    #[must_use]
    pub fn over(inputs: Vec<Arc<Input>>) -> Self {
        Self { inputs, programme: None }
    }

    /// The input that is on air goes on into a programme.
    #[must_use]
    pub fn with(self, programme: Arc<Programme>) -> Self {
        for (number, input) in (0..).zip(&self.inputs) {
            input.lock().programme = Some((programme.clone(), number));
        }
        Self { programme: Some(programme), ..self }
    }

    /// Puts an input on air, and another one next; the others are off. Those that come by name tell
    /// their sources.
    pub fn show(&self, on_air: Option<usize>, next: Option<usize>) {
        self.programme.iter().for_each(|p| p.show(on_air.map(|n| n as u32)));
        for (n, input) in self.inputs.iter().enumerate() {
            input.status.control.set_tally(match (Some(n) == on_air, Some(n) == next) {
                (true, _) => Some(TallyView::OnAir),
                (_, true) => Some(TallyView::Next),
                _ => None,
            });
        }
    }

    /// Puts one on air after the other, each for a time, until the stop.
    pub async fn cycle(&self, every: Duration, mut stop: Stop) {
        let mut tick = tokio::time::interval(every);
        for n in (0..self.inputs.len().max(1)).cycle() {
            tokio::select! {
                _ = tick.tick() => self.show(Some(n), Some((n + 1) % self.inputs.len().max(1))),
                () = stop.wait() => return,
            }
        }
    }
}

/// Opens an input. `tap` sees every access unit; `node` is needed for an input by name.
///
/// # Errors
/// Its way in cannot be opened.
pub fn open_input<'a>(
    name: &'a str,
    link: &'a Link,
    latency: Duration,
    tap: Option<Tap>,
    node: Option<&'a Node>,
    stop: &'a Stop,
) -> BoxFuture<'a, Result<Arc<Input>, SimError>> {
    Box::pin(async move {
        let status = LinkStatus::new();
        let input = Arc::new(Input {
            name: name.to_owned(),
            status: status.clone(),
            state: Mutex::new(State {
                reader: TsReader::new(Depth::Units),
                to_ts: ToTs::default(),
                session: 0,
                measured: Measured::since(Instant::now()),
                tap,
                mixed: false,
                programme: None,
            }),
        });
        let stave = node.map(StaveWay::by);
        let way = Way { name: format!("input {name}"), link: link.clone(), flow: Flow::In(input.clone()), status, stave, shard: None };
        open_ways(vec![way], latency, Path::new("."), stop, &Stop::given()).await?;
        Ok(input)
    })
}
