//! An interval is the same after it was put into words and read again, whatever stands in it; nothing else is read.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use gossip_core::column_pruning::{Columns, Needed};
use gossip_core::position::{CommitTime, Interval, Old, Position, Reset, ResetReason, RowChange, Transaction};
use gossip_core::schema::{Column, ColumnSet, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use gossip_relay::event::{Tables, decode, decode_for, encode, encode_for};
use proptest::prelude::*;

const TYPES: [Type; 8] =
    [Type::Int8, Type::Text, Type::Any, Type::Numeric, Type::Float8, Type::Json, Type::Timestamptz, Type::Bytea];

fn table() -> Arc<Table> {
    let column = |(i, ty): (usize, &Type)| Column { name: format!("c{i}").into(), ty: *ty };
    Arc::new(Table {
        name: TableName { schema: "billing".into(), name: "t".into() },
        source: "s".into(),
        columns: TYPES.iter().enumerate().map(column).collect(),
        key: vec![0, 1],
        old_values: true,
        incarnation: u64::MAX,
    })
}

/// Anything, fitting its column or not.
fn value() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::Bool),
        any::<i64>().prop_map(Value::Int),
        any::<f64>().prop_map(Value::Float),
        any::<f32>().prop_map(Value::Float4),
        prop::sample::select(vec!["1.50", "-0.000", "12345678901234567890.1", "1e30", "7"])
            .prop_map(|t| Value::decimal(t).unwrap()),
        "(\\PC|[\\x00-\\x1f]){0,6}".prop_map(|t| Value::text(&t)),
        prop::collection::vec(any::<u8>(), 0..5).prop_map(|b| Value::Bytes(b.into())),
        any::<i32>().prop_map(Value::Date),
        any::<i64>().prop_map(Value::Timestamptz),
        any::<i64>().prop_map(Value::Time),
        prop::sample::select(vec![
            "{\"a\": 1}",
            "{ \"gossip:exact\":\"int8\",\"value\":\"1\"}",
            "[1,  2]",
            "\"x\"",
            "null",
            "1.0"
        ])
        .prop_map(|t| Value::Json(t.into())),
    ]
}

fn row() -> impl Strategy<Value = Row> {
    prop::collection::vec(value(), TYPES.len()).prop_map(Row::from)
}

fn change() -> impl Strategy<Value = RowChange> {
    let old = prop_oneof![Just(Old::Unknown), Just(Old::Known(None)), row().prop_map(|r| Old::Known(Some(r)))];
    (old, prop::option::of(row()), prop::collection::vec(value(), 2), prop::collection::vec(2..TYPES.len(), 0..2))
        .prop_map(|(old, new, key, omitted_columns)| {
            let omitted_columns: ColumnSet = omitted_columns.into_iter().filter(|_| new.is_some()).collect();
            // What is not told stands as NULL.
            let new = new.map(|r| {
                r.iter()
                    .enumerate()
                    .map(|(i, v)| if omitted_columns.contains(i) { Value::Null } else { v.clone() })
                    .collect()
            });
            RowChange {
                table: table().name.clone(),
                description: table().identity(),
                key: key.into(),
                old,
                new,
                omitted_columns,
            }
        })
}

fn interval() -> impl Strategy<Value = Interval> {
    let transactions = prop::collection::vec((prop::collection::vec(change(), 0..4), any::<u64>(), any::<i64>()), 0..4);
    (transactions, any::<u64>(), any::<bool>()).prop_map(|(all, timeline, reset)| {
        let transaction = |(i, (changes, xid, at)): (usize, (Vec<RowChange>, u64, i64))| {
            let position = if i == 0 { Position::part(8, 3) } else { Position::at(i as u64 + 8) };
            let inexact_after = (xid % 2 == 0).then_some(Position::at(6));
            Arc::new(Transaction {
                position,
                committed: CommitTime { from: at, to: at },
                number: xid,
                inexact_after,
                changes,
            })
        };
        let reset = Reset { name: table().name.clone(), table: reset.then(table), why: ResetReason::Truncated };
        Interval {
            source: "s".into(),
            epoch: 7,
            from: Position::at(5),
            to: Position::at(20),
            transactions: all.into_iter().enumerate().map(transaction).collect(),
            resets: vec![reset],
            settled: Position::at(4),
            timeline,
            mark: timeline / 2,
            reader: "north".into(),
            read_at: -1,
        }
    })
}

