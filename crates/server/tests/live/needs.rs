//! What rules and stored queries need of a database, so that `check` can say what it lacks.

use gossip_core::plan::LookUp::{Begins, Equal, Ordered};
use gossip_server::config::StoredQuery;
use gossip_server::instance::conditions;
use gossip_source::sqlite::SqliteSource;

use crate::common::rule;

#[test]
fn rules_their_sub_selects_and_queries_say_by_what_rows_are_found() {
    let dir = tempfile::tempdir().unwrap();
    let db = rusqlite::Connection::open(dir.path().join("t.db")).unwrap();
    db.execute_batch(
        "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, draught REAL);
         CREATE TABLE crews (id INTEGER PRIMARY KEY, call INTEGER, member TEXT);",
    )
    .unwrap();
    let source = SqliteSource::new("s", "sqlite:t.db", vec!["calls".into(), "crews".into()], dir.path()).unwrap();
    let rules = [
        rule("agent", "calls", Some("agency = claim.agency"), &[]),
        rule("pilot", "calls", Some("id IN (SELECT call FROM crews WHERE member = claim.sub)"), &[]),
    ];
    let query = |sql: &str| StoredQuery { sql: sql.into(), line: 1 };
    let queries = [
        ("deep", query("SELECT * FROM calls WHERE draught > :n OR agency LIKE 'Bright%'")),
        ("first", query("SELECT id FROM calls ORDER BY draught LIMIT 3")),
    ];
    let queries = queries.map(|(name, q)| (name.to_string(), q)).into();
    let found = conditions(&rules, &queries, &source).unwrap();
    let by = |place: &str| {
        let c = found.iter().find(|c| c.place == place).unwrap_or_else(|| panic!("{place} of {found:?}"));
        let found_by: Vec<_> = c.found_by.iter().map(|(column, how)| (column.as_str(), *how)).collect();
        (c.table.name.to_string(), found_by, c.first_by.as_deref())
    };
    let rule = found.iter().filter(|c| c.place == "the rule in line 1").map(|c| &c.found_by);
    assert_eq!(rule.collect::<Vec<_>>(), [&[("agency".to_string(), Equal)], &[("id".to_string(), Equal)]]);
    assert_eq!(by("a sub-select of the rule in line 1"), ("crews".into(), vec![("member", Equal)], None));
    assert_eq!(by("the query deep"), ("calls".into(), vec![("agency", Begins), ("draught", Ordered)], None));
    assert_eq!(by("the query first"), ("calls".into(), vec![], Some("draught")));
}
