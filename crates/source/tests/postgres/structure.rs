//! Partitions, inheritance, schemas, keys, large values, and tables that change.

use std::cell::RefCell;

use gossip_core::plan::SnapshotRequest;
use gossip_core::position::{Interval, Old, Position, ResetReason, SnapshotPoint};
use gossip_core::schema::{Row, TableName};
use gossip_core::value::Value;
use gossip_source::Last;
use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};

use crate::common::Bench;

fn int(i: i64) -> Value {
    Value::Int(i)
}

#[test]
fn partitions_are_one_table_and_a_row_that_moves_is_replaced() {
    let mut bench = Bench::new(
        "CREATE TABLE calls (id int, quay text, note text, PRIMARY KEY (id, quay)) PARTITION BY LIST (quay);
         CREATE TABLE calls_a PARTITION OF calls FOR VALUES IN ('a');
         -- Another order of columns, and one that was dropped.
         CREATE TABLE calls_b (gone int, note text, quay text NOT NULL, id int NOT NULL, PRIMARY KEY (id, quay));
         ALTER TABLE calls_b DROP COLUMN gone;
         ALTER TABLE calls ATTACH PARTITION calls_b FOR VALUES IN ('b')",
        &["calls"],
    )
    .with_old_values(&["calls"]);
    let mut reader = bench.follow();
    let name = TableName::plain("calls");
    bench.run("INSERT INTO calls VALUES (1, 'b', 'x')");
    let change = reader.change();
    assert_eq!((change.table, change.new.unwrap().to_vec()), (name.clone(), vec![int(1), "b".into(), "x".into()]));
    // The key includes the partition's column, as it must; a row that moves has another key then.
    bench.run("UPDATE calls SET quay = 'a' WHERE id = 1");
    let moved = reader.changes();
    assert_eq!(moved.len(), 2, "{moved:?}");
    assert!(moved.iter().all(|c| c.table == name));
    bench.run("TRUNCATE calls_a");
    let reset = reader.reset();
    assert_eq!((reset.name, reset.why), (name.clone(), ResetReason::Truncated));
    let before = bench.table("calls");
    bench.run(
        "CREATE TABLE calls_c (id int, quay text, note text, PRIMARY KEY (id, quay));
         INSERT INTO calls_c VALUES (7, 'c', 'here before')",
    );
    bench.run(
        "ALTER TABLE calls_c REPLICA IDENTITY FULL; ALTER TABLE calls ATTACH PARTITION calls_c FOR VALUES IN ('c')",
    );
    let reset = reader.reset();
    assert_eq!((reset.name.clone(), reset.why), (name.clone(), ResetReason::SchemaChanged));
    assert_ne!(reset.table.as_ref(), Some(&before));
    assert_eq!(bench.snapshot(&reset.table.unwrap()).0.len(), 1);
    bench.run("INSERT INTO calls VALUES (8, 'c', 'new')");
    assert_eq!(reader.change().key[0], int(8));
    bench.run("ALTER TABLE calls DETACH PARTITION calls_c");
    let reset = reader.reset();
    assert_eq!(bench.snapshot(&reset.table.unwrap()).0.len(), 0);
}

#[test]
fn a_row_that_moves_between_partitions_by_another_column_is_one_change() {
    // Without a primary key the identity may leave the partition's column out.
    let mut bench = Bench::new(
        "CREATE TABLE calls (id int NOT NULL, quay text) PARTITION BY LIST (quay);
         CREATE TABLE calls_a PARTITION OF calls FOR VALUES IN ('a');
         CREATE TABLE calls_b PARTITION OF calls FOR VALUES IN ('b')",
        &["calls"],
    );
    // Nothing by which rows can be told apart: inserts only, and updates go on.
    let mut reader = bench.follow();
    bench.run("INSERT INTO calls VALUES (1, 'a'); UPDATE calls SET quay = 'b'; DELETE FROM calls");
    let changes = reader.changes();
    assert_eq!(changes.len(), 2, "the insert, and the insert that the move is: {changes:?}");
    assert!(changes.iter().all(|c| c.key.is_empty() && c.new.is_some()));
}

