//! Joined results: what can be joined, what is read for it and by whom it is shared, and that nothing of it stays.
#![allow(clippy::unwrap_used)]

#[path = "common/interval.rs"]
mod interval;

use std::sync::Arc;

use gossip_core::budget::Owner;
use gossip_core::engine::{Engine, Input, Limits, Output, Refusal, Request, Resume, SnapshotId, SubId};
use gossip_core::explain::{Passed, explain};
use gossip_core::feed::Change;
use gossip_core::plan::Wanted;
use gossip_core::position::{Old, Position, Reset, ResetReason, RowChange, SnapshotPoint};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, TOPIC_SOURCE, Table, TableName};
use gossip_core::seal::Cursor;
use gossip_core::value::{Type, Value};
use interval::interval;

fn table(name: &str, source: &str, key: &[usize], columns: &[(&str, Type)]) -> Arc<Table> {
    let column = |(name, ty): &(&str, Type)| Column { name: (*name).into(), ty: *ty };
    Arc::new(Table {
        name: TableName::plain(name),
        source: source.into(),
        columns: columns.iter().map(column).collect(),
        key: key.to_vec(),
        old_values: true,
        incarnation: 0,
    })
}

fn messages() -> Arc<Table> {
    table("messages", "s", &[0], &[("id", Type::Int8), ("sender", Type::Int4), ("body", Type::Text)])
}

fn users() -> Arc<Table> {
    table("users", "s", &[0], &[("id", Type::Int8), ("name", Type::Text), ("until", Type::Timestamptz)])
}

fn engine() -> Engine {
    engine_with(Limits::default())
}

fn engine_with(limits: Limits) -> Engine {
    let rule = |name: &str| RuleText { role: "anonymous".into(), table: TableName::plain(name), ..RuleText::default() };
    let mut rules: Vec<RuleText> = ["messages", "users", "lines", "log", "elsewhere", "tide"].map(rule).to_vec();
    rules.push(RuleText { rows: Some("until > now()".into()), ..rule("passes") });
    let mut engine = Engine::new(Arc::new(RuleSet::new(rules)), limits);
    let id = ("id", Type::Int8);
    for table in [
        messages(),
        users(),
        table("lines", "s", &[0, 1], &[("order", Type::Int8), ("no", Type::Int8)]),
        table("log", "s", &[], &[id]),
        table("passes", "s", &[0], &[id, ("until", Type::Timestamptz)]),
        table("elsewhere", "other", &[0], &[id]),
        table("tide", TOPIC_SOURCE, &[0], &[id]),
        table("unseen", "s", &[0], &[id]),
    ] {
        engine.handle(Input::Table(table));
    }
    engine.handle(Input::Interval(interval(1, vec![])));
    engine
}

fn request(query: &str) -> Request {
    Request { query: query.into(), claims: Arc::new(Claims::anonymous()), ..Request::default() }
}

