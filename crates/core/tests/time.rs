//! Conditions with `NOW()`, of queries and of rules: a result is at every second what its rows say at that second, whatever
//! changes meanwhile, however late its snapshot comes, and wherever the clock goes; and what rules do not show any more because
//! time has passed is withdrawn.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::datetime::SINCE_1970;
use gossip_core::engine::{Delta, Engine, Input, Limits, Output, Request, SnapshotId};
use gossip_core::feed::Change;
use gossip_core::plan::VisibleRow;
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Key, Row, Table, TableName};
use gossip_core::seal::Sealer;
use gossip_core::value::{Type, Value};
use gossip_core::wire;
use proptest::prelude::*;

const SECOND: i64 = 1_000_000;

/// A second of the year 2030, in microseconds since 2000.
const START: i64 = 30 * 365 * 86_400 * SECOND;

/// What a row says at a moment: `at` in microseconds since 2000, and `n`.
type Meaning = fn(Option<i64>, i64, i64) -> bool;

/// Conditions, and what they mean.
const CONDITIONS: [(&str, Meaning); 8] = [
    // Only rules ask the time.
    ("n > 0", |_, n, _| n > 0),
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

/// What rules show of a row at a moment: nothing, all, or all but `at`. The last tells which `n` are granted at that moment.
type Sight = fn(Option<i64>, i64, i64, &dyn Fn(i64) -> bool) -> Option<bool>;

/// Rules, each whether it grants all columns, and what they mean.
type Rules = (&'static [(&'static str, bool)], Sight);

const GRANTED: &str = "n IN (SELECT n FROM grants WHERE at > now())";

const RULES: [Rules; 9] = [
    (&[("true", true)], |_, _, _, _| Some(true)),
    (&[("at > now()", true)], |at, _, now, _| at.filter(|at| *at > now).map(|_| true)),
    (
        &[("at BETWEEN now() - interval '8 seconds' AND now() + interval '5 seconds' OR n = 2", true)],
        |at, n, now, _| {
            let within = at.is_some_and(|at| (now - 8 * SECOND..=now + 5 * SECOND).contains(&at));
            (within || n == 2).then_some(true)
        },
    ),
    // More is seen of it later, or less.
    (&[("true", false), ("at <= now() - interval '2 seconds'", true)], |at, _, now, _| {
        Some(at.is_some_and(|at| at <= now - 2 * SECOND))
    }),
    (&[("n > 0", false), ("at > now()", true)], |at, n, now, _| match at.is_some_and(|at| at > now) {
        true => Some(true),
        false => (n > 0).then_some(false),
    }),
    (&[(GRANTED, true)], |_, n, _, granted| granted(n).then_some(true)),
    (
        &[("n IN (SELECT n FROM grants WHERE at > now()) OR at > now() + interval '1 second'", true)],
        |at, n, now, granted| (granted(n) || at.is_some_and(|at| at > now + SECOND)).then_some(true),
    ),
    (
        &[("n IN (SELECT n FROM grants WHERE at > now()) AND at < now() + interval '3 seconds'", true)],
        |at, n, now, granted| (granted(n) && at.is_some_and(|at| at < now + 3 * SECOND)).then_some(true),
    ),
    (
        &[("n NOT IN (SELECT n FROM grants WHERE at > now()) OR at > now() + interval '1 second'", true)],
        |at, n, now, granted| (!granted(n) || at.is_some_and(|at| at > now + SECOND)).then_some(true),
    ),
];

fn table(name: &str, old_values: bool) -> Arc<Table> {
    let columns = [("id", Type::Int8), ("at", Type::Timestamptz), ("n", Type::Int8)];
    Arc::new(Table {
        name: TableName::plain(name),
        source: "s".into(),
        columns: columns.map(|(name, ty)| Column { name: name.into(), ty }).into(),
        key: vec![0],
        old_values,
        incarnation: 0,
    })
}