#[test]
fn inheritance_other_schemas_and_odd_names_are_kept_apart() {
    let mut bench = Bench::new(
        "CREATE SCHEMA ops; CREATE SCHEMA \"Ünder.score\";
         CREATE TABLE calls (id int PRIMARY KEY, v text);
         CREATE TABLE calls_child (extra int, PRIMARY KEY (id)) INHERITS (calls);
         CREATE TABLE ops.calls (id int PRIMARY KEY, v text);
         CREATE TABLE \"Ünder.score\".\"Ca\"\"lls\" (\"I d\" int, \"k2\" text, \"V\" text, PRIMARY KEY (\"k2\", \"I d\"))",
        &["calls", "ops.calls", "\"Ünder.score\".\"Ca\"\"lls\""],
    );
    let mut reader = bench.follow();
    bench.run(
        "INSERT INTO calls_child VALUES (1, 'child', 2); INSERT INTO ops.calls VALUES (1, 'ops');
         INSERT INTO calls VALUES (2, 'own'); INSERT INTO \"Ünder.score\".\"Ca\"\"lls\" VALUES (5, 'k', 'v')",
    );
    let changes = reader.changes();
    let seen: Vec<String> = changes.iter().map(|c| format!("{} {:?}", c.table, c.key)).collect();
    assert_eq!(seen, ["ops.calls [1]", "calls [2]", "Ünder.score.Ca\"lls ['k', 5]"]);
    let (rows, _) = bench.snapshot(&bench.table("calls"));
    assert_eq!(rows.len(), 1, "only its own rows");
    let odd = bench.source().describe().unwrap().into_iter().find(|t| t.columns.len() == 3).unwrap();
    assert_eq!(bench.snapshot(&odd).0.len(), 1);
}

#[test]
fn without_old_values_keys_are_told_and_large_values_left_out() {
    let mut bench = Bench::new(
        "CREATE TABLE docs (id int PRIMARY KEY, body text, n int);
         ALTER TABLE docs ALTER COLUMN body SET STORAGE EXTERNAL;
         INSERT INTO docs VALUES (1, repeat('x', 100000), 1)",
        &["docs"],
    );
    let mut reader = bench.follow();
    bench.run("UPDATE docs SET n = 2");
    let change = reader.change();
    assert_eq!((&change.old, change.omitted_columns.iter().collect::<Vec<_>>()), (&Old::Unknown, vec![1]));
    // Told once in the transaction is told.
    bench.run("BEGIN; UPDATE docs SET body = repeat('y', 100000); UPDATE docs SET n = 3; COMMIT");
    let change = reader.change();
    assert!(change.omitted_columns.is_empty() && change.new.unwrap()[1] == Value::from("y".repeat(100_000)));
    bench.run("UPDATE docs SET id = 5");
    let changes = reader.changes();
    assert_eq!((changes[0].key[0].clone(), &changes[0].old, &changes[0].new), (int(1), &Old::Unknown, &None));
    assert_eq!((changes[1].key[0].clone(), &changes[1].old), (int(5), &Old::Known(None)));
    bench.run("DELETE FROM docs");
    let change = reader.change();
    assert_eq!((change.key[0].clone(), change.new), (int(5), None));

    bench.run("ALTER TABLE docs REPLICA IDENTITY FULL; INSERT INTO docs VALUES (9, repeat('z', 100000), 1)");
    bench.run("UPDATE docs SET n = 2 WHERE id = 9");
    let all = std::iter::repeat_with(|| reader.changes()).flatten();
    let change = all.into_iter().find(|c| c.old != Old::Known(None)).unwrap();
    assert!(change.omitted_columns.is_empty() && change.new.unwrap()[1] == Value::from("z".repeat(100_000)));
}

#[test]
fn a_table_that_changes_is_noticed_also_when_it_is_quiet() {
    let mut bench = Bench::new(
        "CREATE TYPE mood AS ENUM ('well', 'so so');
         CREATE TABLE t (id int PRIMARY KEY, n int, m mood DEFAULT 'well'); INSERT INTO t VALUES (1, 1), (2, 2)",
        &["t"],
    );
    let mut reader = bench.follow();
    let mut before = bench.table("t");
    // Nothing but the catalog tells of most of these.
    for ddl in [
        "ALTER TABLE t ADD COLUMN extra int DEFAULT 5",
        "ALTER TABLE t RENAME COLUMN n TO number",
        "ALTER TABLE t ALTER COLUMN number TYPE bigint",
        "ALTER TABLE t ALTER COLUMN number TYPE bigint USING number * 2",
        "ALTER TABLE t DROP COLUMN extra",
        "ALTER TYPE mood RENAME VALUE 'well' TO 'fine'",
        "BEGIN; DROP TABLE t; CREATE TABLE t (id int PRIMARY KEY, number bigint, m mood); ALTER PUBLICATION gossip ADD TABLE ONLY t; COMMIT",
    ] {
        bench.run(ddl);
        let reset = reader.reset();
        assert_eq!(reset.why, ResetReason::SchemaChanged, "{ddl}");
        let table = reset.table.expect(ddl);
        assert_ne!(table, before, "{ddl}");
        let rows = bench.db.query_one("SELECT count(*) FROM t", &[]).unwrap().get::<_, i64>(0);
        assert_eq!(bench.snapshot(&table).0.len() as i64, rows, "{ddl}");
        before = table;
    }
    bench.run("INSERT INTO t VALUES (4, 4, 'fine')");
    assert_eq!(reader.change().new.unwrap().to_vec(), vec![int(4), int(4), "fine".into()]);
    // In one transaction with rows of both shapes.
    bench.run("BEGIN; INSERT INTO t VALUES (5, 5); ALTER TABLE t ADD COLUMN late int; INSERT INTO t VALUES (6, 6, 'fine', 6); COMMIT");
    let reset = reader.reset();
    let (rows, _) = bench.snapshot(&reset.table.unwrap());
    assert_eq!(rows.len(), 3);
    bench.run("TRUNCATE t");
    assert_eq!(reader.reset().why, ResetReason::Truncated);
    bench.run("DROP TABLE t");
    assert_eq!(reader.reset().table, None);
}