#[test]
fn what_cannot_be_joined_is_refused_at_its_place() {
    let engine = engine();
    for (rest, at, words) in [
        ("JOIN users u ON u.name = m.body", "JOIN", "u is not joined by its whole key; expected ON u.id = …"),
        ("JOIN users u ON u.id > m.sender", "JOIN", "u is not joined by its whole key"),
        ("LEFT JOIN messages x ON x.sender = m.id", "LEFT", "x is not joined by its whole key"),
        ("LEFT JOIN lines l ON l.order = m.id", "LEFT", "ON l.order = … AND l.no = …"),
        ("JOIN users u ON u.id = m.body", "m.body", "int8 cannot be compared with text"),
        (
            "JOIN users ON users.id = m.id JOIN users ON users.id = 1",
            "users ON users.id = 1",
            "a second table that is called users",
        ),
        ("JOIN users m ON m.id = 1", "users", "a second table that is called m"),
        ("JOIN log l ON l.id = m.id", "log", "log has no key"),
        ("JOIN elsewhere e ON e.id = m.id", "elsewhere", "elsewhere is of another source"),
        ("JOIN tide t ON t.id = m.id", "tide", "are not both tables of a database"),
        ("JOIN unseen u ON u.id = m.id", "unseen", "unseen is not known or not permitted"),
        (
            "JOIN users u ON u.id = m.sender AND EXISTS (SELECT 1 FROM users)",
            "SELECT 1",
            "a sub-select cannot stand here",
        ),
        (
            "JOIN users u ON u.id = m.sender WHERE id = 1",
            "id = 1",
            "id is a column of several tables; expected m.id or u.id",
        ),
        ("JOIN users u ON u.id = m.sender WHERE u.nothing = 1", "nothing", "column u.nothing is not known"),
        ("JOIN users u ON u.id = x.id JOIN users x ON x.id = m.id", "id JOIN users x", "column x.id is not known"),
        (
            "JOIN users u ON u.id = m.sender WHERE u.until > now()",
            "SELECT",
            "NOW() beside a column of a table that is joined",
        ),
        ("RIGHT JOIN users u ON u.id = m.sender", "RIGHT", "JOIN … ON … or LEFT JOIN … ON …"),
        ("JOIN users u WHERE m.id = 1", "WHERE", "ON and what the tables have in common"),
        (", users u", ",", "JOIN … ON …, or WHERE"),
        ("WHERE m.id IN (SELECT u.id FROM users u JOIN users x ON x.id = u.id)", "JOIN", "a join in a sub-select"),
    ] {
        let query = format!("SELECT m.id FROM messages m {rest}");
        let e = engine.compile(&request(&query)).expect_err(&query).to_string();
        let column = query.find(at).unwrap() + 1;
        assert!(e.contains(words) && e.starts_with(&format!("line 1, column {column}:")), "{query}: {e}");
    }
    for (query, words) in [
        ("SELECT * FROM messages m JOIN users u ON u.id = m.sender", "a second column id"),
        ("SELECT m.id FROM messages m JOIN passes p ON p.id = m.id", "a rule on passes names NOW()"),
        (
            "SELECT a.id FROM users a JOIN users b ON b.id = a.id JOIN users c ON c.id = a.id JOIN users d ON d.id = a.id \
             JOIN users e ON e.id = a.id",
            "at most 4",
        ),
        ("SELECT x.* FROM messages m", "table x is not known"),
    ] {
        let e = engine.compile(&request(query)).expect_err(query).to_string();
        assert!(e.contains(words), "{query}: {e}");
    }
    let plan = engine.compile(&request("SELECT u.name, m.* FROM users u JOIN messages m ON m.sender = u.id")).unwrap();
    let names: Vec<&str> = plan.output().map(|c| c.name).collect();
    assert_eq!((&*plan.table().name.name, names), ("messages", vec!["name", "id", "sender", "body"]));
    let keys: Vec<&str> = plan.output().filter(|c| c.key).map(|c| c.name).collect();
    assert_eq!(keys, ["id"]);
}

fn message(id: i64, sender: i64) -> Row {
    [Value::Int(id), Value::Int(sender), "b".into()].into()
}

fn user(id: i64, name: &str) -> Row {
    [Value::Int(id), name.into(), Value::Null].into()
}

fn change(table: &Arc<Table>, old: Option<Row>, new: Option<Row>) -> RowChange {
    let key = [old.as_ref().or(new.as_ref()).unwrap()[0].clone()].into();
    RowChange::of(&Identified::new(table.clone()), key, Old::Known(old), new)
}

/// What is to be read: of which table, and which keys; `None` for all.
fn reads(outputs: &[Output]) -> Vec<(SnapshotId, String, Option<Vec<Value>>)> {
    let read = |o: &Output| match o {
        Output::FetchSnapshot { id, request, .. } => {
            let keys = request.filter.as_ref().map(|filter| match &filter.wanted() {
                [(0, Wanted::Any(values))] => values.clone(),
                other => panic!("{other:?}"),
            });
            Some((*id, request.table.name.to_string(), keys))
        }
        _ => None,
    };
    outputs.iter().filter_map(read).collect()
}

fn answer(engine: &mut Engine, id: SnapshotId, rows: Vec<Row>, at: u64) -> Vec<Output> {
    let mut outputs = engine.handle(Input::SnapshotRows(id, rows));
    outputs.extend(engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(at)))));
    outputs
}

