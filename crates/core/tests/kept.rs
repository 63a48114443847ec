//! What feeds keep for groups, orders and rules that ask other tables has a limit, for those who come and for those who are there.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use gossip_core::budget::{Cost, Owner, Shares};
use gossip_core::engine::{Engine, Input, Limits, Output, Refusal, Request, SnapshotId, SubId, Wants};
use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, SnapshotPoint, Transaction};
use gossip_core::rule::{Claims, RuleSet, RuleText};
use gossip_core::schema::{Column, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use serde_json::json;

fn table(name: &str) -> Arc<Table> {
    let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
    Arc::new(Table {
        name: TableName::plain(name),
        source: "s".into(),
        columns: [("id", Type::Int8), ("call", Type::Int8), ("pilot", Type::Text)].map(column).to_vec(),
        key: vec![0],
        old_values: true,
        incarnation: 0,
    })
}

/// Subscribes as somebody who may see `rows` rows of `calls`, and says how it ended.
fn subscribe(engine: &mut Engine, sub: SubId, rows: i64) -> Result<(), String> {
    let facts = json!({"me": sub.to_string()}).as_object().unwrap().clone();
    let claims = Arc::new(Claims { roles: vec!["pilot".into()], facts, operator: false });
    let request = Request { query: "SELECT * FROM calls".into(), claims, ..Request::default() };
    let mut outputs = engine.handle(Input::Subscribe(sub, Box::new(request)));
    let mut end = Err("no answer".to_string());
    while let Some(output) = outputs.pop() {
        match output {
            Output::FetchSnapshot { id, .. } => {
                let row = |n| -> Row { [Value::Int(n), Value::Int(n), sub.to_string().into()].into() };
                outputs.extend(engine.handle(Input::SnapshotRows(id, (0..rows).map(row).collect())));
                outputs.extend(engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1)))));
            }
            Output::Result { to, .. } if to.iter().any(|(s, _)| *s == sub) => end = Ok(()),
            Output::Closed(s, Refusal::Limit(text)) if s == sub => end = Err(text),
            _ => {}
        }
    }
    end
}

fn engine(sent_bytes: usize, result_rows: usize) -> Engine {
    let rule = RuleText {
        role: "pilot".into(),
        table: TableName::plain("calls"),
        rows: Some("id IN (SELECT call FROM assignments WHERE pilot = claim.me)".into()),
        ..RuleText::default()
    };
    let limits = Limits { sent_bytes, result_rows, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), limits);
    for t in ["calls", "assignments"] {
        engine.handle(Input::Table(table(t)));
    }
    engine.handle(Input::Interval(first_interval()));
    engine
}

fn first_interval() -> Arc<Interval> {
    Arc::new(Interval {
        source: "s".into(),
        epoch: 1,
        from: Position::at(0),
        to: Position::at(1),
        transactions: vec![],
        resets: vec![],
        settled: Position::at(1),
        timeline: 0,
        mark: 0,
        reader: "one".into(),
        read_at: 0,
    })
}

#[test]
fn what_is_kept_has_a_limit() {
    let mut e = engine(100_000, 1_000);
    assert_eq!(subscribe(&mut e, 1, 500), Ok(()));
    // The first took more than the limit: the next is refused, until it has gone.
    let refused = subscribe(&mut e, 2, 1).unwrap_err();
    assert!(refused.contains("at most 100000 bytes"), "{refused}");
    e.handle(Input::Unsubscribe(1));
    assert_eq!(subscribe(&mut e, 2, 1), Ok(()));
    // One that alone takes twice the limit ends, and leaves nothing behind.
    let mut e = engine(100_000, 10_000);
    assert!(subscribe(&mut e, 1, 5_000).unwrap_err().contains("at most 100000 bytes"));
    assert_eq!((subscribe(&mut e, 2, 1), e.feeds().count()), (Ok(()), 2), "a feed and its look-up");
    assert!(subscribe(&mut engine(1 << 30, 100), 1, 101).unwrap_err().contains("at most 100"));
}

