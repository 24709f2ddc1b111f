use super::*;
use crate::{
    content::ContentFault,
    diagnosis::Diagnosis,
    facts::{AlarmGrade, Cause, Direction, Reason, Slow, Trouble, WayTick},
    health::Verdict,
    id::{LineId, NetworkId},
    model::{AlarmRules, AlarmWish, Measure},
    units::Bitrate,
};

fn steady() -> Verdict {
    let reason = Reason::Steady { rate: Bitrate(6_000_000), headroom_ms: None, direction: Direction::In };
    Verdict { state: State::Steady, reason, causes: Vec::new() }
}

fn of_cause(state: State, causes: &[Cause]) -> Verdict {
    let named = causes.iter().map(|c| Diagnosis { cause: c.clone(), since: Duration::ZERO });
    Verdict { state, reason: Reason::Cause(causes[0].clone()), causes: named.collect() }
}

/// Nothing comes: first a pause, then nothing at all, then broken.
fn silent(seconds: u64) -> Verdict {
    let silent = Duration::from_secs(seconds);
    match seconds {
        0 => of_cause(State::Strained, &[Cause::Pause { silent }]),
        1..=4 => of_cause(State::Broken, &[Cause::NothingHeard { silent }]),
        _ => Verdict { state: State::Broken, reason: Reason::Lost(crate::facts::Loss::Reading("gone".into())), causes: Vec::new() },
    }
}

fn held() -> Verdict {
    Verdict { state: State::Held, reason: Reason::Held, causes: Vec::new() }
}

/// Lines with their networks, and what is made of them.
struct World {
    alarms: Alarms,
    rules: AlarmRules,
    networks: Vec<Vec<NetworkId>>,
    now: u64,
}

impl World {
    fn new(networks: &[&[u32]]) -> Self {
        let networks = networks.iter().map(|n| n.iter().map(|n| NetworkId(*n)).collect()).collect();
        Self { alarms: Alarms::default(), rules: AlarmRules::default(), networks, now: 0 }
    }

    fn tick(&mut self, verdict: impl Fn(usize) -> Verdict) -> Vec<(Alarm, AlarmStep)> {
        self.measured(verdict, &WayTick { length: Duration::from_secs(1), packets: 100, ..WayTick::default() })
    }

    fn measured(&mut self, verdict: impl Fn(usize) -> Verdict, tick: &WayTick) -> Vec<(Alarm, AlarmStep)> {
        let verdicts: Vec<Verdict> = (0..self.networks.len()).map(verdict).collect();
        let way = |n: usize| Watched { subject: line(n), rules: &self.rules, networks: &self.networks[n], verdict: &verdicts[n], tick };
        let ways: Vec<_> = (0..self.networks.len()).map(way).collect();
        let at = self.now;
        self.now += 1;
        self.alarms.tick(Duration::from_secs(at), at * 1000, &ways, Some(4))
    }

    /// So many seconds of the same.
    fn seconds(&mut self, n: u64, verdict: impl Fn(usize) -> Verdict) -> Vec<(Alarm, AlarmStep)> {
        (0..n).flat_map(|_| self.tick(&verdict)).collect()
    }
}

fn line(n: usize) -> Subject {
    Subject::Line(LineId(n as u32))
}

fn words(steps: &[(Alarm, AlarmStep)]) -> Vec<(u64, &'static str)> {
    steps.iter().map(|(a, s)| (a.number, s.word())).collect()
}

#[test]
fn a_cut_cable_is_one_alarm_whatever_is_found_out_of_it() {
    let mut w = World::new(&[&[0]]);
    assert_eq!(words(&w.seconds(3, |_| steady())), []);
    let steps: Vec<_> = (0..20).flat_map(|s| w.tick(|_| silent(s))).collect();
    assert_eq!(words(&steps), [(1, "raised")]);
    let (alarm, _) = &steps[0];
    assert_eq!((alarm.grade, alarm.since_ms, alarm.raised_ms), (AlarmGrade::Trouble, 3000, 5000));
    assert!(w.alarms.list()[0].trouble.to_string().contains("gone"), "the latest of it");
    let steps = w.seconds(10, |_| steady());
    assert_eq!(words(&steps), [(1, "over")]);
    // Nobody has seen it yet.
    assert!(w.alarms.list()[0].over_ms.is_some());
    assert_eq!(words(&w.alarms.acknowledge(By::CommandLine, &Which::All)), [(1, "acknowledged")]);
    assert_eq!(w.alarms.list(), []);
}