proptest! {
    #[test]
    fn what_is_said_is_what_is_read(i in interval()) {
        let tables: Tables = [(table().name.clone(), Identified::new(table()))].into();
        prop_assert_eq!(decode(&encode(&i, &tables)).unwrap(), i);
    }

    /// A row under the names of a description that it was not read under would pass for another one.
    #[test]
    fn rows_of_another_description_are_never_told(i in interval(), described in any::<bool>()) {
        let other = Arc::new(Table { incarnation: 99, ..(*table()).clone() });
        let tables: Tables = described.then(|| (other.name.clone(), Identified::new(other))).into_iter().collect();
        let read = decode_for(&encode(&Interval { resets: vec![], ..i.clone() }, &tables), None).unwrap();
        prop_assert!(read.transactions.iter().all(|t| t.changes.is_empty()));
        let changed = i.transactions.iter().any(|t| !t.changes.is_empty());
        prop_assert_eq!(read.resets.iter().any(|r| r.name == table().name), changed, "it is told that the table changed");
    }

    #[test]
    fn what_is_damaged_is_refused_or_read_but_never_a_panic(i in interval(), at in any::<prop::sample::Index>(), to in any::<u8>()) {
        let mut bytes = encode(&i, &[(table().name.clone(), Identified::new(table()))].into());
        let n = bytes.len();
        bytes[at.index(n)] = to;
        let _ = decode(&bytes);
        let _ = decode(&bytes[..at.index(n)]);
    }
}

#[test]
fn it_is_a_cloudevent_that_others_can_read() {
    let column = |name: &str, ty| Column { name: name.into(), ty };
    let calls = Arc::new(Table {
        name: TableName::plain("calls"),
        source: "harbour".into(),
        columns: vec![column("id", Type::Int8), column("status", Type::Text)],
        key: vec![0],
        old_values: true,
        incarnation: 0,
    });
    let change = |n: i64, old| RowChange {
        table: TableName::plain("calls"),
        key: [Value::Int(n)].into(),
        old,
        new: Some([Value::Int(n), "inbound".into()].into()),
        omitted_columns: ColumnSet::default(),
        description: calls.identity(),
    };
    let old = Old::Known(Some([Value::Int(1), "expected".into()].into()));
    let changes = vec![change(1, old), change(2, Old::Known(None)), change(3, Old::Unknown)];
    let i = Interval { read_at: 1_795_470_823_127_013, ..interval_of(changes) };
    let bytes = encode(&i, &[(calls.name.clone(), Identified::new(calls))].into());
    let event: serde_json::Value = serde_json::from_slice(&bytes).unwrap();
    for (name, expected) in [
        ("specversion", "1.0"),
        ("id", "3:8:9"),
        ("source", "/gossip/north"),
        ("type", "gossip.interval.v1"),
        ("subject", "harbour"),
        ("time", "2026-11-23T21:53:43.127013Z"),
        ("datacontenttype", "application/json"),
    ] {
        assert_eq!(event[name], expected);
    }
    let changes = &event["data"]["transactions"][0]["changes"];
    assert_eq!(
        changes[0],
        serde_json::json!({"table": "calls", "op": "update", "key": [1],
        "old": {"id": 1, "status": "expected"}, "new": {"id": 1, "status": "inbound"}})
    );
    assert_eq!((&changes[1]["op"], changes[1].get("old")), (&"insert".into(), Some(&serde_json::Value::Null)));
    assert_eq!((&changes[2]["op"], changes[2].get("old")), (&"update".into(), None));
    for bad in ["", "[]", "{}", r#"{"specversion":"1.0","type":"other"}"#] {
        assert!(decode(bad.as_bytes()).is_err(), "{bad}");
    }
    let disordered = String::from_utf8(bytes).unwrap().replace("\"position\":\"9\"", "\"position\":\"99\"");
    assert!(decode(disordered.as_bytes()).unwrap_err().contains("not in order"));
}

