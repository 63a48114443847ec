//! Conditions with `NOW()`: a result is at every second what its rows say at that second, whatever changes meanwhile, however
//! late its snapshot comes, and wherever the clock goes.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::datetime::SINCE_1970;
use gossip_core::engine::{Engine, Input, Limits, Output, Request, SnapshotId};
use gossip_core::feed::Change;
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Key, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use proptest::prelude::*;

const SECOND: i64 = 1_000_000;

/// A second of the year 2030, in microseconds since 2000.
const START: i64 = 30 * 365 * 86_400 * SECOND;

/// What a row says at a moment: `at` in microseconds since 2000, and `n`.
type Meaning = fn(Option<i64>, i64, i64) -> bool;

/// Conditions, and what they mean.
const CONDITIONS: [(&str, Meaning); 7] = [
    ("at < now()", |at, _, now| at.is_some_and(|at| at < now)),
    ("at <= now()", |at, _, now| at.is_some_and(|at| at <= now)),
    ("at > now() - interval '10 seconds' AND n > 1", |at, n, now| at.is_some_and(|at| at > now - 10 * SECOND) && n > 1),
    ("now() - interval '5 seconds' >= at", |at, _, now| at.is_some_and(|at| now - 5 * SECOND >= at)),
    ("at BETWEEN now() - interval '4 seconds' AND now() + interval '3 seconds'", |at, _, now| {
        at.is_some_and(|at| (now - 4 * SECOND..=now + 3 * SECOND).contains(&at))
    }),
    ("NOT (at > now()) OR n = 3", |at, n, now| at.is_some_and(|at| at <= now) || n == 3),
    // In, out, and in again.
    ("at > now() + interval '2 seconds' OR at <= now() - interval '2 seconds'", |at, _, now| {
        at.is_some_and(|at| at > now + 2 * SECOND || at <= now - 2 * SECOND)
    }),
];

fn table(old_values: bool) -> Arc<Table> {
    let columns = [("id", Type::Int8), ("at", Type::Timestamptz), ("n", Type::Int8)];
    Arc::new(Table {
        name: TableName::plain("t"),
        source: "s".into(),
        columns: columns.map(|(name, ty)| Column { name: name.into(), ty }).into(),
        key: vec![0],
        old_values,
        incarnation: 0,
    })
}

#[derive(Clone, Debug)]
enum Step {
    /// A row's moment, in tenths of a second around the present, and its number.
    Put(i64, Option<i64>, i64),
    Delete(i64),
    /// The clock goes on by so many tenths of a second.
    Pass(i64),
    /// It is set to another time, in seconds.
    Set(i64),
    /// What was asked for is read, as it is now.
    Read,
    /// What was read arrives.
    Arrive,
    Subscribe,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        4 => (0..6_i64, prop::option::weighted(0.9, -150..150_i64), 0..4_i64).prop_map(|(id, at, n)| Step::Put(id, at, n)),
        1 => (0..6_i64).prop_map(Step::Delete),
        5 => (1..40_i64).prop_map(Step::Pass),
        1 => prop_oneof![-40..-2_i64, 1..40_i64].prop_map(Step::Set),
        2 => Just(Step::Read),
        3 => Just(Step::Arrive),
        1 => Just(Step::Subscribe),
    ]
}

struct World {
    engine: Engine,
    table: Identified,
    old_values: bool,
    rows: BTreeMap<i64, Row>,
    /// In microseconds since 2000.
    now: i64,
    at: u64,
    asked: Vec<SnapshotId>,
    read: Vec<(SnapshotId, Vec<Row>, u64)>,
    clients: BTreeMap<u64, Option<BTreeMap<Key, Row>>>,
    next: u64,
}

impl World {
    fn new(old_values: bool) -> World {
        let rule = RuleText { role: "all".into(), table: TableName::plain("t"), ..RuleText::default() };
        let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
        engine.handle(Input::Table(table(old_values)));
        World {
            engine,
            table: Identified::new(table(old_values)),
            old_values,
            rows: BTreeMap::new(),
            now: START,
            at: 0,
            asked: vec![],
            read: vec![],
            clients: BTreeMap::new(),
            next: 0,
        }
    }