#[test]
fn what_comes_and_goes_is_an_alarm_and_does_not_flicker() {
    let mut w = World::new(&[&[]]);
    let loss = || of_cause(State::Strained, &[Cause::RandomLoss { lost: 0.05, burst: 1.0 }]);
    let steps: Vec<_> = (0..40).flat_map(|s| w.tick(|_| if s % 4 < 2 { loss() } else { steady() })).collect();
    assert_eq!(words(&steps), [(1, "raised")]);
    assert_eq!(words(&w.seconds(6, |_| steady())), [(1, "over")]);
    // Back before anybody has seen it: the same one.
    let steps = w.seconds(12, |_| loss());
    assert_eq!(words(&steps), [(1, "again")]);
    assert_eq!(w.alarms.list()[0].again, 1);
}

#[test]
fn each_cause_is_told_once_and_worse_calls_again() {
    let mut w = World::new(&[&[]]);
    let frozen = Cause::Content(ContentFault::Frozen);
    let full = Cause::PathFull { carries: None, set: None, queue: Duration::ZERO };
    let steps = w.seconds(12, |_| of_cause(State::Strained, std::slice::from_ref(&frozen)));
    assert_eq!(words(&steps), [(1, "raised")]);
    w.alarms.acknowledge(By::LiveView, &Which::Numbers(vec![1]));
    let steps = w.seconds(12, |_| of_cause(State::Strained, &[full.clone(), frozen.clone()]));
    assert_eq!(words(&steps), [(2, "raised")]);
    w.alarms.acknowledge(By::LiveView, &Which::Numbers(vec![2]));
    let steps = w.seconds(3, |_| of_cause(State::Broken, &[full.clone(), frozen.clone()]));
    assert_eq!(words(&steps), [(2, "worse")]);
    let list = w.alarms.list();
    assert_eq!(list.iter().map(|a| a.acknowledged.is_some()).collect::<Vec<_>>(), [true, false]);
}

#[test]
fn what_the_engineer_stops_or_removes_is_no_alarm() {
    let mut w = World::new(&[&[], &[]]);
    let steps = w.seconds(8, |_| silent(3));
    assert_eq!(words(&steps), [(1, "raised"), (2, "raised")]);
    assert_eq!(words(&w.tick(|n| if n == 0 { held() } else { silent(3) })), [(1, "over")]);
    w.networks.truncate(1);
    assert_eq!(words(&w.tick(|_| held())), [(2, "over")]);
}

#[test]
fn a_wish_can_turn_alarms_off_and_waiting_on() {
    let waiting =
        || Verdict { state: State::Waiting, reason: Reason::Waiting(crate::facts::Waiting::Packets { port: 7101 }), causes: Vec::new() };
    let mut w = World::new(&[&[]]);
    assert_eq!(words(&w.seconds(60, |_| waiting())), [], "nobody there yet is no alarm unless it is wanted");
    w.rules = AlarmRules::default().with(&AlarmWish { waiting: Some(Some(Duration::from_secs(5))), ..AlarmWish::default() });
    assert_eq!(words(&w.seconds(10, |_| waiting())), [(1, "raised")]);
    let mut w = World::new(&[&[]]);
    w.rules = AlarmRules::default().with(&AlarmWish::off());
    assert_eq!(words(&w.seconds(60, |_| silent(9))), []);
}

#[test]
fn a_limit_of_the_sheet_is_an_alarm_with_its_numbers() {
    let mut w = World::new(&[&[]]);
    let mut wish = AlarmWish::default();
    wish.limit[Measure::Loss as usize] = Some(Some(0.05));
    w.rules = AlarmRules::default().with(&wish);
    let lossy = |lost| WayTick { length: Duration::from_secs(1), packets: 100, lost, ..WayTick::default() };
    let steps: Vec<_> = (0..8).flat_map(|_| w.measured(|_| steady(), &lossy(8))).collect();
    assert_eq!(words(&steps), [(1, "raised")]);
    assert_eq!(steps[0].0.trouble.to_string(), "loss on the path 8.0 % is above the limit of 5.0 %");
    // Within the hysteresis it goes on; beyond it, it clears.
    let steps: Vec<_> = (0..20).flat_map(|_| w.measured(|_| steady(), &lossy(5))).collect();
    assert_eq!(words(&steps), []);
    let steps: Vec<_> = (0..20).flat_map(|_| w.measured(|_| steady(), &lossy(1))).collect();
    assert_eq!(words(&steps), [(1, "over")]);
}

