//! Who is present where, at all instances.
//!
//! Each instance reports to the others when somebody joins or leaves a place, and periodically, in a *round*,
//! everybody who is present at it. Messages have increasing numbers, so they may be reordered: the higher number
//! wins, and a round repairs whatever was lost before it. Nothing is stored anywhere else: an instance
//! that starts knows everybody after one round of each of the others, and when one restarts, or falls silent,
//! the people present at it are gone.

use std::collections::BTreeMap;
use std::sync::Arc;

use crate::schema::Row;

/// Most people in one message.
pub const IN_A_MESSAGE: usize = 100;

/// Most people present at one instance.
pub const MAX_PEOPLE: usize = 20_000;

/// A place, and a client's number at its instance.
pub type Location = (Arc<str>, u64);

/// An update that an instance sends about the people present at it.
#[derive(Clone, Debug, PartialEq)]
pub struct PresenceUpdate {
    /// When the instance started, by its clock. Of two with the same name the later one wins.
    pub run: u64,
    /// Increases with every message; the messages of a round have the same number.
    pub number: u64,
    /// For a round: index of this message, and number of messages.
    pub share: Option<(usize, usize)>,
    /// Who is where; `None`: has left.
    pub people: Vec<(Location, Option<Row>)>,
}

/// A change of who is present where.
#[derive(Clone, Debug, PartialEq)]
pub enum PresenceChange {
    /// Somebody joined, or changed their row.
    Joined(Row),
    /// Somebody left.
    Left(Row),
}

/// The people present at another instance.
#[derive(Debug, Default)]
struct Other {
    run: u64,
    /// By location: number of the last message about it, and the row. Those who left are kept until the next round.
    people: BTreeMap<Location, (u64, Option<Row>)>,
    /// Number of the last complete round.
    round: u64,
    /// An incomplete round: its number and its messages so far.
    coming: (u64, BTreeMap<usize, Vec<(Location, Row)>>),
}

/// Who is present where.
#[derive(Debug)]
pub struct Presence {
    run: u64,
    number: u64,
    own: BTreeMap<Location, Row>,
    others: BTreeMap<Arc<str>, Other>,
}

impl Presence {
    /// Starts empty. `run` is when this instance started.
    pub fn new(run: u64) -> Presence {
        Presence { run, number: 0, own: BTreeMap::new(), others: BTreeMap::new() }
    }

    /// When this instance started.
    pub fn run(&self) -> u64 {
        self.run
    }

    /// Everybody present at this instance.
    pub fn own(&self) -> &BTreeMap<Location, Row> {
        &self.own
    }

    /// Everybody present anywhere.
    pub fn all(&self) -> impl Iterator<Item = &Row> {
        let others = self.others.values().flat_map(|o| o.people.values().filter_map(|(_, row)| row.as_ref()));
        self.own.values().chain(others)
    }

    fn told(&mut self, share: Option<(usize, usize)>, people: Vec<(Location, Option<Row>)>) -> PresenceUpdate {
        if share.is_none_or(|(index, _)| index == 0) {
            self.number += 1;
        }
        PresenceUpdate { run: self.run, number: self.number, share, people }
    }

    /// Somebody joins a place here, or changes their row. Returns the update for the others.
    pub fn join(&mut self, at: Location, row: Row) -> PresenceUpdate {
        self.own.insert(at.clone(), row.clone());
        self.told(None, vec![(at, Some(row))])
    }

    /// Somebody leaves a place here. Returns their row and the update for the others; `None` if they were
    /// not there.
    pub fn leave(&mut self, at: &Location) -> Option<(Row, PresenceUpdate)> {
        let row = self.own.remove(at)?;
        Some((row, self.told(None, vec![(at.clone(), None)])))
    }

    /// Everybody here leaves. Returns the update for the others.
    pub fn leave_all(&mut self) -> PresenceUpdate {
        self.own.clear();
        self.told(Some((0, 1)), vec![])
    }

    /// A round of updates.
    pub fn round(&mut self) -> Vec<PresenceUpdate> {
        let all: Vec<(Location, Option<Row>)> =
            self.own.iter().map(|(at, row)| (at.clone(), Some(row.clone()))).collect();
        let of = all.len().div_ceil(IN_A_MESSAGE).max(1);
        let some = |index: usize| all.iter().skip(index * IN_A_MESSAGE).take(IN_A_MESSAGE).cloned().collect();
        (0..of).map(|index| self.told(Some((index, of)), some(index))).collect()
    }

    /// Applies another instance's update. Returns what has changed.
    pub fn receive(&mut self, instance: &str, told: PresenceUpdate) -> Vec<PresenceChange> {
        let mut moved = Vec::new();
        match self.others.get(instance) {
            // From before its restart.
            Some(o) if o.run > told.run => return moved,
            Some(o) if o.run < told.run => moved = self.forget(instance),
            _ => {}
        }
        let other = self.others.entry(instance.into()).or_default();
        other.run = told.run;
        match told.share {
            None => told.people.into_iter().for_each(|(at, row)| moved.extend(other.one(told.number, at, row))),
            Some(share) => moved.extend(other.part(told.number, share, told.people)),
        }
        moved
    }

    /// Removes an instance with everybody present at it.
    pub fn forget(&mut self, instance: &str) -> Vec<PresenceChange> {
        let gone = self.others.remove(instance);
        gone.into_iter()
            .flat_map(|o| o.people.into_values().filter_map(|(_, row)| row.map(PresenceChange::Left)))
            .collect()
    }
}