/// The texts of the second column that a subscription is told, in the order of its keys.
fn told(outputs: &[Output], sub: SubId) -> Vec<String> {
    let second = |seen: &gossip_core::plan::VisibleRow| seen.row[1].to_string();
    let mut told = Vec::new();
    for o in outputs {
        match o {
            Output::Result { to, rows, .. } if to.iter().any(|(to, _)| *to == sub) => {
                told.extend(rows.iter().map(|(_, seen)| second(seen)));
            }
            Output::Delta(delta, audience) if audience.as_slice().contains(&sub) => {
                told.extend(delta.changes.iter().map(|c| match c {
                    Change::Add { row, .. } | Change::Replace { row, .. } => second(row),
                    Change::Remove { .. } => "gone".into(),
                }));
            }
            _ => {}
        }
    }
    told
}

const LEFT: &str = "SELECT m.id, u.name FROM messages m LEFT JOIN users u ON u.id = m.sender";
const INNER: &str = "SELECT m.id, u.name FROM users u JOIN messages m ON m.sender = u.id";

#[test]
fn partners_are_read_by_their_keys_once_for_all_and_nothing_stays() {
    let mut engine = engine();
    let subscribe = |sub: SubId, query: &str| Input::Subscribe(sub, Box::new(request(query)));
    let first = engine.handle(subscribe(1, LEFT));
    let outputs = answer(&mut engine, reads(&first)[0].0, vec![message(1, 7), message(2, 7), message(3, 8)], 1);
    assert_eq!(told(&outputs, 1), [""; 0], "nobody is shown that a partner is missing that is merely late");
    let asked = reads(&outputs);
    assert_eq!((asked.len(), &*asked[0].1, &asked[0].2), (1, "users", &Some(vec![Value::Int(7), Value::Int(8)])));
    // Somebody else who joins them, meanwhile.
    let second = engine.handle(subscribe(2, INNER));
    let of_second = answer(&mut engine, reads(&second)[0].0, vec![message(1, 7), message(2, 7), message(3, 8)], 1);
    assert_eq!(reads(&of_second), [], "what is being read is not read again");
    let outputs = answer(&mut engine, asked[0].0, vec![user(7, "ada")], 1);
    assert_eq!(told(&outputs, 1), ["'ada'", "'ada'", "NULL"]);
    assert_eq!(told(&outputs, 2), ["'ada'", "'ada'"]);
    // A row that comes under a key that is missed, and one that nobody asks for.
    let outputs = engine.handle(Input::Interval(interval(
        2,
        vec![change(&users(), None, Some(user(8, "bo"))), change(&users(), None, Some(user(9, "cy")))],
    )));
    assert_eq!((told(&outputs, 1), told(&outputs, 2)), (vec!["'bo'".into()], vec!["'bo'".to_string()]));
    let outputs =
        engine.handle(Input::Interval(interval(3, vec![change(&users(), Some(user(7, "ada")), Some(user(7, "eve")))])));
    assert_eq!(told(&outputs, 1), ["'eve'", "'eve'"]);
    // A change of message and sender in one transaction is one change of the result.
    let both = vec![
        change(&messages(), Some(message(3, 8)), Some(message(3, 7))),
        change(&users(), Some(user(7, "eve")), None),
    ];
    let outputs = engine.handle(Input::Interval(interval(4, both)));
    assert_eq!((told(&outputs, 1), told(&outputs, 2)), (vec!["NULL".into(); 3], vec!["gone".to_string(); 3]));
    assert_eq!(reads(&outputs), [], "it is known that there is none");
    // An emptied table: all partners are read again, and the difference is told.
    let reset = Reset { name: TableName::plain("users"), table: Some(users()), why: ResetReason::Truncated };
    let mut emptied = (*interval(5, vec![])).clone();
    emptied.resets = vec![reset];
    let outputs = engine.handle(Input::Interval(Arc::new(emptied)));
    let asked = reads(&outputs);
    assert_eq!((asked.len(), &asked[0].2), (1, &Some(vec![Value::Int(7)])));
    let outputs = answer(&mut engine, asked[0].0, vec![user(7, "new")], 5);
    assert_eq!(told(&outputs, 1), ["'new'"; 3]);
    engine.handle(Input::Unsubscribe(1));
    assert_eq!(engine.feeds().count(), 2, "the second still asks");
    engine.handle(Input::Unsubscribe(2));
    assert_eq!((engine.feeds().count(), engine.held_bytes()), (0, 0));
}

