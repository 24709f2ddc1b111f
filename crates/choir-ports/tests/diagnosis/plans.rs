//! What goes wrong, from mild to severe, in both directions.

use crate::world::{FAULT_AT, Place, Trouble, World, random, secret, shows};
use choir_core::{
    advice::{PathFacts, latency_for},
    content::ContentFault,
    facts::{Contact, Fault, Loss, Refused},
    model::Mismatch,
    units::Bitrate,
};
use choir_path::{Faults, Outage};
use choir_proto::srt::{Ceiling, LinkConfig, Refresh};
use choir_rig::pair::{A, B, ms};
use std::time::Duration;

/// A scenario: where, what, and what is to be named first.
pub struct Plan {
    pub cause: &'static str,
    /// In a pair, what is to be named as well.
    pub also: Option<&'static str>,
    pub place: Place,
    pub trouble: Trouble,
}

/// A usual place: the latency is what the model advises, and a little more.
pub fn usual(seed: u64) -> Place {
    let r = |salt| random(seed, salt);
    let rtt = 6.0 * 40f64.powf(r(1));
    let loss = if r(2) < 0.4 { 0.0 } else { 0.008 * r(3) };
    let mut place = Place {
        seed,
        rtt,
        jitter: if r(4) < 0.5 { 0.0 } else { (12.0 * r(5)).min(rtt / 4.0) },
        loss,
        burst: if r(6) < 0.7 { 1.0 } else { 1.0 + 2.0 * r(7) },
        latency: 0.0,
        rate: 1.5e6 * 4f64.powf(r(8)),
        frames: r(9) < 0.4,
    };
    place.latency = advised(&place, place.loss.max(0.002)) * (1.1 + 0.6 * r(10));
    place
}

/// What the model says for this loss.
fn advised(place: &Place, loss: f64) -> f64 {
    let path = PathFacts {
        rtt: Duration::from_secs_f64((place.rtt + place.jitter) / 1000.0),
        jitter: Duration::from_secs_f64(place.jitter / 1000.0),
        loss,
        loss_back: None,
        burst: place.burst,
    };
    let latency = latency_for(&path, Bitrate(place.rate as u64), 0.99999).expect("one");
    // Pictures that leave at once take their time on the way out.
    (latency.as_secs_f64() * 1000.0 + if place.frames { 100.0 } else { 0.0 }).clamp(40.0, 4000.0)
}

fn trouble(act: impl Fn(&mut World) + 'static) -> Trouble {
    Trouble { act: Box::new(act), ..Trouble::default() }
}

fn overlay(end: usize, lay: impl Fn(f64, &mut choir_core::facts::Reading) + 'static) -> Trouble {
    Trouble { end, overlay: Box::new(lay), ..Trouble::default() }
}

fn worse(w: &mut World, change: impl Fn(Faults) -> Faults) {
    let faults = change(w.place.faults());
    w.pair.paths[A].set_faults(faults);
}

fn end_of(n: u64) -> usize {
    if n.is_multiple_of(2) { B } else { A }
}

/// How severe, 0 to 1.
type Severity = f64;
type Maker = fn(n: u64, s: Severity, place: &mut Place) -> Trouble;