#[test]
fn twenty_lines_that_fail_together_are_one_alarm_on_the_network_they_share() {
    // All cross the LAN (0); the first twenty come over the radio (1) as well.
    let networks: Vec<&[u32]> = (0..24).map(|n| if n < 20 { &[0, 1][..] } else { &[0][..] }).collect();
    let mut w = World::new(&networks);
    w.seconds(5, |_| steady());
    // They fail within two seconds of each other.
    let begins = |n: usize| (n % 3) as u64;
    let steps: Vec<_> = (0..12).flat_map(|s| w.tick(|n| if n < 20 && s >= begins(n) { silent(s - begins(n)) } else { steady() })).collect();
    assert_eq!(words(&steps), [(1, "raised")]);
    let alarm = &w.alarms.list()[0];
    assert_eq!((alarm.subject, alarm.kind, alarm.members.len()), (Subject::Network(NetworkId(1)), AlarmKind::Together, 20));
    assert!(alarm.trouble.to_string().starts_with("20 of 20 lines"), "{}", alarm.trouble);
    // One is acknowledged for all. Eighteen come back; of the two that do not, each is its own.
    w.alarms.acknowledge(By::CommandLine, &Which::Numbers(vec![1]));
    let steps: Vec<_> = (12..30).flat_map(|s| w.tick(|n| if n < 1 { silent(s) } else { steady() })).collect();
    assert_eq!(words(&steps), [(1, "over"), (2, "raised")]);
}

#[test]
fn the_first_alarms_of_a_storm_become_part_of_it() {
    let networks: Vec<&[u32]> = vec![&[7]; 6];
    let mut w = World::new(&networks);
    // One each four seconds: the first two are alarms before the fourth fails.
    let steps: Vec<_> = (0..30)
        .flat_map(|s| {
            w.tick(|n| {
                let begins = n as u64 * 4;
                if s >= begins { silent(s - begins) } else { steady() }
            })
        })
        .collect();
    let words = words(&steps);
    assert!(words.contains(&(1, "raised")) && words.contains(&(1, "joined")), "{words:?}");
    let open: Vec<_> = w.alarms.list().into_iter().filter(|a| a.kind == AlarmKind::Together).collect();
    assert!(open.len() == 1 && open[0].subject == Subject::Network(NetworkId(7)), "{open:?}");
    // Those that began long before are alarms of their own; none is in both.
    let own: Vec<Subject> = w.alarms.list().into_iter().filter(|a| a.kind != AlarmKind::Together).map(|a| a.subject).collect();
    assert!(own.len() + open[0].members.len() >= 6, "{own:?} {open:?}");
}

#[test]
fn without_a_network_in_common_it_is_the_show_and_a_slow_machine_is_one_machine() {
    let mut w = World::new(&[&[], &[], &[], &[], &[]]);
    let steps: Vec<_> = (0..8).flat_map(|s| w.tick(|_| silent(s))).collect();
    assert_eq!((words(&steps), steps[0].0.subject), (vec![(1, "raised")], Subject::Show));
    let mut w = World::new(&[&[], &[], &[], &[], &[]]);
    let slow = || of_cause(State::Strained, &[Cause::OwnMachine(Slow::Drops(7))]);
    let steps = w.seconds(20, |_| slow());
    assert_eq!((words(&steps), steps[0].0.subject), (vec![(1, "raised")], Subject::Machine));
    // Two are no storm, though they are all there is.
    let mut w = World::new(&[&[], &[]]);
    let steps: Vec<_> = (0..8).flat_map(|s| w.tick(|_| silent(s))).collect();
    assert_eq!(words(&steps), [(1, "raised"), (2, "raised")]);
}

#[test]
fn of_more_alarms_than_anybody_reads_the_oldest_gives_way() {
    let mut w = World::new(&vec![&[][..]; KEPT + 100]);
    for n in (0..KEPT + 100).step_by(3) {
        w.seconds(3, |l| if (n..n + 3).contains(&l) { silent(3) } else { steady() });
    }
    let list = w.alarms.list();
    assert_eq!((list.len(), list[0].number), (KEPT, 101));
    assert!(list.iter().all(|a| matches!(a.trouble, Trouble::Reason(_))));
}
