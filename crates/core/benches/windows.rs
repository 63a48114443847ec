//! Windows over a large table: what their feeds hold, how often they read on, and that places are right after every change.
//!
//! 1,000 windows of ten over 1,000,000 rows, each over the rows of one owner. Every change is of one of the first 30 rows of an
//! owner: it goes, it comes, or it moves. A page that is asked for is read as the table stands then, and arrives a few
//! transactions later. Beside it: the same change of an ordered set.
//!
//! `cargo bench --bench windows` (a number after `--` sets the changes).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

mod common;

use std::collections::{BTreeSet, VecDeque};
use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use gossip_core::engine::{Engine, Input, Limits, Output, Request, SnapshotId, SubId};
use gossip_core::feed::Change;
use gossip_core::plan::{SnapshotRequest, Wanted};
use gossip_core::position::{Old, Position, RowChange, SnapshotPoint};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Identified, Key, Row, TableName};
use gossip_core::value::Value;
use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};

use common::{interval_of, median, table};

const OWNERS: i64 = 1_000;
const OF_EACH: i64 = 1_000;
const WINDOW: usize = 10;
/// How far from the front rows change.
const NEAR: usize = 30;
/// Transactions until a page has arrived, at most.
const DELAY: u64 = 20;

/// The rows of an owner by level and id.
type Rows = BTreeSet<(i64, i64)>;

fn row(id: i64, owner: i64, level: i64) -> Row {
    [Value::Int(id), Value::Int(owner), Value::Int(level)].into()
}

fn number(value: &Value) -> i64 {
    match value {
        Value::Int(n) => *n,
        other => panic!("{other:?}"),
    }
}

/// What the database hands out.
fn read(tables: &[Rows], request: &SnapshotRequest) -> Vec<Row> {
    let [(_, Wanted::Any(owners))] = request.filter.as_ref().unwrap().wanted() else { panic!("{request:?}") };
    let owner = number(&owners[0]);
    let page = request.page.as_ref().unwrap();
    let after = page.after.as_ref().map_or((i64::MIN, i64::MIN), |at| (number(&at[0]), number(&at[1])));
    let behind = tables[owner as usize].range((std::ops::Bound::Excluded(after), std::ops::Bound::Unbounded));
    behind.take(page.limit.unwrap()).map(|(level, id)| row(*id, owner, *level)).collect()
}

struct World {
    tables: Vec<Rows>,
    engine: Engine,
    at: u64,
    /// Pages that are read and not handed over yet, and when that happens.
    read: VecDeque<(u64, SnapshotId, Vec<Row>, u64)>,
    /// What each client shows.
    shown: Vec<Vec<i64>>,
    pages: usize,
    read_on: usize,
}

impl World {
    fn take(&mut self, outputs: Vec<Output>) {
        for output in outputs {
            match output {
                Output::FetchSnapshot { id, request, .. } => {
                    self.pages += 1;
                    self.read_on += usize::from(request.page.as_ref().is_some_and(|page| page.after.is_some()));
                    let due = self.at + 1 + self.pages as u64 % DELAY;
                    self.read.push_back((due, id, read(&self.tables, &request), self.at));
                }
                Output::Result { to, rows, .. } => {
                    for (sub, _) in to {
                        self.shown[sub as usize] = rows.iter().map(|(key, _)| number(&key[0])).collect();
                        self.hold_against_table(sub);
                    }
                }
                Output::Delta(delta, subs) => {
                    for sub in subs.as_slice() {
                        apply(&mut self.shown[*sub as usize], &delta.changes);
                        self.hold_against_table(*sub);
                    }
                }
                Output::Closed(_, why) => panic!("{why:?}"),
                _ => {}
            }
        }
    }

    fn hold_against_table(&self, sub: SubId) {
        let first = self.tables[sub as usize].iter().take(WINDOW).map(|(_, id)| *id);
        assert!(self.shown[sub as usize].iter().copied().eq(first), "window {sub} at {}", self.at);
    }

    fn hand_over(&mut self) {
        for (due, id, rows, at) in std::mem::take(&mut self.read) {
            if due > self.at {
                self.read.push_back((due, id, rows, at));
                continue;
            }
            let mut outputs = self.engine.handle(Input::SnapshotRows(id, rows));
            let shows = SnapshotPoint::UpTo(Position::at(at));
            outputs.extend(self.engine.handle(Input::SnapshotDone(id, shows)));
            self.take(outputs);
        }
    }
}

