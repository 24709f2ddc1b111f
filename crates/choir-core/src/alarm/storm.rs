//! Many ways at once: what they have in common by the sheet is what to look at first.

use super::kept::{AllPending, Kept, Watched, of_link};
use crate::{
    facts::{Alarm, AlarmGrade, AlarmKind, State, Trouble},
    id::{NetworkId, Subject},
};
use std::{collections::BTreeMap, time::Duration};

/// Trouble that began no longer ago than this, its hold aside, may have one cause.
const WINDOW: Duration = Duration::from_secs(10);
/// A way whose trouble begins no later after the last one is part of the same.
const JOINS: Duration = Duration::from_secs(30);
/// Share of what crosses a network that must be in trouble for the network to be the cause.
const SHARE: f64 = 0.6;

/// Ways in trouble that have something in common.
pub(super) struct Group {
    pub subject: Subject,
    pub troubled: Vec<Subject>,
    /// So many have it in common.
    pub of: usize,
    due: bool,
}

impl Group {
    fn share(&self) -> f64 {
        self.troubled.len() as f64 / self.of.max(1) as f64
    }
}

/// An alarm that may be part of what becomes known now.
pub(super) fn is_fresh(now: Duration, began: Duration) -> bool {
    now.saturating_sub(began) <= 2 * WINDOW
}

/// So few are left that it is not one trouble any more.
pub(super) fn is_over(a: &Alarm, pending: &AllPending, together: Option<usize>) -> bool {
    let left = a.members.iter().filter(|m| of_link(pending, **m).next().is_some()).count();
    left < together.unwrap_or(usize::MAX).div_ceil(2).max(2)
}

/// How bad it is, and what most of them have.
pub(super) fn trouble(members: &[Subject], of: usize, pending: &AllPending) -> Option<(AlarmGrade, Trouble)> {
    let mut kinds: BTreeMap<AlarmKind, (usize, &Trouble)> = BTreeMap::new();
    let mut grade = AlarmGrade::Warning;
    for p in members.iter().flat_map(|m| of_link(pending, *m)) {
        grade = grade.max(p.condition.grade);
        kinds.entry(p.condition.kind).or_insert((0, &p.condition.trouble)).0 += 1;
    }
    let troubled = members.iter().filter(|m| of_link(pending, **m).next().is_some()).count();
    let most = kinds.into_values().max_by_key(|(n, _)| *n)?.1.clone();
    Some((grade, Trouble::Together { troubled, of, most: Box::new(most) }))
}

/// Trouble on a network that has an alarm already is part of that.
pub(super) fn join(list: &mut [Kept], pending: &AllPending, now: Duration, ways: &[Watched<'_>]) {
    for kept in list.iter_mut().filter(|k| k.is_storm() && now.saturating_sub(k.grew) <= JOINS) {
        let (subject, began) = (kept.alarm.subject, kept.began);
        let crosses = |w: &&Watched<'_>| subject == Subject::Show || w.networks.iter().any(|n| Subject::Network(*n) == subject);
        for way in ways.iter().filter(crosses) {
            let fresh = of_link(pending, way.subject).any(|p| p.first >= began && p.last == now);
            if fresh && !kept.alarm.members.contains(&way.subject) {
                kept.alarm.members.push(way.subject);
                kept.grew = now;
            }
        }
    }
}

/// The ways of one network, or of the show, that are in trouble at once and in no alarm of many
/// yet. A network says more than the show, and the narrower one more than the wider.
pub(super) fn find(list: &[Kept], pending: &AllPending, now: Duration, ways: &[Watched<'_>], together: usize) -> Option<Group> {
    let covered = |s: Subject| list.iter().any(|k| k.is_storm() && k.alarm.members.contains(&s));
    let mut groups: BTreeMap<Subject, Group> = BTreeMap::new();
    for way in ways.iter().filter(|w| w.verdict.state != State::Held) {
        let recent = || of_link(pending, way.subject).filter(|p| now.saturating_sub(p.first) <= p.condition.hold + WINDOW);
        let troubled = recent().next().is_some() && !covered(way.subject);
        let due = troubled && recent().any(|p| p.is_due(now));
        let network = |n: &NetworkId| Subject::Network(*n);
        for subject in way.networks.iter().map(network).chain([Subject::Show]) {
            let group = groups.entry(subject).or_insert(Group { subject, troubled: Vec::new(), of: 0, due: false });
            group.of += 1;
            if troubled {
                group.troubled.push(way.subject);
                group.due |= due;
            }
        }
    }
    let enough = |g: &Group| g.due && g.troubled.len() >= together.max(2) && g.share() >= SHARE;
    let rank = |g: &Group| (g.subject != Subject::Show, (g.share() * 1000.0) as u32, g.troubled.len());
    groups.into_values().filter(enough).max_by_key(rank)
}