/// Whoever holds the most loses its largest result, and not whoever is next.
#[test]
fn the_largest_result_of_whoever_holds_the_most_is_closed() {
    let rule = RuleText { role: "pilot".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let limits = Limits { sent_bytes: 680_000, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), limits);
    engine.handle(Input::Table(table("calls")));
    engine.handle(Input::Interval(first_interval()));
    let asked = [(1, "neighbour", 1_200), (2, "hostile", 900), (3, "hostile", 1_000), (4, "hostile", 800)];
    let mut fetches = Vec::new();
    for (sub, who, rows) in asked {
        let claims = Arc::new(Claims { roles: vec!["pilot".into()], ..Claims::default() });
        let owner = Some(Arc::new(Owner { subject: Some(who.into()), ..Owner::default() }));
        // A result of its own for each.
        let query = format!("SELECT id FROM calls WHERE call <> -{sub} ORDER BY call + 0, id LIMIT 3");
        let request = Request { query, claims, owner, ..Request::default() };
        let outputs = engine.handle(Input::Subscribe(sub, Box::new(request)));
        let fetch = |o: &Output| if let Output::FetchSnapshot { id, .. } = o { Some(*id) } else { None };
        fetches.push((outputs.iter().find_map(fetch).unwrap(), rows));
    }
    let mut closed = Vec::new();
    for (id, rows) in fetches {
        let row = |n| -> Row { [Value::Int(n), Value::Int(n), "x".into()].into() };
        let mut outputs = engine.handle(Input::SnapshotRows(id, (0..rows).map(row).collect()));
        outputs.extend(engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1)))));
        closed.extend(outputs.iter().filter_map(|o| if let Output::Closed(sub, _) = o { Some(*sub) } else { None }));
    }
    assert_eq!((closed, engine.feeds().count()), (vec![3], 3), "the neighbour's is the largest of all");
}

/// Whoever asks for too much, again and again, has in the end what everybody may have.
#[test]
fn what_is_given_up_is_not_charged() {
    let rule = RuleText { role: "pilot".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let share = Cost { bytes: 8_000, scanned: 50 };
    let shares = Shares { subject: share, ..Shares::default() };
    let limits = Limits { result_rows: 10, attempts: 1, shares, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), limits);
    engine.handle(Input::Table(table("calls")));
    engine.handle(Input::Interval(first_interval()));
    let claims = Arc::new(Claims { roles: vec!["pilot".into()], ..Claims::default() });
    let owner = Some(Arc::new(Owner { subject: Some("eager".into()), ..Owner::default() }));
    let ask = |engine: &mut Engine, sub: SubId, end: &dyn Fn(SnapshotId) -> Vec<Input>| {
        let (claims, owner) = (claims.clone(), owner.clone());
        let request = Request { query: "SELECT * FROM calls".into(), claims, owner, ..Request::default() };
        let mut outputs = engine.handle(Input::Subscribe(sub, Box::new(request)));
        let fetch =
            outputs.iter().find_map(|o| if let Output::FetchSnapshot { id, .. } = o { Some(*id) } else { None });
        end(fetch.unwrap()).into_iter().for_each(|input| outputs.extend(engine.handle(input)));
        outputs.iter().any(|o| matches!(o, Output::Result { .. }))
    };
    let row = |n| -> Row { [Value::Int(n), Value::Int(n), "x".into()].into() };
    for sub in 0..60 {
        let too_many = |id| vec![Input::SnapshotRows(id, (0..11).map(row).collect())];
        let fails = |id| vec![Input::SnapshotFailed(id, "no".into())];
        assert!(!ask(&mut engine, 2 * sub, &too_many) && !ask(&mut engine, 2 * sub + 1, &fails), "{sub}");
    }
    let done = |id| vec![Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(1)))];
    assert!(ask(&mut engine, 1_000, &done));
}

/// Whoever wants only what changes begins again after a gap though the result has more rows than it may have; whoever then wants
/// the result as well is refused.
#[test]
fn only_what_changes_needs_no_room_for_the_result() {
    let rule = RuleText { role: "pilot".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let limits = Limits { result_rows: 2, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), limits);
    engine.handle(Input::Table(table("calls")));
    engine.handle(Input::Interval(first_interval()));
    let at = std::cell::Cell::new(1);
    let mut ask = |input: Input| {
        let (mut outputs, mut told) = (engine.handle(input), Vec::new());
        while !outputs.is_empty() {
            let mut next = Vec::new();
            for output in outputs {
                match output {
                    Output::FetchSnapshot { id, request, .. } => {
                        let row = |n| -> Row { [Value::Int(n), Value::Int(n), "x".into()].into() };
                        let rows = if request.filter.is_some() { 0 } else { 3 };
                        next.extend(engine.handle(Input::SnapshotRows(id, (0..rows).map(row).collect())));
                        next.extend(
                            engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(at.get())))),
                        );
                    }
                    Output::Result { to, .. } => told.extend(to.into_iter().map(|(sub, _)| (sub, true))),
                    Output::Closed(sub, Refusal::Limit(_)) => told.push((sub, false)),
                    _ => {}
                }
            }
            outputs = next;
        }
        told
    };
    let request = |wants| {
        let claims = Arc::new(Claims { roles: vec!["pilot".into()], ..Claims::default() });
        Box::new(Request { query: "SELECT * FROM calls".into(), claims, wants, ..Request::default() })
    };
    assert_eq!(ask(Input::Subscribe(1, request(Wants::Changes))), [(1, true)]);
    assert_eq!(ask(Input::Subscribe(2, request(Wants::Signal))), [(2, true)]);
    assert_eq!(ask(Input::CatchUp(1)), [(1, true)]);
    // All that came meanwhile is lost.
    at.set(6);
    let gap = Interval { from: Position::at(5), to: Position::at(6), ..(*first_interval()).clone() };
    ask(Input::Interval(Arc::new(gap)));
    let mut told = ask(Input::Healed { source: "s".into(), intervals: None });
    told.sort_unstable();
    assert_eq!(told, [(1, true), (2, true)]);
    assert_eq!(ask(Input::Subscribe(3, request(Wants::Result))), [(3, false)]);
    assert_eq!(ask(Input::CatchUp(2)), [(2, true)], "those who are there stay");
}