/// Every cause, and how it is made.
pub const CAUSES: &[(&str, Maker)] = &[
    ("latency-too-small", |n, s, p| {
        // The round trip is from three quarters of the latency up to twice as long.
        let rtt = p.latency * (0.8 + 1.2 * s);
        (p.frames, p.jitter) = (false, p.jitter.min(4.0));
        let loss = 0.006 + 0.02 * random(n, 20);
        if n.is_multiple_of(3) {
            (p.rtt, p.loss) = (rtt, loss);
            return Trouble { end: end_of(n), ..trouble(|_| ()) };
        }
        Trouble {
            end: end_of(n),
            ..trouble(move |w| {
                for end in [A, B] {
                    w.pair.paths[end].set_faults(Faults { delay: Duration::from_secs_f64(rtt / 2000.0), loss, ..w.place.faults() });
                }
            })
        }
    }),
    ("path-full", |n, s, _| {
        let queue = [20.0, 60.0, 200.0, 800.0, 3000.0][(n % 5) as usize];
        let share = 0.95 - 0.45 * s;
        Trouble {
            end: end_of(n),
            ..trouble(move |w| {
                let rate = (w.place.wire() * share) as u64;
                worse(w, |f| Faults { rate: Some(rate), queue: Duration::from_secs_f64(queue / 1000.0), ..f });
            })
        }
    }),
    ("random-loss", |n, s, p| {
        let loss = 0.12 + 0.2 * s;
        p.burst = 1.0 + random(n, 21);
        p.latency = advised(p, loss * 1.15) * 1.2;
        Trouble {
            end: end_of(n),
            config: Box::new(|_, c| LinkConfig { ceiling: Ceiling::Unlimited, ..c }),
            ..trouble(move |w| worse(w, |f| Faults { loss, ..f }))
        }
    }),
    ("periodic-bursts", |n, s, p| {
        let (lasts, every) = (Duration::from_secs_f64(0.06 + 0.3 * s), Duration::from_secs_f64(0.8 + 3.5 * random(n, 22)));
        p.loss = 0.0;
        Trouble { secs: 30, ..trouble(move |w| worse(w, |f| Faults { outage: Some(Outage { lasts, every }), ..f })) }
    }),
    ("encoder-stopped", |_, _, _| Trouble { secs: 10, ..trouble(|w| w.scale = 0.0) }),
    ("nothing-heard", |n, _, _| Trouble {
        end: end_of(n),
        secs: 4,
        ..trouble(move |w| if n % 4 < 2 { w.pair.cut = true } else { w.pair.dead[1 - end_of(n)] = true })
    }),
    ("peer-gone", |n, _, _| Trouble {
        end: end_of(n),
        secs: 4,
        ..trouble(move |w| {
            w.pair.dead[1 - end_of(n)] = true;
            w.port_closed = true;
        })
    }),
    ("answers-lost", |_, s, _| Trouble {
        secs: 4,
        ..trouble(move |w| w.pair.paths[B].set_faults(Faults { loss: 0.9 + 0.1 * s, burst: 1.0, ..w.place.faults() }))
    }),
    ("nothing-arrives", |_, _, _| Trouble { end: A, secs: 4, ..trouble(|w| worse(w, |f| Faults { loss: 1.0, burst: 1.0, ..f })) }),
    ("large-packets-lost", |n, s, p| {
        let most = 900 + (300.0 * s) as usize;
        let sieve = move |w: &mut World| w.pair.sieves[B] = Some(Box::new(move |_, data| data.len() <= most));
        p.loss = 0.0;
        match n % 3 {
            0 => Trouble { end: B, start: Box::new(move |w| w.mixed = true), ..trouble(sieve) },
            // The path changes, and they meet anew: greetings are small.
            of => Trouble {
                end: if of == 1 { A } else { B },
                secs: 6,
                ..trouble(move |w| {
                    sieve(w);
                    w.restart_sender();
                })
            },
        }
    }),
    ("ceiling-reached", |_, s, p| {
        let ceiling = (p.wire() * (1.005 + 0.02 * (1.0 - s))) as u64;
        p.frames = false;
        Trouble {
            end: A,
            config: Box::new(move |_, c| LinkConfig { ceiling: Ceiling::Fixed(ceiling), ..c }),
            ..trouble(|w| worse(w, |f| Faults { loss: 0.05, burst: 1.0, ..f }))
        }
    }),
    ("clock-drift", |n, s, _| {
        Trouble { secs: 45, ..trouble(move |_| ()) }.with_ppm(if n.is_multiple_of(2) { 1.0 } else { -1.0 } * (250.0 + 200.0 * s))
    }),
    ("restarted", |_, _, _| trouble(World::restart_sender)),
    ("place-taken", |n, _, _| {
        let end = end_of(n);
        overlay(end, move |_, r| {
            let from = ([127, 20, 0, 9], 7001).into();
            let refused = Refused { from, stream_id: None, fault: Some(Fault::Taken), why: String::new() };
            if end == A { r.contact = Contact::Lost(Loss::Refused(refused)) } else { r.around.contested = Some(from) }
        })
    }),
    ("two-senders", |_, _, _| overlay(B, |t, r| r.around.sender_changes = (t / 1.5) as u32)),
    ("passphrase-changed", |n, _, _| {
        overlay(end_of(n), |_, r| {
            let fault = Some(Fault::Passphrase);
            r.contact = Contact::Lost(Loss::Call { peer: "127.20.0.9:7001".into(), fault, why: String::new() });
        })
    }),
    ("key-unconfirmed", |_, _, p| {
        p.frames = false;
        let packets = (p.rate / 8.0 / 1316.0 * 13.0) as u64;
        Trouble {
            end: A,
            config: Box::new(move |_, c| LinkConfig { refresh: Refresh { after: packets, announce: 200 }, ..secret(c) }),
            // Key messages are lost, nothing else: control type 0x7FFF.
            ..trouble(|w| w.pair.sieves[B] = Some(Box::new(|_, d| d[..2] != [0xFF, 0xFF])))
        }
    }),
    ("key-missing", |_, s, _| overlay(B, move |_, r| r.tick.undecrypted = (r.tick.packets as f64 * (0.1 + 0.9 * s)) as u64)),
    ("window-too-small", |_, s, p| {
        (p.frames, p.loss, p.jitter) = (false, 0.0, 0.0);
        p.latency = p.latency.max(120.0);
        let needs = p.rate / 8.0 / 1316.0 * p.rtt / 1000.0;
        let window = (needs * (0.9 - 0.5 * s)).max(8.0) as u32;
        let fits = needs < 10.0;
        if fits {
            p.rtt = 12.0 / (p.rate / 8.0 / 1316.0) * 1000.0 * 2.0;
            p.latency = p.rtt * 4.0;
        }
        Trouble {
            end: A,
            config: Box::new(move |end, c| if end == B { LinkConfig { window: if fits { 8 } else { window }, ..c } } else { c }),
            ..trouble(|_| ())
        }
    }),
    ("peer-slow", |_, s, _| {
        overlay(A, move |t, r| {
            let window = r.tick.peer_window.unwrap_or(8192);
            let free = f64::from(window) * (1.0 - t / (4.0 - 3.0 * s)).max(0.01);
            r.tick.peer_free = Some(free as u32);
        })
    }),
    ("own-machine-slow", |n, s, _| match n % 3 {
        0 => trouble(move |w| {
            let (drops, counted, mut n) = (w.kernel_drops.clone(), 0.02 + 0.2 * s, 0u64);
            let seed = w.place.seed;
            w.pair.sieves[B] = Some(Box::new(move |_, _| {
                n += 1;
                let dropped = random(seed, n) < counted;
                drops.set(drops.get() + u64::from(dropped));
                !dropped
            }));
        }),
        1 => overlay(end_of(n / 3), move |_, r| r.around.late_ms = Some(60.0 + 200.0 * s)),
        _ => overlay(end_of(n / 3), move |_, r| r.around.busy = Some(0.95 + 0.05 * s)),
    }),
    ("rate-fell", |_, s, p| {
        p.frames = false;
        trouble(move |w| w.scale = 0.15 - 0.1 * s)
    }),
    ("differs", |n, _, _| {
        overlay(B, move |_, r| {
            let differs = match n % 3 {
                0 => Mismatch::Size { expected: (1280, 720), receiving: (640, 360) },
                1 => Mismatch::Rate { expected: 50.0, receiving: 25.0 },
                _ => Mismatch::Codec { expected: "h264".into(), receiving: "h265".into() },
            };
            r.media.as_mut().expect("way in").differs = vec![differs];
        })
    }),
    ("frozen", |_, _, _| overlay(B, |_, r| shows(r, ContentFault::Frozen))),
    ("black", |_, _, _| overlay(B, |_, r| shows(r, ContentFault::Black))),
    ("silent", |_, _, _| overlay(B, |_, r| shows(r, ContentFault::Silent))),
    ("same-picture", |_, _, _| overlay(B, |_, r| r.around.same_picture = Some("towpath".into()))),
];