#[test]
fn a_table_that_cannot_be_read_or_is_gone_closes_those_who_join_it() {
    for gone in [false, true] {
        let mut engine = engine();
        let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
        let outputs = answer(&mut engine, reads(&first)[0].0, vec![message(1, 7)], 1);
        let mut read = reads(&outputs)[0].0;
        let mut closed = Vec::new();
        if gone {
            let reset = Reset { name: TableName::plain("users"), table: None, why: ResetReason::SchemaChanged };
            let mut dropped = (*interval(2, vec![])).clone();
            dropped.resets = vec![reset];
            closed = engine.handle(Input::Interval(Arc::new(dropped)));
        } else {
            for _ in 0..Limits::default().attempts {
                closed = engine.handle(Input::SnapshotFailed(read, "it hangs".into()));
                let again = engine.handle(Input::Tick);
                read = reads(&again).first().map_or(read, |(id, ..)| *id);
            }
        }
        let refusal = closed.iter().find_map(|o| if let Output::Closed(1, why) = o { Some(why.clone()) } else { None });
        let expected =
            |r: &Refusal| matches!((gone, r), (true, Refusal::SchemaChanged(_)) | (false, Refusal::Unavailable(_)));
        assert!(refusal.as_ref().is_some_and(expected), "{refusal:?}");
        assert_eq!((engine.feeds().count(), engine.held_bytes()), (0, 0));
    }
}

/// What the stream has told of a row meanwhile is newer than what a read brings of it.
#[test]
fn a_read_does_not_overtake_the_stream() {
    let mut engine = engine();
    let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
    let outputs = answer(&mut engine, reads(&first)[0].0, vec![message(1, 7), message(2, 8), message(3, 9)], 1);
    let read = reads(&outputs)[0].0;
    let changes =
        vec![change(&users(), Some(user(7, "ada")), Some(user(7, "eve"))), change(&users(), Some(user(8, "bo")), None)];
    engine.handle(Input::SnapshotRows(read, vec![user(7, "ada"), user(8, "bo")]));
    let outputs = engine.handle(Input::Interval(interval(2, changes)));
    assert_eq!(told(&outputs, 1), [""; 0], "one of them is still not known");
    let outputs = answer(&mut engine, read, vec![user(7, "ada"), user(9, "cy")], 1);
    assert_eq!(told(&outputs, 1), ["'eve'", "NULL", "'cy'"]);
}