    fn handle(&mut self, input: Input) {
        self.engine.set_clock(self.now + SINCE_1970);
        for output in self.engine.handle(input) {
            match output {
                Output::FetchSnapshot { id, .. } => self.asked.push(id),
                Output::CancelSnapshot(id) => {
                    self.asked.retain(|a| *a != id);
                    self.read.retain(|(a, ..)| *a != id);
                }
                Output::Result { to, rows, .. } => {
                    for (sub, _) in to {
                        let rows = rows.iter().map(|(key, seen)| (key.clone(), seen.row.clone())).collect();
                        self.clients.insert(sub, Some(rows));
                    }
                }
                Output::Discard(sub) => drop(self.clients.insert(sub, None)),
                Output::Delta(delta, to) => {
                    for sub in to.as_slice() {
                        let shown = self.clients.get_mut(sub).unwrap().as_mut().expect("no delta before the result");
                        for change in &delta.changes {
                            match (change, shown.remove(change.key())) {
                                (Change::Add { key, row, .. }, None) | (Change::Replace { key, row, .. }, Some(_)) => {
                                    shown.insert(key.clone(), row.row.clone());
                                }
                                (Change::Remove { .. }, Some(_)) => {}
                                other => panic!("{other:?}"),
                            }
                        }
                    }
                }
                Output::Closed(_, why) => panic!("{why:?}"),
                _ => {}
            }
        }
    }

    fn change(&mut self, id: i64, row: Option<Row>) {
        let old = match &row {
            Some(row) => self.rows.insert(id, row.clone()),
            None => self.rows.remove(&id),
        };
        if old.is_none() && row.is_none() {
            return;
        }
        self.at += 1;
        let old = if self.old_values { Old::Known(old) } else { Old::Unknown };
        let changes = vec![RowChange::of(&self.table, [Value::Int(id)].into(), old, row)];
        let (position, committed) = (Position::at(self.at), CommitTime::default());
        let t = Transaction { position, committed, number: 0, inexact_after: None, changes };
        self.handle(Input::Interval(Arc::new(Interval {
            source: "s".into(),
            epoch: 1,
            timeline: 0,
            from: Position::at(self.at - 1),
            to: position,
            transactions: vec![Arc::new(t)],
            resets: vec![],
            settled: Position::default(),
            mark: 0,
            reader: "one".into(),
            read_at: 0,
        })));
    }

    fn subscribe(&mut self, query: &str) {
        self.next += 1;
        let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
        let request = Request { query: query.into(), claims, ..Request::default() };
        self.clients.insert(self.next, None);
        self.handle(Input::Subscribe(self.next, Box::new(request)));
    }

