//! Groups stay exact over very many changes: their least and greatest rows are deleted, values come and go that are counted
//! once, and sums of decimals and floats neither drift nor keep what has gone.
//!
//! `GOSSIP_CHANGES=1000000` sets how many changes are made.
#![allow(clippy::unwrap_used)]

#[path = "common/interval.rs"]
mod interval;

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use bigdecimal::{BigDecimal, FromPrimitive as _, ToPrimitive as _, Zero as _};
use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::feed::Change;
use gossip_core::plan::{EffectivePlan, VisibleRow};
use gossip_core::position::{Old, Position, RowChange, SnapshotPoint};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use interval::interval;
use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};

const GROUPS: i64 = 40;
const ROWS: usize = 600;

const QUERY: &str = "SELECT g, count(*) AS n, count(DISTINCT v) AS kinds, min(v) AS least, max(v) AS most, sum(d) AS d, \
                     sum(x) AS x, count(*) FILTER (WHERE v > 50) AS high FROM t GROUP BY g HAVING count(*) > 3";

/// A row of the table: its group, a number of few, a decimal of two places in hundredths, and a float.
#[derive(Clone, Copy)]
struct Item {
    g: i64,
    v: i64,
    d: i64,
    x: f64,
}

impl Item {
    fn random(random: &mut StdRng) -> Item {
        let x = match random.random_range(0..4) {
            // Adding and taking away again would leave nothing of the small ones beside these.
            0 => random.random_range(-1.0..1.0) * 1e17,
            1 => random.random_range(-1.0..1.0) * 1e-9,
            _ => random.random_range(-100.0..100.0),
        };
        let (g, v) = (random.random_range(0..GROUPS), random.random_range(0..100));
        Item { g, v, d: random.random_range(-100_000..100_000), x }
    }

    fn row(self, id: u64) -> Row {
        let decimal = Value::Numeric(BigDecimal::new(self.d.into(), 2).into());
        [Value::Int(id as i64), Value::Int(self.g), Value::Int(self.v), decimal, Value::Float(self.x)].into()
    }
}

/// The result's row of a group, worked out anew.
fn expected(g: i64, items: &[Item]) -> Option<Vec<Value>> {
    let kinds: BTreeSet<i64> = items.iter().map(|i| i.v).collect();
    let decimals: i64 = items.iter().map(|i| i.d).sum();
    let exactly = items.iter().fold(BigDecimal::zero(), |sum, i| sum + BigDecimal::from_f64(i.x).unwrap());
    let floats = exactly.to_string().parse::<f64>().ok().or_else(|| exactly.to_f64())?;
    (items.len() > 3).then(|| {
        vec![
            Value::Int(g),
            Value::Int(items.len() as i64),
            Value::Int(kinds.len() as i64),
            Value::Int(*kinds.first().unwrap()),
            Value::Int(*kinds.last().unwrap()),
            Value::Numeric(BigDecimal::new(decimals.into(), 2).into()),
            Value::Float(floats),
            Value::Int(items.iter().filter(|i| i.v > 50).count() as i64),
        ]
    })
}

struct World {
    engine: Engine,
    table: Identified,
    at: u64,
    items: BTreeMap<u64, Item>,
    of_group: BTreeMap<i64, BTreeSet<u64>>,
    plan: Arc<EffectivePlan>,
    /// What the subscriber holds.
    held: BTreeMap<i64, VisibleRow>,
}