/// A result that lacks a partner at every moment is told all the same, in the order of the commits, with partners as they were then.
#[test]
fn what_always_lacks_some_partner_is_told_commit_by_commit() {
    let positions = |outputs: &[Output]| -> Vec<u64> {
        let of = |o: &Output| match o {
            Output::Delta(delta, _) => Some(delta.position.commit),
            Output::Result { position, .. } => Some(position.commit),
            _ => None,
        };
        outputs.iter().filter_map(of).collect()
    };
    let mut engine = engine();
    let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
    let outputs = answer(&mut engine, reads(&first)[0].0, vec![message(1, 7)], 1);
    answer(&mut engine, reads(&outputs)[0].0, vec![user(7, "ada")], 1);
    let commit = |engine: &mut Engine, at: u64, id: i64, sender: i64, more: Option<RowChange>| {
        let changes = [change(&messages(), None, Some(message(id, sender)))].into_iter().chain(more).collect();
        engine.handle(Input::Interval(interval(at, changes)))
    };
    let read = reads(&commit(&mut engine, 2, 2, 8, None))[0].0;
    // Somebody who comes now may know already what came after the second commit.
    engine.handle(Input::Subscribe(2, Box::new(request(LEFT))));
    let outputs = commit(&mut engine, 3, 3, 9, Some(change(&users(), Some(user(7, "ada")), Some(user(7, "amy")))));
    assert_eq!((told(&outputs, 1), reads(&outputs)), (vec![], vec![]));
    let outputs = answer(&mut engine, read, vec![user(8, "bo")], 3);
    assert_eq!((told(&outputs, 1), positions(&outputs)), (vec!["'bo'".into()], vec![2]));
    let asked = reads(&outputs);
    assert_eq!(asked[0].2, Some(vec![Value::Int(9)]));
    // Who comes back goes on from there, and not from a commit that is not told yet.
    for (sub, commit) in [(3, 2), (4, 3)] {
        let query = engine.plan(1).unwrap().fingerprint;
        let cursor = Cursor { source: "s".into(), epoch: 1, timeline: 0, commit, index: 0, query, moment: 0 };
        let resume = Some(Box::new(Resume::At(cursor)));
        let outputs = engine.handle(Input::Subscribe(sub, Box::new(Request { resume, ..request(LEFT) })));
        let resumed = outputs.iter().any(|o| matches!(o, Output::Resumed { .. }));
        assert_eq!(resumed, commit == 2, "{commit}");
        engine.handle(Input::Unsubscribe(sub));
    }
    // The stream tells what the partner is, and by that what it was.
    let outputs = commit(&mut engine, 4, 4, 10, Some(change(&users(), Some(user(9, "cy")), Some(user(9, "dy")))));
    assert_eq!((told(&outputs, 1), positions(&outputs)), (vec!["'amy'".into(), "'cy'".into()], vec![3, 3]));
    assert_eq!(told(&outputs, 2), ["'amy'", "'bo'", "'cy'"]);
    let outputs = answer(&mut engine, asked[0].0, vec![user(9, "cy")], 3);
    let outputs = answer(&mut engine, reads(&outputs)[0].0, vec![], 4);
    assert_eq!((told(&outputs, 1), positions(&outputs)), (vec!["'dy'".into(), "NULL".into()], vec![4]));
    // A row that is gone before its partner is known comes, and goes.
    let outputs = commit(&mut engine, 5, 5, 11, None);
    let gone = change(&messages(), Some(message(5, 11)), None);
    engine.handle(Input::Interval(interval(6, vec![change(&messages(), None, Some(message(6, 12))), gone])));
    let outputs = answer(&mut engine, reads(&outputs)[0].0, vec![user(11, "fay")], 6);
    assert_eq!((told(&outputs, 1), positions(&outputs)), (vec!["'fay'".into()], vec![5]));
    let outputs = answer(&mut engine, reads(&outputs)[0].0, vec![user(12, "gus")], 6);
    assert_eq!((told(&outputs, 1), positions(&outputs)), (vec!["gone".into(), "'gus'".into()], vec![6]));
    engine.handle(Input::Unsubscribe(1));
    engine.handle(Input::Unsubscribe(2));
    assert_eq!((engine.feeds().count(), engine.held_bytes()), (0, 0));
}

/// Nobody waits until all is released that a large result had asked for, nor until several large differences are told.
#[test]
fn large_things_are_done_in_steps() {
    let mut engine = engine();
    let queries = [LEFT.to_string(), LEFT.replace("u.name", "u.name, m.body")];
    let rows: Vec<Row> = (1..=2_500).map(|id| message(id, if id > 1_000 { id } else { 9 })).collect();
    for (sub, query) in (1..).zip(&queries) {
        let mut outputs = engine.handle(Input::Subscribe(sub, Box::new(request(query))));
        let mut of_rows = true;
        while let Some((read, ..)) = reads(&outputs).first().cloned() {
            let rows = if std::mem::take(&mut of_rows) { rows.clone() } else { vec![] };
            outputs = answer(&mut engine, read, rows, 1);
        }
        assert_eq!(told(&outputs, sub).len(), 2_500);
    }
    let outputs = engine.handle(Input::Interval(interval(2, vec![change(&users(), None, Some(user(9, "ida")))])));
    assert_eq!((told(&outputs, 1).len(), told(&outputs, 2).len()), (1_000, 0));
    assert!(engine.has_more_to_do());
    assert_eq!(told(&engine.handle(Input::Proceed), 2).len(), 1_000);
    assert!(!engine.has_more_to_do());
    let mut steps = 0;
    for sub in [1, 2] {
        engine.handle(Input::Unsubscribe(sub));
        while engine.has_more_to_do() {
            engine.handle(Input::Proceed);
            steps += 1;
        }
    }
    assert_eq!((steps, engine.feeds().count(), engine.held_bytes()), (2, 0, 0));
}