#[derive(Clone, Debug)]
enum Step {
    /// A row's moment, in tenths of a second around the present, and its number; of the table that rules ask, or the other.
    Put(bool, i64, Option<i64>, i64),
    Delete(bool, i64),
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
    let asked = || prop::bool::weighted(0.4);
    let at = prop::option::weighted(0.9, -150..150_i64);
    prop_oneof![
        4 => (asked(), 0..3_i64, at, prop_oneof![2 => Just(1), 1 => 0..4_i64]).prop_map(|(asked, id, at, n)| Step::Put(asked, id, at, n)),
        2 => (asked(), 0..4_i64).prop_map(|(asked, id)| Step::Delete(asked, id)),
        5 => (1..40_i64).prop_map(Step::Pass),
        1 => prop_oneof![-40..-2_i64, 1..40_i64].prop_map(Step::Set),
        2 => Just(Step::Read),
        3 => Just(Step::Arrive),
        1 => Just(Step::Subscribe),
    ]
}

/// What somebody sees of a row, by place in the result.
type Seen = BTreeMap<usize, Value>;

/// A client: what it was told, if it has a result; and the rows of that which may still be unsent, as they are in the table.
#[derive(Default)]
struct Client {
    shown: Option<BTreeMap<Key, Seen>>,
    unsent: BTreeMap<Key, Row>,
    /// The cursor of the last delta.
    cursor: Option<String>,
}

/// The rows of a table by `id`.
type Rows = BTreeMap<i64, Row>;

struct World {
    engine: Engine,
    old_values: bool,
    /// Those of `t`, and those of `grants`.
    rows: [Rows; 2],
    /// In microseconds since 2000.
    now: i64,
    at: u64,
    asked: Vec<(SnapshotId, usize)>,
    read: Vec<(SnapshotId, Vec<Row>, u64)>,
    clients: BTreeMap<u64, Client>,
    next: u64,
    /// Microseconds between two deltas.
    every: i64,
}

/// The moment and the number of a row.
fn parts(row: &Row) -> (Option<i64>, i64) {
    let Value::Int(n) = row[2] else { unreachable!() };
    (if let Value::Timestamptz(at) = row[1] { Some(at) } else { None }, n)
}

impl World {
    fn new(old_values: bool, rules: &[(&str, bool)], every: i64) -> World {
        let rule = |(rows, all): &(&str, bool)| RuleText {
            role: "all".into(),
            table: TableName::plain("t"),
            rows: Some((*rows).into()),
            columns: (!all).then(|| vec!["id".into(), "n".into()]),
            ..RuleText::default()
        };
        let rules = RuleSet::new(rules.iter().map(rule).collect());
        let mut engine = Engine::new(Arc::new(rules), Limits::default());
        engine.handle(Input::Table(table("t", old_values)));
        engine.handle(Input::Table(table("grants", old_values)));
        World {
            engine,
            old_values,
            rows: [Rows::new(), Rows::new()],
            now: START,
            at: 0,
            asked: vec![],
            read: vec![],
            clients: BTreeMap::new(),
            next: 0,
            every,
        }
    }

    fn handle(&mut self, input: Input) {
        self.engine.set_clock(self.now + SINCE_1970);
        for output in self.engine.handle(input) {
            match output {
                Output::FetchSnapshot { id, plan, .. } => {
                    self.asked.push((id, usize::from(plan.table().name == TableName::plain("grants"))));
                }
                Output::CancelSnapshot(id) => {
                    self.asked.retain(|(a, _)| *a != id);
                    self.read.retain(|(a, ..)| *a != id);
                }
                Output::Result { to, rows, feed, .. } => {
                    for (sub, _) in to {
                        let seen = |seen: &VisibleRow| feed.shown(seen).map(|(i, v)| (i, v.clone())).collect();
                        let shown = rows.iter().map(|(key, row)| (key.clone(), seen(row))).collect();
                        let unsent = rows.iter().map(|(key, row)| (key.clone(), row.row.clone())).collect();
                        self.clients.insert(sub, Client { shown: Some(shown), unsent, cursor: None });
                    }
                }
                Output::Discard(sub) => drop(self.clients.insert(sub, Client::default())),
                Output::Revoke(to) => {
                    to.as_slice().iter().for_each(|sub| self.clients.get_mut(sub).unwrap().unsent.clear());
                }
                Output::Delta(delta, to) => {
                    for sub in to.as_slice() {
                        self.clients.get_mut(sub).unwrap().take(&delta);
                    }
                }
                Output::Closed(_, why) => panic!("{why:?}"),
                _ => {}
            }
        }
    }