impl World {
    fn new() -> World {
        let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
        let columns =
            [("id", Type::Int8), ("g", Type::Int8), ("v", Type::Int8), ("d", Type::Numeric), ("x", Type::Float8)];
        let table = Arc::new(Table {
            name: TableName::plain("t"),
            source: "s".into(),
            columns: columns.map(column).to_vec(),
            key: vec![0],
            old_values: true,
            incarnation: 0,
        });
        let rule = RuleText { role: "all".into(), table: table.name.clone(), ..RuleText::default() };
        let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
        engine.handle(Input::Table(table.clone()));
        let table = Identified::new(table);
        engine.handle(Input::Interval(interval(1, vec![])));
        let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
        let request = Request { query: QUERY.into(), claims, ..Request::default() };
        let asked = engine.handle(Input::Subscribe(1, Box::new(request)));
        let fetch = asked.into_iter().find_map(|o| match o {
            Output::FetchSnapshot { id, plan, .. } => Some((id, plan)),
            _ => None,
        });
        let (id, plan) = fetch.unwrap();
        engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1))));
        let (items, of_group, held) = Default::default();
        World { engine, table, at: 1, items, of_group, plan, held }
    }

    /// Puts an item in place of another, each of them perhaps none, in a transaction of its own.
    fn change(&mut self, id: u64, item: Option<Item>) {
        self.at += 1;
        let old = match item {
            Some(item) => self.items.insert(id, item),
            None => self.items.remove(&id),
        };
        if let Some(old) = old {
            self.of_group.entry(old.g).or_default().remove(&id);
        }
        if let Some(item) = item {
            self.of_group.entry(item.g).or_default().insert(id);
        }
        let key = [Value::Int(id as i64)].into();
        let (old, new) = (old.map(|old| old.row(id)), item.map(|item| item.row(id)));
        let change = RowChange::of(&self.table, key, Old::Known(old), new);
        for output in self.engine.handle(Input::Interval(interval(self.at, vec![change]))) {
            match output {
                Output::Delta(delta, _) => self.take(&delta.changes),
                Output::Closed(_, why) => panic!("{why:?}"),
                _ => {}
            }
        }
    }

    fn take(&mut self, changes: &[Change]) {
        for change in changes {
            let Value::Int(g) = change.key()[0] else { panic!("{change:?}") };
            match change.row() {
                Some(row) => self.held.insert(g, row.clone()),
                None => self.held.remove(&g),
            };
        }
    }

    fn check(&self, g: i64) {
        let items: Vec<Item> = self.of_group.get(&g).into_iter().flatten().map(|id| self.items[id]).collect();
        let held = self.held.get(&g).map(|row| self.plan.shown(row).map(|(_, v)| v.clone()).collect::<Vec<_>>());
        assert_eq!(held, expected(g, &items), "group {g} after {} changes", self.at);
    }
}

#[test]
fn groups_are_exact_after_many_changes() {
    let changes = std::env::var("GOSSIP_CHANGES").map_or(50_000, |n| n.parse::<u64>().unwrap());
    let mut random = StdRng::seed_from_u64(7);
    let mut world = World::new();
    let (mut minima, mut fewer) = (0, 0);
    for n in 0..changes {
        let g = random.random_range(0..GROUPS);
        let ids: Vec<u64> = world.of_group.get(&g).into_iter().flatten().copied().collect();
        let value = |id: &u64| world.items[id].v;
        // Few are held on average, so that groups come and go.
        let grows = world.items.len() < random.random_range(0..2 * ROWS);
        let (id, item) = match random.random_range(0..4) {
            _ if ids.is_empty() || grows && random.random() => (n, Some(Item::random(&mut random))),
            0 => (*ids.iter().min_by_key(|id| value(id)).unwrap(), None),
            1 => (*ids.iter().max_by_key(|id| value(id)).unwrap(), None),
            2 => (ids[random.random_range(0..ids.len())], None),
            _ => (ids[random.random_range(0..ids.len())], Some(Item::random(&mut random))),
        };
        let before = world.items.get(&id).copied();
        world.change(id, item);
        if let Some(before) = before.filter(|_| item.is_none()) {
            let left = |f: &dyn Fn(i64) -> bool| world.of_group[&before.g].iter().all(|id| f(world.items[id].v));
            minima += u64::from(left(&|v| v > before.v));
            fewer += u64::from(left(&|v| v != before.v));
        }
        for g in before.iter().chain(&item).map(|i| i.g).collect::<BTreeSet<_>>() {
            world.check(g);
        }
    }
    (0..GROUPS).for_each(|g| world.check(g));
    eprintln!("{changes} changes: {minima} minima gone, {fewer} values gone of which there was one");
    assert!(minima > changes / 20 && fewer > changes / 20, "{minima} minima, {fewer} values");
}