/// What is read of a result is taken as it comes, and means nothing if it is read again.
#[test]
fn partners_are_asked_for_while_the_rows_are_read() {
    let mut engine = engine();
    let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
    let read = reads(&first)[0].0;
    let outputs = engine.handle(Input::SnapshotRows(read, vec![message(1, 7), message(2, 8)]));
    let of_users = reads(&outputs);
    assert_eq!(of_users[0].2, Some(vec![Value::Int(7), Value::Int(8)]));
    engine.handle(Input::SnapshotFailed(read, "it hangs".into()));
    let again = engine.handle(Input::Tick);
    let outputs = answer(&mut engine, reads(&again)[0].0, vec![message(1, 7)], 1);
    assert_eq!(told(&outputs, 1), [""; 0]);
    let outputs = answer(&mut engine, of_users[0].0, vec![user(7, "ada"), user(8, "bo")], 1);
    assert_eq!(told(&outputs, 1), ["'ada'"]);
}

/// Each who asks for rows of a table has a part of what is read at once.
#[test]
fn nobody_waits_for_all_that_another_asks_for() {
    let mut engine = engine();
    let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
    let many = (1..=2_500).map(|id| message(id, 10_000 + id)).collect();
    let outputs = answer(&mut engine, reads(&first)[0].0, many, 1);
    let asked = reads(&outputs);
    assert_eq!(asked[0].2.as_ref().map(Vec::len), Some(500));
    let second = engine.handle(Input::Subscribe(2, Box::new(request(&format!("{INNER} WHERE m.id = 9999")))));
    answer(&mut engine, reads(&second)[0].0, vec![message(9_999, 99_999)], 1);
    let outputs = answer(&mut engine, asked[0].0, vec![], 1);
    let next = reads(&outputs);
    assert!(next[0].2.as_ref().is_some_and(|keys| keys.len() == 500 && keys.contains(&Value::Int(99_999))));
    let outputs = answer(&mut engine, next[0].0, vec![user(99_999, "zoe")], 1);
    assert_eq!((told(&outputs, 2), told(&outputs, 1)), (vec!["'zoe'".to_string()], vec![]));
    let mut next = reads(&outputs);
    for _ in 0..4 {
        let outputs = answer(&mut engine, next[0].0, vec![], 1);
        if told(&outputs, 1).len() == 2_500 {
            return;
        }
        next = reads(&outputs);
    }
    panic!("the first has no result");
}

/// A part of the memory is not for one person alone.
#[test]
fn who_holds_much_gets_no_more() {
    let mut engine = engine_with(Limits { sent_bytes: 400_000, ..Limits::default() });
    let owned = |query: &str, who: &str| {
        let owner = Owner { subject: Some(who.into()), ..Owner::default() };
        Request { owner: Some(Arc::new(owner)), ..request(query) }
    };
    let first = engine.handle(Input::Subscribe(1, Box::new(owned(LEFT, "mallory"))));
    answer(&mut engine, reads(&first)[0].0, (1..300).map(|id| message(id, id)).collect(), 1);
    let query = format!("{LEFT} WHERE m.id = 1");
    let said =
        |outputs: Vec<Output>| outputs.into_iter().find(|o| matches!(o, Output::Closed(..))).map(|o| format!("{o:?}"));
    let more = said(engine.handle(Input::Subscribe(2, Box::new(owned(&query, "mallory")))));
    assert!(more.as_ref().is_some_and(|text| text.contains("one person or address, at most 100000 bytes")), "{more:?}");
    assert_eq!(said(engine.handle(Input::Subscribe(3, Box::new(owned(&query, "ada"))))), None);
}