/// Also where the transaction comes in several reads, and another one with the first of them.
#[test]
fn a_table_is_empty_when_the_transaction_that_emptied_it_ends() {
    let schema = "CREATE TABLE t (id int PRIMARY KEY); CREATE TABLE other (id int PRIMARY KEY, pad text)";
    let mut bench = Bench::new(schema, &["t", "other"]);
    let mut reader = bench.follow();
    bench.run("INSERT INTO t VALUES (1)");
    reader.changes();
    bench.run("INSERT INTO t VALUES (2)");
    let fill = "INSERT INTO other SELECT i, repeat('x', 900) FROM generate_series(1, 1500) i";
    bench.run(&format!("BEGIN; TRUNCATE t; {fill}; COMMIT"));
    let emptied = |i: &Interval| i.resets.iter().any(|r| r.why != ResetReason::Described);
    let interval = std::iter::repeat_with(|| reader.next()).find(emptied).unwrap();
    let table = interval.resets[0].table.clone().unwrap();
    assert!(bench.snapshot(&table).0.is_empty());
    // If the catalog is what told of it, every snapshot from then on shows it, wherever the stream stands.
    if interval.resets[0].why == ResetReason::Truncated {
        assert_eq!(interval.transactions.last().map(|t| (t.position, t.changes.len())), Some((interval.to, 1_500)));
    }
}

#[test]
fn a_snapshot_of_a_table_that_is_not_as_it_was_is_refused() {
    let mut bench = Bench::new("CREATE TABLE t (id int PRIMARY KEY)", &["t"]);
    bench.prepare();
    let before = bench.table("t");
    bench.run("ALTER TABLE t ADD COLUMN n int");
    let e = bench.source().snapshot(&SnapshotRequest::whole(&before), &mut |_| true).unwrap_err();
    assert!(e.is_passing(), "{e}");
    assert!(matches!(bench.snapshot(&bench.table("t")).1, SnapshotPoint::Visible(..)));
}

#[test]
fn the_reader_goes_on_where_it_stopped_and_there_is_one() {
    let mut bench = Bench::new("CREATE TABLE t (id int PRIMARY KEY)", &["t"]);
    let mut reader = bench.follow();
    assert!(bench.source().try_to_lead("other", None).unwrap().is_none(), "one reader");
    bench.run("INSERT INTO t VALUES (1)");
    let first = reader.next();
    drop(reader);
    bench.run("INSERT INTO t VALUES (2)");
    let last = Last::of(&first);
    let again = || bench.source().try_to_lead("other", Some(last)).unwrap();
    let follow = testbed::wait_for(|| "the slot".into(), again);
    let mut reader = crate::common::Reader { follow };
    let interval = reader.next();
    assert!(interval.epoch > first.epoch && interval.from == first.to && interval.timeline == first.timeline);
    let keys: Vec<Value> = interval.transactions.iter().flat_map(|t| &t.changes).map(|c| c.key[0].clone()).collect();
    assert_eq!(keys, [int(2)]);
    drop(reader);
    // Behind a log that ends before what is known stands an older state of it, or another database.
    let beyond = Last { position: Position::at(u64::MAX / 2), ..last };
    let again = || bench.source().try_to_lead("other", Some(beyond)).unwrap();
    let mut follow = testbed::wait_for(|| "the slot".into(), again);
    let sign = follow.heartbeat().unwrap();
    assert!(sign.timeline != first.timeline && sign.from < beyond.position);
}