/// When everybody comes at once the database is read once, as long as nothing has happened to the result.
#[test]
fn what_was_read_a_moment_ago_is_not_read_again() {
    let rule = RuleText { role: "pilot".into(), table: TableName::plain("calls"), ..RuleText::default() };
    let mut engine = Engine::new(Arc::new(RuleSet::new(vec![rule])), Limits::default());
    engine.handle(Input::Table(table("calls")));
    engine.handle(Input::Interval(first_interval()));
    let row = |n: i64, pilot: &str| -> Row { [Value::Int(n), Value::Int(n), pilot.into()].into() };
    let mut at = 1;
    // Whether it was read, and the rows that the newcomer has.
    let come = |engine: &mut Engine, at: u64, sub: SubId, rows: &[Row]| {
        let claims = Arc::new(Claims { roles: vec!["pilot".into()], ..Claims::default() });
        let query = "SELECT * FROM calls WHERE pilot = 'ada'".into();
        let mut outputs =
            engine.handle(Input::Subscribe(sub, Box::new(Request { query, claims, ..Request::default() })));
        let fetch =
            outputs.iter().find_map(|o| if let Output::FetchSnapshot { id, .. } = o { Some(*id) } else { None });
        if let Some(id) = fetch {
            outputs.extend(engine.handle(Input::SnapshotRows(id, rows.to_vec())));
            outputs.extend(engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(Position::at(at)))));
        }
        let result = outputs.iter().find_map(|o| match o {
            Output::Result { to, rows, position, .. } if to[0].0 == sub => Some((rows.len(), *position)),
            _ => None,
        });
        (fetch.is_some(), result.unwrap())
    };
    let mut changes = |engine: &mut Engine, id: i64, pilot: &str| {
        at += 1;
        let key = [Value::Int(id)].into();
        let change = RowChange::of(&Identified::new(table("calls")), key, Old::Known(None), Some(row(id, pilot)));
        let (committed, changes) = (CommitTime::default(), vec![change]);
        let position = Position::at(at);
        let t = Transaction { position, committed, number: 0, inexact_after: None, changes };
        let (from, transactions) = (Position::at(at - 1), vec![Arc::new(t)]);
        engine.handle(Input::Interval(Arc::new(Interval {
            from,
            to: position,
            transactions,
            ..(*first_interval()).clone()
        })));
        at
    };
    let rows = [row(1, "ada"), row(2, "ada")];
    engine.set_clock(1_000_000);
    assert_eq!(come(&mut engine, 1, 1, &rows), (true, (2, Position::at(1))));
    assert_eq!(come(&mut engine, 1, 2, &[]), (false, (2, Position::at(1))));
    // Another row changes nothing in it, and it is as of that.
    let at = changes(&mut engine, 7, "imre");
    assert_eq!(come(&mut engine, at, 3, &[]), (false, (2, Position::at(at))));
    let at = changes(&mut engine, 3, "ada");
    let rows = [&rows[..], &[row(3, "ada")]].concat();
    assert_eq!(come(&mut engine, at, 4, &rows), (true, (3, Position::at(at))));
    assert_eq!(come(&mut engine, at, 5, &[]), (false, (3, Position::at(at))));
    engine.set_clock(4_000_000);
    assert_eq!(come(&mut engine, at, 6, &rows), (true, (3, Position::at(at))), "it is old");
    (1..6).for_each(|sub| drop(engine.handle(Input::Unsubscribe(sub))));
    assert_eq!(come(&mut engine, at, 7, &[]), (false, (3, Position::at(at))));
    (6..8).for_each(|sub| drop(engine.handle(Input::Unsubscribe(sub))));
    assert_eq!(come(&mut engine, at, 8, &rows), (true, (3, Position::at(at))), "nobody held it");
}