/// One change of another table's row is not to be one of all rows there are.
#[test]
fn rows_that_have_the_same_partner_have_a_limit() {
    let mut engine = engine_with(Limits { fan_out: 3, ..Limits::default() });
    let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
    let rows = vec![message(1, 7), message(2, 7), message(3, 7), message(4, 8)];
    let outputs = answer(&mut engine, reads(&first)[0].0, rows, 1);
    let outputs = answer(&mut engine, reads(&outputs)[0].0, vec![user(7, "ada")], 1);
    assert_eq!(told(&outputs, 1), ["'ada'", "'ada'", "'ada'", "NULL"]);
    let more = change(&messages(), Some(message(4, 8)), Some(message(4, 7)));
    let outputs = engine.handle(Input::Interval(interval(2, vec![more])));
    let said =
        outputs.iter().find_map(|o| if let Output::Closed(1, why) = o { Some(format!("{why:?}")) } else { None });
    assert!(said.as_ref().is_some_and(|why| why.contains("the same row of users beside them, at most 3")), "{said:?}");
    assert_eq!((engine.feeds().count(), engine.held_bytes()), (0, 0));
}

/// The stream goes on while a database does not answer.
#[test]
fn what_waits_for_partners_that_do_not_come_has_a_limit() {
    let mut engine = engine_with(Limits { joined_rows: 10, ..Limits::default() });
    let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
    answer(&mut engine, reads(&first)[0].0, vec![message(1, 7)], 1);
    let insert = |at: u64| interval(at, vec![change(&messages(), None, Some(message(at as i64, 7)))]);
    let closed = (2..).find_map(|at| {
        let outputs = engine.handle(Input::Interval(insert(at)));
        outputs.into_iter().find_map(|o| if let Output::Closed(1, why) = o { Some((at, why)) } else { None })
    });
    assert!(matches!(&closed, Some((11, Refusal::Limit(why))) if why.contains("at most 10")), "{closed:?}");
    assert_eq!((engine.feeds().count(), engine.held_bytes()), (0, 0));
}

/// A table is emptied of which only a row that is gone by now asks for something.
#[test]
fn what_only_an_earlier_commit_asks_for_is_let_go_with_it() {
    let mut engine = engine();
    let query = format!("{LEFT} LEFT JOIN messages y ON y.id = m.sender");
    let first = engine.handle(Input::Subscribe(1, Box::new(request(&query))));
    answer(&mut engine, reads(&first)[0].0, vec![], 1);
    let come = change(&messages(), None, Some(message(1, 7)));
    let outputs = engine.handle(Input::Interval(interval(2, vec![come])));
    answer(&mut engine, reads(&outputs)[0].0, vec![user(7, "ada")], 2);
    engine.handle(Input::Interval(interval(3, vec![change(&messages(), Some(message(1, 7)), None)])));
    assert!(engine.held_bytes() > 0);
    let reset = Reset { name: TableName::plain("users"), table: Some(users()), why: ResetReason::Truncated };
    let mut emptied = (*interval(4, vec![])).clone();
    emptied.resets = vec![reset];
    engine.handle(Input::Interval(Arc::new(emptied)));
    engine.handle(Input::Unsubscribe(1));
    assert_eq!((engine.feeds().count(), engine.held_bytes()), (0, 0));
}