/// A change of the table `t`, as SQL.
fn step((kind, a, b): &(u8, i64, i64), pad: usize) -> String {
    match kind {
        0 | 1 => format!("INSERT INTO t VALUES ({a}, {b}, repeat('p', {pad})) ON CONFLICT (id) DO UPDATE SET v = {b};"),
        2 => format!("UPDATE t SET v = {b} WHERE id = {a};"),
        3 => format!("UPDATE t SET id = {b} WHERE id = {a} AND NOT EXISTS (SELECT FROM t WHERE id = {b});"),
        4 => format!("DELETE FROM t WHERE id = {a};"),
        _ => format!("SAVEPOINT s; DELETE FROM t WHERE id = {a}; ROLLBACK TO s;"),
    }
}

/// Whatever a transaction does, also if it is too large for memory, folding it gives the exact difference.
#[test]
fn what_a_transaction_did_is_told_exactly() {
    let bench = Bench::new("CREATE TABLE t (id int PRIMARY KEY, v int, pad text)", &["t"]);
    let reader = bench.follow();
    let kept = RefCell::new((bench, reader));
    let steps = proptest::collection::vec((0..6u8, 0..12i64, 0..12i64), 1..60);
    let mut runner = TestRunner::new(Config { cases: 16, failure_persistence: None, ..Config::default() });
    let outcome = runner.run(&(steps, any::<bool>(), any::<bool>()), |(steps, large, full)| {
        let (bench, reader) = &mut *kept.borrow_mut();
        bench.run(&format!("ALTER TABLE t REPLICA IDENTITY {}", if full { "FULL" } else { "DEFAULT" }));
        let table = bench.table("t");
        let (before, _) = bench.snapshot(&table);
        // Padding that makes the transaction too large for memory.
        let pad = if large { 400_000 } else { 1 };
        let sql: String = steps.iter().map(|s| step(s, pad)).collect();
        let end = "INSERT INTO t VALUES (1000, 0, 'end') ON CONFLICT (id) DO UPDATE SET v = t.v + 1";
        bench.run(&format!("BEGIN; {sql} {end}; COMMIT"));
        let (after, _) = bench.snapshot(&table);
        let mut state = before.clone();
        let (mut ended, mut unclear) = (false, false);
        while !ended {
            let interval = reader.next();
            // Where a value cannot be told exactly, the table is read anew.
            unclear |= interval.resets.iter().any(|r| r.why == ResetReason::TooLarge);
            ended |= unclear && interval.transactions.iter().all(|t| t.changes.is_empty());
            for t in &interval.transactions {
                for c in &t.changes {
                    let key = format!("{:?}", c.key);
                    if let Old::Known(old) = &c.old
                        && c.omitted_columns.is_empty()
                    {
                        prop_assert_eq!(old.as_ref(), before.get(&key), "the old row of {}", key);
                    }
                    let row = c.new.as_ref().map(|new| {
                        let mut row = new.to_vec();
                        // A row that got another key: what is not told of it is asked for by whoever needs it.
                        let moved = c.old == Old::Known(None) || !state.contains_key(&key);
                        unclear |= !c.omitted_columns.is_empty() && moved;
                        for i in c.omitted_columns.iter() {
                            row[i] = state.get(&key).map_or(Value::Null, |before| before[i].clone());
                        }
                        row
                    });
                    match row {
                        Some(row) => drop(state.insert(key, row.into())),
                        None => drop(state.remove(&key)),
                    }
                }
                ended |= t.changes.iter().any(|c| c.key[0] == int(1000));
            }
        }
        prop_assert!(unclear || state == after, "{:?} is not {:?}", state.keys(), after.keys());
        Ok(())
    });
    outcome.unwrap();
}

#[test]
fn a_snapshot_reads_only_what_is_needed() {
    let bench =
        Bench::new("CREATE TABLE t (id int PRIMARY KEY, a text, b text); INSERT INTO t VALUES (1, 'x', 'y')", &["t"]);
    let table = bench.table("t");
    let request = SnapshotRequest { columns: [0, 2].into_iter().collect(), ..SnapshotRequest::whole(&table) };
    let mut rows = Vec::new();
    let mut take = |piece: Vec<Row>| {
        rows.extend(piece);
        true
    };
    bench.source().snapshot(&request, &mut take).unwrap().unwrap();
    assert_eq!(rows, [Row::from([int(1), Value::Null, "y".into()])]);
}
