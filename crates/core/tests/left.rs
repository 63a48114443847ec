//! A result that is held stays a while after the last who listened has gone: who comes back is told what happened meanwhile, who
//! comes anew is answered without reading; and nobody is told again what was withdrawn.
#![allow(clippy::unwrap_used)]

#[path = "common/interval.rs"]
mod interval;

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::engine::{Engine, Input, Limits, Output, Request, Resume, ResyncReason, SnapshotId, SubId};
use gossip_core::position::{Interval, Old, Position, Reset, ResetReason, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::seal::Cursor;
use gossip_core::value::{Type, Value};
use interval::interval;

const SECOND: i64 = 1_000_000;
const GROUPS: &str = "SELECT pilot, count(*) AS calls FROM calls GROUP BY pilot";

fn table(name: &str, columns: &[(&str, Type)]) -> Arc<Table> {
    let column = |(name, ty): &(&str, Type)| Column { name: (*name).into(), ty: *ty };
    Arc::new(Table {
        name: TableName::plain(name),
        source: "s".into(),
        columns: columns.iter().map(column).collect(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

fn calls() -> Arc<Table> {
    table("calls", &[("id", Type::Int8), ("pilot", Type::Text), ("until", Type::Timestamptz)])
}

fn crew() -> Arc<Table> {
    table("crew", &[("id", Type::Int8), ("pilot", Type::Text)])
}

fn member(id: i64, pilot: &str) -> Row {
    [Value::Int(id), pilot.into()].into()
}

/// What a subscription is told: the positions of deltas, how its answer came about, and how often the table was read.
#[derive(Debug, Default, PartialEq)]
struct Told {
    deltas: Vec<u64>,
    resumed: bool,
    result: Option<ResyncReason>,
    reads: usize,
}

struct Bench {
    engine: Engine,
    rows: BTreeMap<i64, Row>,
    at: u64,
    clock: i64,
    fingerprint: u64,
    /// Microseconds between two deltas.
    every: i64,
    /// Reads that are not answered yet; `None` where they are answered at once.
    reading: Option<Vec<(SnapshotId, bool)>>,
}

impl Bench {
    fn new(rows: Option<&str>) -> Bench {
        let rule = RuleText { role: "all".into(), table: TableName::plain("calls"), ..RuleText::default() };
        let rule = RuleText { rows: rows.map(String::from), ..rule };
        let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
        engine.handle(Input::Table(calls()));
        engine.handle(Input::Table(crew()));
        let mut bench = Bench {
            engine,
            rows: BTreeMap::new(),
            at: 0,
            clock: 1_000 * SECOND,
            fingerprint: 0,
            every: 0,
            reading: None,
        };
        (0..10).for_each(|id| drop(bench.put(id, "ada")));
        bench
    }

    fn change(&mut self, table: Arc<Table>, old: Option<Row>, new: Option<Row>, resets: Vec<Reset>) -> Told {
        self.at += 1;
        let key = new.as_ref().or(old.as_ref()).unwrap()[0].clone();
        let change = RowChange::of(&Identified::new(table), [key].into(), Old::Known(old), new);
        let interval = Interval { resets, ..(*interval(self.at, vec![change])).clone() };
        self.handle(Input::Interval(Arc::new(interval)))
    }

    /// A row comes, and so many commits up to that are read as one.
    fn joined(&mut self, commits: u64, table: Arc<Table>, new: Row) -> Told {
        let from = Position::at(self.at);
        self.at += commits;
        let change = RowChange::of(&Identified::new(table), [new[0].clone()].into(), Old::Known(None), Some(new));
        let read = interval(self.at, vec![change]);
        let one = Transaction { inexact_after: Some(from), ..(*read.transactions[0]).clone() };
        self.handle(Input::Interval(Arc::new(Interval { from, transactions: vec![Arc::new(one)], ..(*read).clone() })))
    }

    fn put(&mut self, id: i64, pilot: &str) -> Told {
        let row: Row = [Value::Int(id), pilot.into(), Value::Null].into();
        let old = self.rows.insert(id, row.clone());
        self.change(calls(), old, Some(row), vec![])
    }

    fn handle(&mut self, input: Input) -> Told {
        self.engine.set_clock(self.clock);
        let mut outputs = std::collections::VecDeque::from(self.engine.handle(input));
        let mut told = Told::default();
        while let Some(output) = outputs.pop_front() {
            match output {
                Output::FetchSnapshot { id, plan, .. } => {
                    told.reads += 1;
                    let of_calls = plan.table().name == calls().name;
                    match &mut self.reading {
                        Some(reading) => reading.push((id, of_calls)),
                        None => outputs.extend(self.read(id, of_calls)),
                    }
                }
                Output::Result { to, feed, .. } => {
                    (told.result, self.fingerprint) = (to.first().map(|(_, why)| *why), feed.fingerprint);
                }
                Output::Resumed { .. } => told.resumed = true,
                Output::Delta(delta, _) => told.deltas.push(delta.position.commit),
                Output::Closed(_, why) => panic!("{why:?}"),
                _ => {}
            }
        }
        told
    }

    fn read(&mut self, id: SnapshotId, of_calls: bool) -> Vec<Output> {
        let members = || vec![member(1, "ada"), member(2, "bo")];
        let rows = if of_calls { self.rows.values().cloned().collect() } else { members() };
        let mut outputs = self.engine.handle(Input::SnapshotRows(id, rows));
        let shows = SnapshotPoint::UpTo(Position::at(self.at));
        outputs.extend(self.engine.handle(Input::SnapshotDone(id, shows)));
        outputs
    }

    fn subscribe(&mut self, sub: SubId, query: &str, cursor: Option<u64>) -> Told {
        let claims = Arc::new(Claims { roles: vec!["all".into()], ..Claims::default() });
        let (query_hash, every) = (self.fingerprint, self.every);
        let cursor = cursor.map(|commit| Cursor {
            source: "s".into(),
            epoch: 1,
            timeline: 0,
            commit,
            index: Position::at(commit).index,
            query: query_hash,
            moment: 0,
        });
        let resume = cursor.map(|cursor| Box::new(Resume::At(cursor)));
        let request = Request { query: query.into(), claims, resume, every, ..Request::default() };
        self.handle(Input::Subscribe(sub, Box::new(request)))
    }

    /// Somebody listens beside others, and leaves.
    fn somebody_leaves(&mut self) {
        self.subscribe(90, GROUPS, None);
        self.handle(Input::Leave(90));
    }

    fn pass(&mut self, seconds: i64) {
        self.clock += seconds * SECOND;
        self.handle(Input::Tick);
    }
}

fn first() -> Told {
    Told { result: Some(ResyncReason::First), ..Told::default() }
}

#[test]
fn who_comes_back_is_told_what_happened_meanwhile() {
    let mut bench = Bench::new(None);
    assert_eq!(bench.subscribe(1, GROUPS, None), Told { reads: 1, ..first() });
    let left_at = bench.at;
    bench.handle(Input::Leave(1));
    bench.pass(29);
    assert_eq!((bench.put(20, "bo"), bench.put(21, "ada")), (Told::default(), Told::default()), "nobody listens");
    let back = Told { deltas: vec![left_at + 1, left_at + 2], resumed: true, ..Told::default() };
    assert_eq!(bench.subscribe(2, GROUPS, Some(left_at)), back);
    assert_eq!(bench.subscribe(3, GROUPS, None), first(), "answered without reading");
    assert_eq!(bench.put(22, "cy").deltas, [left_at + 3]);
    // Nobody was told of a commit that this result never began with.
    assert_eq!(bench.subscribe(4, GROUPS, Some(left_at - 1)).result, Some(ResyncReason::ResumedTooLate));
    [2, 3, 4].into_iter().for_each(|sub| drop(bench.handle(Input::Leave(sub))));
    bench.pass(31);
    assert_eq!(bench.engine.feeds().count(), 0);
    assert_eq!(bench.subscribe(5, GROUPS, None), Told { reads: 1, ..first() });
}

#[test]
fn no_more_is_remembered_than_rows_are_held() {
    let mut bench = Bench::new(None);
    bench.subscribe(1, GROUPS, None);
    bench.somebody_leaves();
    let begin = bench.at;
    (0..100).for_each(|n| drop(bench.put(5, if n % 2 == 0 { "bo" } else { "ada" })));
    // Of ten rows: two groups change each time, and 16 changes are remembered at least.
    let back = bench.subscribe(2, GROUPS, Some(begin + 92));
    assert_eq!((back.resumed, back.deltas.len()), (true, 8));
    assert_eq!(bench.subscribe(3, GROUPS, Some(begin + 91)).result, Some(ResyncReason::ResumedTooLate));
    // When nobody has left for a while, nothing but the newest state is known.
    bench.pass(31);
    bench.put(5, "cy");
    assert_eq!(bench.subscribe(4, GROUPS, Some(begin + 100)).result, Some(ResyncReason::ResumedTooLate));
    assert!(bench.subscribe(5, GROUPS, Some(begin + 101)).resumed);
}

#[test]
fn what_was_withdrawn_is_not_told_to_who_comes_back() {
    let mut bench = Bench::new(Some("pilot IN (SELECT pilot FROM crew)"));
    bench.subscribe(1, GROUPS, None);
    let begin = bench.at;
    bench.put(20, "bo");
    bench.handle(Input::Leave(1));
    bench.change(crew(), Some(member(2, "bo")), None, vec![]);
    let back = bench.subscribe(2, GROUPS, Some(begin));
    assert_eq!(back, Told { result: Some(ResyncReason::RightsChanged), ..Told::default() }, "it is still there");
}

/// What the result was at a commit that was read together with others, only another instance knows, also where nothing of the
/// result is different after all of them.
#[test]
fn a_cursor_from_among_commits_that_were_read_as_one_is_of_no_use() {
    let mut bench = Bench::new(None);
    bench.subscribe(1, GROUPS, None);
    bench.somebody_leaves();
    let begin = bench.at;
    let back = |bench: &mut Bench, sub, at| {
        let told = bench.subscribe(sub, GROUPS, Some(at));
        (told.resumed, told.result)
    };
    let too_late = (false, Some(ResyncReason::ResumedTooLate));
    bench.joined(4, crew(), member(3, "cy"));
    assert_eq!(back(&mut bench, 2, begin), (true, None));
    (begin + 1..begin + 4).zip(3..).for_each(|(at, sub)| assert_eq!(back(&mut bench, sub, at), too_late, "{at}"));
    assert_eq!(back(&mut bench, 6, begin + 4), (true, None));
    // Also when it is so long ago that only this is known of it.
    (0..2_100).for_each(|n| drop(bench.change(crew(), None, Some(member(n, "ada")), vec![])));
    assert_eq!(back(&mut bench, 7, begin + 3), too_late);
    assert_eq!(back(&mut bench, 8, begin + 4), (true, None), "nothing has changed since");
}

/// What the result was at a commit that was told together with a later one, only another instance knows.
#[test]
fn a_cursor_from_between_two_deltas_is_of_no_use() {
    let mut bench = Bench::new(None);
    bench.every = 2 * SECOND;
    bench.subscribe(1, GROUPS, None);
    bench.somebody_leaves();
    let begin = bench.at;
    bench.put(20, "bo");
    bench.put(21, "bo");
    bench.pass(3);
    assert_eq!(bench.subscribe(2, GROUPS, Some(begin + 1)).result, Some(ResyncReason::ResumedTooLate));
    assert_eq!(bench.subscribe(3, GROUPS, Some(begin)).deltas, [begin + 2]);

    // The same where rows had to be read first.
    let mut bench = Bench::new(Some("pilot NOT IN (SELECT pilot FROM crew WHERE id > 1)"));
    bench.subscribe(1, GROUPS, None);
    bench.somebody_leaves();
    let begin = bench.at;
    bench.reading = Some(vec![]);
    bench.change(crew(), Some(member(2, "bo")), None, vec![]);
    bench.put(20, "cy");
    let reading = bench.reading.take().unwrap();
    assert_eq!(reading.len(), 1);
    reading.into_iter().for_each(|(id, of_calls)| drop(bench.read(id, of_calls)));
    assert_eq!(bench.subscribe(2, GROUPS, Some(begin + 1)).result, Some(ResyncReason::ResumedTooLate));
    assert_eq!(bench.subscribe(3, GROUPS, Some(begin)).deltas, [begin + 2]);
}

#[test]
fn a_result_that_changes_by_itself_does_not_stay() {
    for (rows, query) in
        [(None, "SELECT id FROM calls WHERE until > now()"), (Some("until > now()"), "SELECT id FROM calls")]
    {
        let mut bench = Bench::new(rows);
        bench.subscribe(1, query, None);
        bench.handle(Input::Leave(1));
        assert_eq!(bench.engine.feeds().count(), 0, "{query}");
    }
}

#[test]
fn what_stays_for_nobody_is_let_go_where_it_would_have_to_be_read() {
    let mut bench = Bench::new(None);
    // More of them than may stay: those that were left first go.
    for n in 0..300 {
        let query = format!("SELECT pilot, count(*) AS calls FROM calls WHERE id <> -{} GROUP BY pilot", n + 1);
        bench.subscribe(n, &query, None);
        bench.handle(Input::Leave(n));
    }
    assert_eq!(bench.engine.feeds().count(), 256);
    // A condition that is long, and evaluated for every change.
    let many: Vec<String> = (0..20).map(|n| format!("id + {n} <> 7")).collect();
    bench.subscribe(900, &format!("SELECT count(*) AS n FROM calls WHERE {}", many.join(" AND ")), None);
    bench.handle(Input::Leave(900));
    assert_eq!(bench.engine.feeds().count(), 256);
    let reset = Reset { name: calls().name.clone(), table: Some(calls()), why: ResetReason::Truncated };
    let told = bench.change(calls(), None, Some([Value::Int(99), "ada".into(), Value::Null].into()), vec![reset]);
    assert_eq!((told.reads, bench.engine.feeds().count()), (0, 0));

    // The same where it is a table that rules ask.
    let mut bench = Bench::new(Some("pilot IN (SELECT pilot FROM crew)"));
    bench.subscribe(1, GROUPS, None);
    bench.handle(Input::Leave(1));
    assert_eq!(bench.engine.feeds().count(), 2);
    let reset = Reset { name: crew().name.clone(), table: Some(crew()), why: ResetReason::Truncated };
    let told = bench.change(crew(), None, Some(member(3, "cy")), vec![reset]);
    assert_eq!((told.reads, bench.engine.feeds().count()), (0, 0));
}