/// What cannot be read for one is no reason to close another who has what they asked for.
#[test]
fn a_neighbour_whose_partners_are_known_stays() {
    let mut engine = engine();
    let first = engine.handle(Input::Subscribe(1, Box::new(request(LEFT))));
    let outputs = answer(&mut engine, reads(&first)[0].0, vec![message(1, 7)], 1);
    answer(&mut engine, reads(&outputs)[0].0, vec![user(7, "ada")], 1);
    let other = format!("{INNER} WHERE m.body <> 'x'");
    let second = engine.handle(Input::Subscribe(2, Box::new(request(&other))));
    let outputs = answer(&mut engine, reads(&second)[0].0, vec![message(1, 7), message(2, 9)], 1);
    let mut read = reads(&outputs)[0].0;
    let mut closed = Vec::new();
    for _ in 0..Limits::default().attempts {
        closed.extend(engine.handle(Input::SnapshotFailed(read, "it hangs".into())));
        let again = engine.handle(Input::Tick);
        read = reads(&again).first().map_or(read, |(id, ..)| *id);
    }
    let of: Vec<SubId> =
        closed.iter().filter_map(|o| if let Output::Closed(sub, _) = o { Some(*sub) } else { None }).collect();
    assert_eq!(of, [2]);
    let outputs =
        engine.handle(Input::Interval(interval(2, vec![change(&users(), Some(user(7, "ada")), Some(user(7, "eve")))])));
    assert_eq!(told(&outputs, 1), ["'eve'"]);
}

/// Who asks for too much is closed, and not whoever waits for the same table.
#[test]
fn whoever_asks_for_too_much_is_closed_alone() {
    let mut engine = engine_with(Limits { sent_bytes: 200_000, ..Limits::default() });
    let person = |who: &str| Arc::new(Owner { subject: Some(who.into()), ..Owner::default() });
    let owned = |query: &str, who: &str| Request { owner: Some(person(who)), ..request(query) };
    let small = format!("{LEFT} WHERE m.id = 1");
    let first = engine.handle(Input::Subscribe(1, Box::new(owned(&small, "ada"))));
    let asked = answer(&mut engine, reads(&first)[0].0, vec![message(1, 7)], 1);
    let second = engine.handle(Input::Subscribe(2, Box::new(owned(LEFT, "mallory"))));
    let rows: Vec<Row> = (1..400).map(|id| message(id, 1_000 + id)).collect();
    answer(&mut engine, reads(&second)[0].0, rows, 1);
    let outputs = answer(&mut engine, reads(&asked)[0].0, vec![user(7, "ada")], 1);
    assert_eq!(told(&outputs, 1), ["'ada'"]);
    let big = "x".repeat(1_000);
    let read = reads(&outputs)[0].0;
    let rows: Vec<Row> = (1..400).map(|id| user(1_000 + id, &big)).collect();
    let outputs = answer(&mut engine, read, rows, 1);
    let closed: Vec<SubId> =
        outputs.iter().filter_map(|o| if let Output::Closed(sub, _) = o { Some(*sub) } else { None }).collect();
    assert_eq!(closed, [2]);
    assert!(engine.held_bytes() < 10_000, "{}", engine.held_bytes());
}

#[test]
fn a_join_is_explained_with_what_became_of_each_partner() {
    let mut engine = engine();
    let first = engine.handle(Input::Subscribe(1, Box::new(request(INNER))));
    let outputs = answer(&mut engine, reads(&first)[0].0, vec![message(1, 7)], 1);
    answer(&mut engine, reads(&outputs)[0].0, vec![user(7, "ada")], 1);
    let steps = |engine: &Engine, c: RowChange| {
        let (plan, standing) = engine.inquiry(1).unwrap();
        let interval = interval(2, vec![c]);
        explain(&plan, &standing, &interval.transactions[0], engine.subquery_results())
    };
    let known = steps(&engine, change(&messages(), None, Some(message(4, 7))));
    assert!(
        known.iter().any(|s| s.step == "join" && s.verdict == Passed::Yes && s.values == ["users 7: there"]),
        "{known:?}"
    );
    let unknown = steps(&engine, change(&messages(), None, Some(message(4, 9))));
    assert!(
        unknown.iter().any(|s| s.step == "join" && s.verdict == Passed::No && s.values[0].contains("not known")),
        "{unknown:?}"
    );
    let partner = steps(&engine, change(&users(), Some(user(7, "ada")), None));
    assert!(partner[0].text.contains("users, which the query joins"), "{partner:?}");
    let sql = engine.plan(1).unwrap().to_sql();
    assert_eq!(
        sql,
        "SELECT messages.id AS id, users.name AS name FROM messages JOIN users ON users.id = messages.sender"
    );
}
