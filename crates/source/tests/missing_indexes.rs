//! An index that is missing in an SQLite file is named, and the one that is proposed is used.
#![allow(clippy::unwrap_used)]

use gossip_core::plan::LookUp;
use gossip_core::schema::TableName;
use gossip_source::{Condition, Finding, Settings, from_settings};
use rusqlite::{Connection, StatementStatus};

fn condition(found_by: &[(&str, LookUp)], first_by: Option<&str>) -> Condition {
    Condition {
        table: TableName::plain("calls"),
        columns: vec![],
        ordered: vec![],
        found_by: found_by.iter().map(|(column, how)| ((*column).into(), *how)).collect(),
        first_by: first_by.map(String::from),
        place: "the rule in line 7".into(),
    }
}

#[test]
fn an_index_by_which_no_rows_are_found_is_missing() {
    let dir = tempfile::tempdir().unwrap();
    let db = Connection::open(dir.path().join("t.db")).unwrap();
    db.execute_batch(
        "PRAGMA journal_mode = WAL;
         CREATE TABLE Calls (id INTEGER PRIMARY KEY, pier TEXT, ship TEXT COLLATE NOCASE, open INT);
         CREATE INDEX of_some ON Calls (pier) WHERE open = 1",
    )
    .unwrap();
    let settings =
        Settings { name: "s".into(), url: "sqlite:t.db".into(), tables: vec!["calls".into()], ..Settings::default() };
    let source = from_settings(&settings, dir.path()).unwrap();
    source.carry_out(&source.plan().unwrap().statements).unwrap();
    let check = |c: &Condition| -> Vec<Finding> { source.check(std::slice::from_ref(c)).unwrap() };

    let by = |column, how| condition(&[(column, how)], None);
    assert_eq!(check(&by("pier", LookUp::Equal)), [], "of a small table all is read");
    db.execute_batch(
        "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 10000)
         INSERT INTO Calls SELECT i, 'pier ' || (i % 900), 'Ship ' || i, 1 FROM n;
         ANALYZE",
    )
    .unwrap();
    assert_eq!(check(&condition(&[("id", LookUp::Equal), ("id", LookUp::Ordered)], Some("id"))), []);
    assert_eq!(check(&condition(&[("pier", LookUp::Equal)], Some("id"))), [], "the window's first rows are found");
    for (c, column, rows) in [
        (by("pier", LookUp::Equal), "pier", "pier IN ('pier 7')"),
        (by("ship", LookUp::Equal), "ship", "ship IN ('Ship 7')"),
        (by("ship", LookUp::Ordered), "ship", "(ship COLLATE BINARY >= 'Ship 7')"),
        (by("ship", LookUp::Begins), "ship", "(ship COLLATE BINARY >= 'Ship 7' AND ship COLLATE BINARY <= 'Ship 8')"),
        (condition(&[], Some("pier")), "pier", "(pier COLLATE BINARY >= 'pier 7')"),
    ] {
        let found = &check(&c)[..];
        let text =
            format!("the rule in line 7 finds its rows by {column}, of which there is no index: all rows are read");
        assert!(found.len() == 1 && !found[0].blocks && found[0].text == text, "{found:?}");
        let fix = found[0].fix.clone().unwrap();
        source.carry_out(std::slice::from_ref(&fix)).unwrap();
        assert_eq!(check(&c), [], "after {fix}");
        let mut read = db.prepare(&format!("SELECT id FROM Calls WHERE {rows}")).unwrap();
        let count = read.query_map([], |r| r.get::<_, i64>(0)).unwrap().count();
        assert!(count > 0, "{rows}");
        assert_eq!(read.get_status(StatementStatus::FullscanStep), 0, "{rows} after {fix}");
        let name = fix.split('"').nth(1).unwrap();
        db.execute_batch(&format!("DROP INDEX \"{name}\"")).unwrap();
    }
}