    fn take(&mut self, step: &Step, query: &str) {
        match *step {
            Step::Put(id, at, n) => {
                let at = at.map_or(Value::Null, |tenths| Value::Timestamptz(self.now + tenths * SECOND / 10));
                self.change(id, Some([Value::Int(id), at, Value::Int(n)].into()));
            }
            Step::Delete(id) => self.change(id, None),
            Step::Pass(tenths) => {
                let until = self.now + tenths * SECOND / 10;
                // It is woken as it asks for it.
                while let Some(due) = self.engine.next_due().map(|due| due - SINCE_1970).filter(|due| *due <= until) {
                    self.now = self.now.max(due);
                    self.handle(Input::Tick);
                }
                self.now = until;
                // Nor does it sleep for long.
                self.handle(Input::Tick);
            }
            Step::Set(seconds) => {
                self.now += seconds * SECOND;
                self.handle(Input::Tick);
            }
            Step::Read => {
                let rows: Vec<Row> = self.rows.values().cloned().collect();
                self.read.extend(self.asked.drain(..).map(|id| (id, rows.clone(), self.at)));
            }
            Step::Arrive => {
                for (id, rows, at) in std::mem::take(&mut self.read) {
                    self.handle(Input::SnapshotRows(id, rows));
                    self.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(at))));
                }
            }
            Step::Subscribe => self.subscribe(query),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 3_000, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_result_is_at_every_second_what_its_rows_say(
        which in 0..CONDITIONS.len(),
        old_values in any::<bool>(),
        grouped in any::<bool>(),
        steps in prop::collection::vec(step(), 1..40),
    ) {
        let (condition, meaning) = CONDITIONS[which];
        let query = if grouped {
            format!("SELECT n, count(*) AS c FROM t WHERE {condition} GROUP BY n")
        } else {
            format!("SELECT * FROM t WHERE {condition}")
        };
        let mut world = World::new(old_values);
        world.change(0, Some([Value::Int(0), Value::Timestamptz(START), Value::Int(1)].into()));
        world.subscribe(&query);
        for step in steps.iter().chain([&Step::Read, &Step::Arrive, &Step::Read, &Step::Arrive]) {
            world.take(step, &query);
            // A whole second; less than a little way back the clock stands still.
            let second = world.now.div_euclid(SECOND) * SECOND;
            let holds = |row: &&Row| match (&row[1], &row[2]) {
                (Value::Timestamptz(at), Value::Int(n)) => meaning(Some(*at), *n, second),
                (_, Value::Int(n)) => meaning(None, *n, second),
                _ => false,
            };
            let mut expected: BTreeMap<Key, Row> = BTreeMap::new();
            for row in world.rows.values().filter(holds) {
                if grouped {
                    let n = row[2].clone();
                    let counted = expected.entry([n.clone()].into()).or_insert_with(|| [n, Value::Int(0)].into());
                    *counted = [counted[0].clone(), Value::Int(match counted[1] { Value::Int(c) => c + 1, _ => 0 })].into();
                } else {
                    expected.insert([row[0].clone()].into(), row.clone());
                }
            }
            for shown in world.clients.values().flatten() {
                prop_assert_eq!(shown, &expected, "{} after {:?} at {}", query, step, (world.now - START) / (SECOND / 10));
            }
        }
        prop_assert!(world.clients.values().all(Option::is_some), "who waits is served");
    }
}

/// Two instances whose clocks differ by less than a second show the same rows within a second, also once the clock of one that
/// was wrong has been set right.
#[test]
fn instances_show_the_same_rows_within_a_second() {
    const TENTH: i64 = SECOND / 10;
    // From when to when the second one's clock is wrong, in tenths of a second, and by how many seconds.
    let wrong = [(50, 100, 20), (150, 180, -3), (220, 250, -60), (300, 310, 4)];
    let mut instances = [World::new(true), World::new(true)];
    for instance in &mut instances {
        for id in 0..100 {
            let at = Value::Timestamptz(START + id * SECOND / 2 + TENTH * (id % 5));
            instance.change(id, Some([Value::Int(id), at, Value::Int(id)].into()));
        }
        instance.subscribe("SELECT * FROM t WHERE at < now()");
    }
    let mut shown: Vec<[usize; 2]> = Vec::new();
    for i in 0..400 {
        let by = wrong.iter().find(|(from, until, _)| (*from..*until).contains(&i)).map_or(0, |(.., by)| *by);
        let [one, other] = &mut instances;
        (one.now, other.now) = (START + i * TENTH, START + (i + 6) * TENTH + by * SECOND);
        let rows = [one, other].map(|instance| {
            instance.handle(Input::Tick);
            instance.take(&Step::Read, "");
            instance.take(&Step::Arrive, "");
            instance.clients[&1].as_ref().unwrap().len()
        });
        shown.push(rows);
    }
    for (i, [_, other]) in shown.iter().enumerate().skip(10).take(380) {
        let is_right = |(from, until, _): &(i64, i64, i64)| !(*from..until + 10).contains(&(i as i64));
        let (before, after) = (shown[i - 10][0], shown[i + 10][0]);
        assert!(
            !wrong.iter().all(is_right) || (before..=after).contains(other),
            "{other} of {before} to {after} at {i}"
        );
    }
    assert!(shown.iter().any(|[one, other]| one.abs_diff(*other) > 10), "the clock was wrong");
}
