//! A switcher: inputs that take a link each and measure what reaches them, down to the frame; a
//! desk that puts one of them on air, and into its programme.

use crate::{SimError, programme::Programme};
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
use std::{
    collections::VecDeque,
    path::Path,
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::{Duration, Instant},
};

/// Delays that the median is taken of: some seconds.
const DELAYS: usize = 200;
/// Frame numbers that jump further than this are another source, not missing frames.
const JUMP: u64 = 1000;

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
    frames: u64,
    missing: u64,
    keyframes: u64,
    last_frame: Option<u64>,
    delays: VecDeque<f64>,
    bytes: u64,
    rate: (Instant, u64, u64),
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
        let mut delays: Vec<f64> = s.delays.iter().copied().collect();
        delays.sort_by(f64::total_cmp);
        let delay_ms = delays.first().zip(delays.last()).map(|(a, z)| (*a, delays[delays.len() / 2], *z));
        InputView {
            name: self.name.clone(),
            frames: s.frames,
            frames_missing: s.missing,
            keyframes: s.keyframes,
            delay_ms,
            size: s.reader.info().video.and_then(|v| v.format).map(|f| (f.width, f.height)),
            rate_bps: s.rate.2,
            tally: *self.status.control.tally().borrow(),
        }
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
        s.bytes += bytes.len() as u64;
        let (since, from, _) = s.rate;
        let passed = since.elapsed();
        if passed >= Duration::from_secs(1) {
            let bps = ((s.bytes - from) as f64 * 8.0 / passed.as_secs_f64()) as u64;
            s.rate = (Instant::now(), s.bytes, bps);
        }
        s.reader.push(unix_us(), &bytes);
        while let Some(unit) = s.reader.poll_unit() {
            if let Some(tap) = &mut s.tap {
                tap(&unit);
            }
            if unit.kind.is_video() {
                s.frame(&unit);
            }
        }
    }

    fn frame(&mut self, unit: &AccessUnit) {
        self.frames += 1;
        self.keyframes += u64::from(unit.keyframe);
        let Some(stamp) = unit.kind.find_stamp(&unit.data) else { return };
        if let (Some(last), Some(now)) = (self.last_frame, stamp.frame) {
            let gap = now.saturating_sub(last + 1);
            // A programme goes on with another camera's numbers, at a keyframe.
            if gap < JUMP && !(self.mixed && unit.keyframe) {
                self.missing += gap;
            }
        }
        self.last_frame = stamp.frame;
        if self.delays.len() == DELAYS {
            self.delays.pop_front();
        }
        self.delays.push_back((unit.arrived - stamp.unix_us as i64) as f64 / 1000.0);
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
pub async fn open_input(
    name: &str,
    link: &Link,
    latency: Duration,
    tap: Option<Tap>,
    node: Option<&Node>,
    stop: &Stop,
) -> Result<Arc<Input>, SimError> {
    let status = LinkStatus::new();
    let input = Arc::new(Input {
        name: name.to_owned(),
        status: status.clone(),
        state: Mutex::new(State {
            reader: TsReader::new(Depth::Units),
            to_ts: ToTs::default(),
            session: 0,
            frames: 0,
            missing: 0,
            keyframes: 0,
            last_frame: None,
            delays: VecDeque::new(),
            bytes: 0,
            rate: (Instant::now(), 0, 0),
            tap,
            mixed: false,
            programme: None,
        }),
    });
    let stave = node.map(StaveWay::by);
    let way = Way { name: format!("input {name}"), link: link.clone(), flow: Flow::In(input.clone()), status, stave, shard: None };
    open_ways(vec![way], latency, Path::new("."), stop, &Stop::given()).await?;
    Ok(input)
}