impl Other {
    fn one(&mut self, number: u64, at: Location, row: Option<Row>) -> Option<PresenceChange> {
        let known = self.people.get(&at);
        // A round also covers those whom it does not name.
        if number <= known.map_or(0, |(n, _)| *n).max(self.round) {
            return None;
        }
        if known.is_none() && self.people.len() >= MAX_PEOPLE {
            return None;
        }
        let before = self.people.insert(at, (number, row.clone())).and_then(|(_, row)| row);
        match (before, row) {
            (Some(before), None) => Some(PresenceChange::Left(before)),
            (before, Some(row)) if before.as_ref() != Some(&row) => Some(PresenceChange::Joined(row)),
            _ => None,
        }
    }

    fn part(
        &mut self,
        number: u64,
        (index, of): (usize, usize),
        people: Vec<(Location, Option<Row>)>,
    ) -> Vec<PresenceChange> {
        if number <= self.round || number < self.coming.0 || index >= of || of > MAX_PEOPLE / IN_A_MESSAGE {
            return Vec::new();
        }
        if number > self.coming.0 {
            self.coming = (number, BTreeMap::new());
        }
        self.coming.1.insert(index, people.into_iter().filter_map(|(at, row)| Some((at, row?))).collect());
        if self.coming.1.len() < of {
            return Vec::new();
        }
        let there: BTreeMap<Location, Row> = std::mem::take(&mut self.coming.1).into_values().flatten().collect();
        let mut moved = Vec::new();
        // Keep what is newer than the round.
        self.people.retain(|at, (said, row)| {
            let stays = *said > number || there.contains_key(at);
            if !stays {
                moved.extend(row.take().map(PresenceChange::Left));
            }
            stays
        });
        moved.extend(there.into_iter().filter_map(|(at, row)| self.one(number, at, Some(row))));
        self.round = number;
        moved
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::value::Value;
    use proptest::prelude::*;
    use std::collections::BTreeSet;

    fn row(who: u64, shows: i64) -> Row {
        [Value::Int(who as i64), Value::Int(shows)].into()
    }

    /// What is heard, applied one by one, is what is known: nobody goes who was not there.
    fn apply(seen: &mut BTreeSet<Row>, moved: Vec<PresenceChange>) {
        for m in moved {
            match m {
                PresenceChange::Joined(row) => {
                    seen.retain(|r| r[0] != row[0]);
                    seen.insert(row);
                }
                PresenceChange::Left(row) => assert!(seen.remove(&row), "{row:?} was not there"),
            }
        }
    }

    proptest! {
        #[test]
        fn whatever_is_lost_doubled_or_out_of_order_a_round_makes_good(
            steps in prop::collection::vec((0_u8..4, 0_u64..5, 0_i64..3), 1..60),
            order in prop::collection::vec(any::<prop::sample::Index>(), 200),
            lost in prop::collection::vec(prop::bool::weighted(0.2), 200),
            lossy in any::<bool>(),
        ) {
            let (mut one, mut two) = (Presence::new(1), Presence::new(1));
            let mut on_the_way = Vec::new();
            for (what, who, shows) in steps {
                let at: Location = ("quay".into(), who);
                match what {
                    0 | 1 => on_the_way.push(one.join(at, row(who, shows))),
                    2 => on_the_way.extend(one.leave(&at).map(|(_, told)| told)),
                    _ => on_the_way.extend(one.round()),
                }
            }
            let mut seen = BTreeSet::new();
            let mut choose = order.iter().zip(&lost).cycle();
            while !on_the_way.is_empty() {
                let Some((i, lost)) = choose.next() else { break };
                let told = on_the_way.swap_remove(i.index(on_the_way.len()));
                if !(lossy && *lost) {
                    apply(&mut seen, two.receive("one", told.clone()));
                    apply(&mut seen, two.receive("one", told));
                }
            }
            prop_assert!(lossy || seen.iter().eq(one.own().values()), "in whatever order: {:?}", seen);
            for told in one.round() {
                apply(&mut seen, two.receive("one", told));
            }
            prop_assert_eq!(&seen, &one.own().values().cloned().collect());
            prop_assert_eq!(&seen, &two.all().cloned().collect());
            // Nobody comes back with an old message, and everybody goes with a new start or with silence.
            let mut again = Presence::new(2);
            let moved = two.receive("one", again.join(("quay".into(), 9), row(9, 9)));
            apply(&mut seen, moved);
            prop_assert_eq!(two.receive("one", one.join(("quay".into(), 1), row(1, 1))), vec![]);
            prop_assert_eq!(seen.len(), 1);
            apply(&mut seen, two.forget("one"));
            prop_assert!(seen.is_empty());
        }
    }

    #[test]
    fn a_round_of_many_messages_counts_when_all_have_come() {
        let (mut one, mut two) = (Presence::new(1), Presence::new(1));
        for who in 0..250 {
            one.join(("quay".into(), who), row(who, 0));
        }
        let round = one.round();
        assert_eq!(round.len(), 3);
        assert_eq!(two.receive("one", round[2].clone()), vec![]);
        assert_eq!(two.receive("one", round[0].clone()), vec![]);
        // Somebody leaves while it is on its way.
        let left = one.leave(&("quay".into(), 7)).map(|(_, told)| told);
        assert_eq!(left.map(|told| two.receive("one", told)), Some(vec![]));
        assert_eq!(two.receive("one", round[1].clone()).len(), 249);
        assert_eq!(two.all().count(), 249);
    }
}
