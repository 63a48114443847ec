//! An explanation says where a row stands in a window.
#![allow(clippy::unwrap_used)]

#[path = "common/interval.rs"]
mod interval;

use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Output, Request};
use gossip_core::explain::{Passed, Step};
use gossip_core::position::{Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use interval::interval;

fn row(id: i64, n: i64) -> Row {
    [Value::Int(id), Value::Int(n)].into()
}

struct World {
    engine: Engine,
    table: Arc<Table>,
    at: u64,
}

impl World {
    /// Rows 1 to 6 whose `n` is ten times as much, and a subscriber of the two after the first.
    fn new() -> World {
        let column = |name: &str| Column { name: name.into(), ty: Type::Int8 };
        let (name, columns) = (TableName::plain("t"), vec![column("id"), column("n")]);
        let table =
            Arc::new(Table { name, source: "s".into(), columns, key: vec![0], old_values: true, incarnation: 0 });
        let rule = RuleText { role: "all".into(), table: table.name.clone(), ..RuleText::default() };
        let limits = Limits { reserve: 1, ..Limits::default() };
        let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), limits);
        engine.handle(Input::Table(table.clone()));
        let mut world = World { engine, table, at: 0 };
        world.commit(vec![]);
        let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
        let query = "SELECT * FROM t ORDER BY n, id LIMIT 2 OFFSET 1".into();
        let asked = world.engine.handle(Input::Subscribe(1, Box::new(Request { query, claims, ..Request::default() })));
        let fetch = asked.iter().find_map(|o| match o {
            Output::FetchSnapshot { id, request, .. } => Some((*id, request.page.as_ref()?.limit?)),
            _ => None,
        });
        let (id, limit) = fetch.unwrap();
        let rows = (1..=6).map(|id| row(id, id * 10)).take(limit).collect();
        world.engine.handle(Input::SnapshotRows(id, rows));
        world.engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1))));
        world
    }

    fn commit(&mut self, changes: Vec<RowChange>) -> Arc<Transaction> {
        self.at += 1;
        let interval = interval(self.at, changes);
        self.engine.handle(Input::Interval(interval.clone()));
        interval.transactions[0].clone()
    }

    /// The step of a change of a row's `n`.
    fn step(&mut self, id: i64, was: i64, is: i64) -> Step {
        let (old, new) = (Old::Known(Some(row(id, was))), Some(row(id, is)));
        let change = RowChange::of(&Identified::new(self.table.clone()), [Value::Int(id)].into(), old, new);
        let t = self.commit(vec![change]);
        let feed = self.engine.feed_of_subscription(1).unwrap().id;
        self.engine.window_step(feed, &t).unwrap()
    }
}

#[test]
fn a_row_has_a_place_before_in_or_behind_the_window() {
    let mut world = World::new();
    let mut tell = |id, was, is| {
        let step = world.step(id, was, is);
        assert_eq!(step.text, "the window has the places 1 to 2");
        (step.verdict == Passed::Yes, step.values.join("; "))
    };
    let as_now = "among the rows as they are now";
    let behind = "behind the first 4 rows, as they are now";
    assert_eq!(tell(6, 60, 55), (false, format!("as it became: {behind}; as it was: {behind}")));
    let within = format!("as it became: place 2 {as_now}; as it was: place 2 {as_now}");
    assert_eq!(tell(3, 30, 25), (true, within));
    let last = format!("as it became: place 3 {as_now}; as it was: place 3 {as_now}");
    assert_eq!(tell(4, 40, 39), (false, last), "it is held in reserve");
    let left = format!("as it became: {}; as it was: place 1 {as_now}", behind.replace('4', "3"));
    assert_eq!(tell(2, 20, 90), (true, left));
    let before = format!("as it became: place 0 {as_now}; as it was: place 0 {as_now}");
    assert_eq!(tell(1, 10, 9), (true, before), "a row before the window moves it");
}