impl Trouble {
    fn with_ppm(self, ppm: f64) -> Self {
        Self { start: Box::new(move |w| w.pair.ppm[A] = ppm), ..self }
    }

    /// Both at once.
    fn and(self, other: Self) -> Self {
        let (a, b, c, d, e, f) = (self.act, other.act, self.overlay, other.overlay, self.config, other.config);
        Self {
            act: Box::new(move |w| {
                a(w);
                b(w);
            }),
            overlay: Box::new(move |t, r| {
                c(t, r);
                d(t, r);
            }),
            config: Box::new(move |end, config| e(end, f(end, config))),
            ..self
        }
    }
}

/// One cause of this severity.
pub fn alone(cause: usize, n: u64, severity: Severity) -> Plan {
    let (name, maker) = CAUSES[cause];
    let mut place = usual(1000 + cause as u64 * 101 + n);
    let trouble = maker(n, severity, &mut place);
    Plan { cause: name, also: None, place, trouble }
}

/// Two at once: the first is the one to fix first. Both are seen by the receiving end.
pub const PAIRS: &[(&str, &str)] = &[
    ("path-full", "frozen"),
    ("path-full", "differs"),
    ("random-loss", "black"),
    ("latency-too-small", "differs"),
    ("latency-too-small", "silent"),
    ("own-machine-slow", "frozen"),
    ("periodic-bursts", "silent"),
    ("answers-lost", "black"),
    ("place-taken", "random-loss"),
    ("two-senders", "path-full"),
];

pub fn pair(of: usize, n: u64, severity: Severity) -> Plan {
    let (first, second) = PAIRS[of];
    let mut place = usual(7000 + of as u64 * 37 + n);
    // Even numbers are judged by the receiver.
    let make = |name: &str, place: &mut Place| {
        let maker = CAUSES.iter().find(|c| c.0 == name).expect("a cause").1;
        maker(if name == "own-machine-slow" { 0 } else { 2 + n * 10 }, severity, place)
    };
    let second_trouble = make(second, &mut place);
    let first_trouble = make(first, &mut place);
    Plan { cause: first, also: Some(second), place, trouble: first_trouble.and(second_trouble) }
}

/// Nothing goes wrong.
pub fn healthy(n: u64) -> Plan {
    let place = usual(20_000 + n);
    Plan { cause: "", also: None, place, trouble: Trouble { end: end_of(n), secs: 20, ..Trouble::default() } }
}

/// A short outage and what is said while it lasts.
pub fn outage(n: u64) -> Plan {
    let place = usual(30_000 + n);
    let trouble = Trouble {
        secs: 6,
        ..trouble(|w| {
            worse(w, |f| Faults { outage: Some(Outage { lasts: ms(1000), every: FAULT_AT + ms(1) }), ..f });
        })
    };
    Plan { cause: "pause", also: None, place, trouble }
}