    fn change(&mut self, asked: bool, id: i64, row: Option<Row>) {
        let rows = &mut self.rows[usize::from(asked)];
        let old = match &row {
            Some(row) => rows.insert(id, row.clone()),
            None => rows.remove(&id),
        };
        if old.is_none() && row.is_none() {
            return;
        }
        self.at += 1;
        let old = if self.old_values { Old::Known(old) } else { Old::Unknown };
        let table = Identified::new(table(if asked { "grants" } else { "t" }, self.old_values));
        let changes = vec![RowChange::of(&table, [Value::Int(id)].into(), old, row)];
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
        let request = Request { query: query.into(), claims, every: self.every, ..Request::default() };
        self.clients.insert(self.next, Client::default());
        self.handle(Input::Subscribe(self.next, Box::new(request)));
    }

    fn take(&mut self, step: &Step, query: &str) {
        match *step {
            Step::Put(asked, id, at, n) => {
                let at = at.map_or(Value::Null, |tenths| Value::Timestamptz(self.now + tenths * SECOND / 10));
                self.change(asked, id, Some([Value::Int(id), at, Value::Int(n)].into()));
            }
            Step::Delete(asked, id) => self.change(asked, id, None),
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
                let read =
                    self.asked.drain(..).map(|(id, of)| (id, self.rows[of].values().cloned().collect(), self.at));
                self.read.extend(read);
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

    /// What rules show of a row now.
    fn sight(&self, sight: Sight, row: &Row) -> Option<bool> {
        // A whole second; less than a little way back the clock stands still.
        let now = self.now.div_euclid(SECOND) * SECOND;
        let grants = || self.rows[1].values().map(parts);
        let granted = |n| grants().any(|(at, of)| of == n && at.is_some_and(|at| at > now));
        let (at, n) = parts(row);
        sight(at, n, now, &granted)
    }

    /// The result, as it should be.
    fn expected(&self, (meaning, sight): (Meaning, Sight), grouped: bool) -> BTreeMap<Key, Seen> {
        let now = self.now.div_euclid(SECOND) * SECOND;
        let mut expected: BTreeMap<Key, Seen> = BTreeMap::new();
        for row in self.rows[0].values() {
            let (at, n) = parts(row);
            let Some(all) = self.sight(sight, row) else { continue };
            if !meaning(at.filter(|_| all), n, now) {
                continue;
            }
            if grouped {
                let group = expected.entry([row[2].clone()].into()).or_default();
                let count = if let Some(Value::Int(c)) = group.get(&1) { c + 1 } else { 1 };
                *group = BTreeMap::from([(0, row[2].clone()), (1, Value::Int(count))]);
            } else {
                let shown = row.iter().cloned().enumerate().filter(|(i, _)| all || *i != 1);
                expected.insert([row[0].clone()].into(), shown.collect());
            }
        }
        expected
    }

    /// A row that may be unsent though rules do not show it any more, neither as it was told nor as it is.
    fn not_withdrawn(&self, sight: Sight) -> Option<&Row> {
        let unsent = || self.clients.values().flat_map(|c| &c.unsent);
        let hidden = |row: &Row| self.sight(sight, row).is_none();
        let now = |row: &Row| if let Value::Int(id) = row[0] { self.rows[0].get(&id) } else { None };
        unsent().map(|(_, row)| row).find(|row| hidden(row) && now(row).is_none_or(hidden))
    }
}

impl Client {
    fn take(&mut self, delta: &Delta) {
        if delta.revokes {
            self.unsent.clear();
        }
        let sealer = Sealer::new(b"a secret of the test");
        let cursor = Some(wire::cursor(&delta.feed, delta.term, delta.position, delta.at, &sealer));
        assert!(self.cursor != cursor, "the same delta twice");
        self.cursor = cursor;
        let shown = self.shown.as_mut().expect("no delta before the result");
        for change in &delta.changes {
            let before = shown.remove(change.key());
            self.unsent.remove(change.key());
            match (change, before) {
                (Change::Add { key, row, .. }, None)
                | (Change::Add { key, row, instead: true, .. } | Change::Replace { key, row, .. }, Some(_)) => {
                    shown.insert(key.clone(), delta.feed.shown(row).map(|(i, v)| (i, v.clone())).collect());
                    self.unsent.insert(key.clone(), row.row.clone());
                }
                (Change::Remove { .. }, Some(_)) => {}
                other => panic!("{other:?}"),
            }
        }
    }
}

/// Cases that are tried; more with `PROPTEST_CASES`.
fn cases() -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(5_000)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: cases(), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_result_is_at_every_second_what_its_rows_say(
        which in 0..CONDITIONS.len(),
        rules in prop_oneof![1 => Just(0), 2 => 0..RULES.len()],
        old_values in any::<bool>(),
        grouped in any::<bool>(),
        every in prop_oneof![Just(0), Just(5 * SECOND / 2)],
        steps in prop::collection::vec(step(), 1..40),
    ) {
        let ((condition, meaning), (rules, sight)) = (CONDITIONS[which], RULES[rules]);
        let query = if grouped {
            format!("SELECT n, count(*) AS c FROM t WHERE {condition} GROUP BY n")
        } else {
            format!("SELECT * FROM t WHERE {condition}")
        };
        let mut world = World::new(old_values, rules, every);
        world.change(false, 0, Some([Value::Int(0), Value::Timestamptz(START), Value::Int(1)].into()));
        world.subscribe(&query);
        let settled = [Step::Read, Step::Arrive, Step::Read, Step::Arrive, Step::Pass(400)];
        // All moments pass, and all that waits is told.
        let settled: Vec<Step> = (0..6).flat_map(|_| settled.clone()).collect();
        for (i, step) in steps.iter().chain(&settled).enumerate() {
            world.take(step, &query);
            let told = world.asked.is_empty() && world.read.is_empty();
            let told = told && (every == 0 || i + 1 == steps.len() + settled.len());
            let expected = world.expected((meaning, sight), grouped);
            for shown in world.clients.values().filter_map(|c| c.shown.as_ref()).filter(|_| told) {
                let tenths = (world.now - START) / (SECOND / 10);
                prop_assert_eq!(shown, &expected, "{} under {:?} after {:?} at {}", query, rules, step, tenths);
            }
            let kept = if grouped { None } else { world.not_withdrawn(sight) };
            prop_assert!(kept.is_none(), "{:?} under {:?} after {:?}", kept, rules, step);
        }
        prop_assert!(world.asked.is_empty() && world.clients.values().all(|c| c.shown.is_some()), "who waits is served");
    }
}

/// A row that two rules show: what the one asks another table changes, and so does when the row leaves by itself.
#[test]
fn a_row_leaves_in_its_time_when_another_rule_shows_it_no_more() {
    let of_a_grant_or_in_time = RULES[6].0;
    let mut world = World::new(true, of_a_grant_or_in_time, 0);
    let row = |seconds: i64| [Value::Int(0), Value::Timestamptz(START + seconds * SECOND), Value::Int(1)].into();
    world.change(false, 0, Some(row(10)));
    world.change(true, 0, Some(row(5)));
    world.subscribe("SELECT * FROM t");
    for step in [Step::Read, Step::Arrive, Step::Read, Step::Arrive] {
        world.take(&step, "");
    }
    let mut shown_after = |tenths| {
        world.take(&Step::Pass(tenths), "");
        world.clients[&1].shown.as_ref().unwrap().len()
    };
    assert_eq!(shown_after(70), 1, "the grant has ended, and the row's time has not come");
    assert_eq!(shown_after(40), 0, "its time has come");
}

/// Two instances whose clocks differ by less than a second show the same rows within a second, also once the clock of one that
/// was wrong has been set right.
#[test]
fn instances_show_the_same_rows_within_a_second() {
    const TENTH: i64 = SECOND / 10;
    // From when to when the second one's clock is wrong, in tenths of a second, and by how many seconds.
    let wrong = [(50, 100, 20), (150, 180, -3), (220, 250, -60), (300, 310, 4)];
    let mut instances = [0, 1].map(|_| World::new(true, &[("true", true)], 0));
    for instance in &mut instances {
        for id in 0..100 {
            let at = Value::Timestamptz(START + id * SECOND / 2 + TENTH * (id % 5));
            instance.change(false, id, Some([Value::Int(id), at, Value::Int(id)].into()));
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
            instance.clients[&1].shown.as_ref().unwrap().len()
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