#[test]
fn a_version_that_is_not_read_is_named() {
    let i = interval_of(vec![]);
    let later = String::from_utf8(encode(&i, &Tables::new())).unwrap().replace("interval.v1", "interval.v7");
    assert_eq!(decode(later.as_bytes()).unwrap_err(), "it has version 7 of the format; this instance reads 1 to 1");
}

fn interval_of(changes: Vec<RowChange>) -> Interval {
    let t = Transaction {
        position: Position::at(9),
        committed: CommitTime { from: 1, to: 2 },
        number: 0,
        inexact_after: None,
        changes,
    };
    Interval {
        source: "harbour".into(),
        epoch: 3,
        from: Position::at(8),
        to: Position::at(9),
        transactions: vec![Arc::new(t)],
        resets: vec![],
        settled: Position::at(9),
        timeline: 1,
        mark: 0,
        reader: "north".into(),
        read_at: 0,
    }
}

/// What nobody may see is not there, and whoever needs it after all reads the table anew.
#[test]
fn what_no_rule_shows_is_withheld_and_noticed_by_those_who_need_it() {
    let column = |name: &str| Column { name: name.into(), ty: Type::Text };
    let table = |name: &str, columns: &[&str]| {
        Arc::new(Table {
            name: TableName::plain(name),
            source: "harbour".into(),
            columns: columns.iter().map(|c| column(c)).collect(),
            key: vec![0],
            old_values: true,
            incarnation: 0,
        })
    };
    let (people, logins) = (table("people", &["id", "name", "salary"]), table("logins", &["id", "password"]));
    let row = |values: &[&str]| -> Row { values.iter().map(|v| Value::from(*v)).collect() };
    let change = |of: &Arc<Table>, old: Option<Row>, new: Row| RowChange {
        table: of.name.clone(),
        description: of.identity(),
        key: of.key_of(&new),
        old: Old::Known(old),
        new: Some(new),
        omitted_columns: ColumnSet::default(),
    };
    let before = row(&["1", "Ada", "secret-1"]);
    let i = interval_of(vec![
        change(&people, Some(before.clone()), row(&["1", "Ada L", "secret-2"])),
        change(&logins, None, row(&["7", "secret-3"])),
    ]);
    let tables: Tables = [&people, &logins].map(|t| (t.name.clone(), Identified::new(t.clone()))).into();
    let needed =
        |all: &[(&Arc<Table>, Columns)]| -> Needed { all.iter().map(|(t, c)| (t.name.clone(), c.clone())).collect() };
    let these = |names: &[&str]| Columns::These(names.iter().map(|n| Arc::from(*n)).collect());
    let names = needed(&[(&people, these(&["name"]))]);
    let bytes = encode_for(&i, &tables, Some(&names), 1);
    let text = String::from_utf8(bytes.clone()).unwrap();
    assert!(!text.contains("secret") && text.contains("Ada L"), "{text}");
    // Those who need no more have what they need; keys are always there.
    let heard = decode_for(&bytes, Some(&names)).unwrap();
    assert_eq!((heard.transactions[0].changes.len(), heard.resets.len()), (1, 0));
    let change = &heard.transactions[0].changes[0];
    assert_eq!(change.new.as_deref(), Some(&[Value::from("1"), Value::from("Ada L"), Value::Null][..]));
    // Those who do, know that they lack something; a table of which they need nothing else is as it was.
    for (needs, anew) in [
        (needed(&[(&people, Columns::All)]), vec!["people"]),
        (needed(&[(&people, these(&["name", "salary"])), (&logins, these(&["id"]))]), vec!["logins", "people"]),
        (needed(&[(&people, these(&["name"])), (&logins, Columns::All)]), vec!["logins"]),
    ] {
        let heard = decode_for(&bytes, Some(&needs)).unwrap();
        assert_eq!(heard.resets.iter().map(|r| r.name.to_string()).collect::<Vec<_>>(), anew);
        let told = |name: &str| heard.transactions[0].changes.iter().any(|c| c.table.to_string() == name);
        assert_eq!(told("people"), !anew.contains(&"people"));
        assert_eq!(heard.to, i.to);
    }
    assert_eq!(decode_for(&bytes, None).unwrap().resets.len(), 2, "whoever may need everything");
    assert_eq!(decode_for(&encode_for(&i, &tables, None, 1), None).unwrap(), i);
}