fn apply(shown: &mut Vec<i64>, changes: &[Change]) {
    let mut placed = Vec::new();
    for change in changes {
        let id = number(&change.key()[0]);
        match change {
            Change::Add { place, .. } | Change::Replace { place, .. } => {
                placed.extend(place.map(|place| (place, id)));
                if place.is_some() {
                    shown.retain(|other| *other != id);
                }
            }
            Change::Remove { .. } => shown.retain(|other| *other != id),
        }
    }
    placed.sort_unstable();
    placed.into_iter().for_each(|(place, id)| shown.insert(place, id));
}

fn main() {
    let changes = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(300_000_u64);
    let mut rng = StdRng::seed_from_u64(7);
    let levels = |owner: i64| (0..OF_EACH).map(move |n| ((n * 7_919 + owner) % 100_000, owner * OF_EACH + n));
    let rule = RuleText { role: "all".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
    let tables: Vec<Rows> = (0..OWNERS).map(|owner| levels(owner).collect()).collect();
    let shown = vec![Vec::new(); OWNERS as usize];
    let mut world = World { tables, engine, at: 1, read: VecDeque::new(), shown, pages: 0, read_on: 0 };
    let known = Identified::new(table());
    world.engine.handle(Input::Table(table()));
    let outputs = world.engine.handle(Input::Interval(interval_of(1, vec![])));
    world.take(outputs);
    let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
    for owner in 0..OWNERS {
        let query = format!("SELECT id, level FROM calls WHERE owner = {owner} ORDER BY level LIMIT {WINDOW}");
        let request = Request { query, claims: claims.clone(), ..Request::default() };
        let outputs = world.engine.handle(Input::Subscribe(owner as SubId, Box::new(request)));
        world.take(outputs);
    }
    while !world.read.is_empty() {
        world.at += 1;
        let outputs = world.engine.handle(Input::Interval(interval_of(world.at, vec![])));
        world.take(outputs);
        world.hand_over();
    }
    let (first_pages, mut departures, mut next_id) = (world.pages, 0_usize, OWNERS * OF_EACH);
    let (mut took, mut floor, mut longest) = (Vec::new(), Vec::new(), 0.0_f64);
    for _ in 0..changes {
        world.at += 1;
        let owner = rng.random_range(0..OWNERS);
        let near: Vec<(i64, i64)> = world.tables[owner as usize].iter().take(NEAR).copied().collect();
        let (level, id) = near[rng.random_range(0..near.len())];
        let (old, new) = match rng.random_range(0..10) {
            0..6 => (Some((level, id)), None),
            6..9 => (Some((level, id)), Some((rng.random_range(0..100_000), id))),
            _ => {
                next_id += 1;
                (None, Some((level, next_id)))
            }
        };
        departures += usize::from(old.is_some());
        let begun = Instant::now();
        let rows = &mut world.tables[owner as usize];
        old.iter().for_each(|old| assert!(black_box(rows.remove(old))));
        rows.extend(new);
        floor.push(begun.elapsed().as_nanos() as f64 / 1e3);
        let row = |of: Option<(i64, i64)>| of.map(|(level, id)| row(id, owner, level));
        let key: Key = [Value::Int(old.or(new).unwrap().1)].into();
        let change = interval_of(world.at, vec![RowChange::of(&known, key, Old::Known(row(old)), row(new))]);
        let begun = Instant::now();
        let outputs = world.engine.handle(Input::Interval(change));
        let micros = begun.elapsed().as_nanos() as f64 / 1e3;
        took.push(micros);
        longest = longest.max(micros);
        world.take(outputs);
        world.hand_over();
    }
    let held: usize = world.engine.feeds().filter_map(|f| f.held).sum();
    let (read_on, pages) = (world.read_on, world.pages - first_pages);
    let (took, floor) = (median(took), median(floor));
    println!(
        "{OWNERS} windows of {WINDOW} over {} rows, {changes} changes, {departures} of rows that leave or move",
        OWNERS * OF_EACH
    );
    println!(
        "{first_pages} first pages, then {pages} ({read_on} read on): one in {} departures",
        departures / pages.max(1)
    );
    println!("{} rows held of each window at the end; places were right after every delta", held / OWNERS as usize);
    println!("µs per change: {took:.1}, longest {longest:.0}; an ordered set {floor:.2}; ratio {:.1}", took / floor);
}
