//! Groups, orders and windows over the wire: what clients hold stays what the database says, in its order.

use crate::common::{Cluster, rule};
use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Shape;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value as Json, json};

const SCHEMA: &str = "CREATE TABLE loads (id INTEGER PRIMARY KEY, ship TEXT, tons INTEGER, berth TEXT);
  INSERT INTO loads VALUES (1, 'Petrel', 90, 'a'), (2, 'Osprey', 10, 'b'), (3, 'Grebe', 40, 'a')";

/// Queries that mean the same to the database, and what each result is. All show their keys: a result of other rows that
/// look the same is not yet what the database says.
const QUERIES: [(&str, Shape); 6] = [
    ("SELECT id, ship, tons FROM loads ORDER BY tons DESC, id LIMIT 5", Shape::Ordered),
    ("SELECT id, ship, tons FROM loads WHERE tons > 20 ORDER BY ship, id LIMIT 4 OFFSET 2", Shape::Ordered),
    ("SELECT id, berth, tons * 2 AS twice FROM loads WHERE berth <> 'c' ORDER BY berth, tons, id", Shape::Ordered),
    ("SELECT berth, count(*) AS n, sum(tons) AS tons FROM loads GROUP BY berth", Shape::Keyed),
    (
        "SELECT berth, max(tons) AS most FROM loads GROUP BY berth ORDER BY max(tons) DESC, berth LIMIT 2",
        Shape::Ordered,
    ),
    ("SELECT count(*) AS n, count(DISTINCT ship) AS ships, min(tons) AS least FROM loads", Shape::Keyed),
];

/// The cells of a row, as texts.
fn texts<'a>(cells: impl Iterator<Item = &'a Json>) -> Vec<String> {
    cells.map(|v| v.as_str().map_or_else(|| v.to_string(), String::from)).collect()
}

pub fn held(live: &ResultSet) -> Vec<Vec<String>> {
    let row = |row: &serde_json::Map<String, Json>| texts(live.columns.iter().map(|c| &row[&c.name]));
    live.in_order().map(row).collect()
}

pub fn wanted(db: &rusqlite::Connection, sql: &str) -> Vec<Vec<String>> {
    let mut query = db.prepare(sql).unwrap();
    let count = query.column_count();
    let cell = |v: rusqlite::types::Value| match v {
        rusqlite::types::Value::Null => "null".to_string(),
        rusqlite::types::Value::Integer(i) => i.to_string(),
        rusqlite::types::Value::Text(s) => s,
        other => panic!("{other:?}"),
    };
    let rows = query.query_map([], |row| Ok((0..count).map(|i| cell(row.get_unwrap(i))).collect())).unwrap();
    rows.map(Result::unwrap).collect()
}

pub async fn until_it_is(session: &mut Session, live: &mut ResultSet, wanted: &[Vec<String>], sql: &str) {
    let same = |live: &ResultSet| {
        let mut held = held(live);
        if live.shape != Shape::Ordered {
            held.sort();
        }
        held == wanted
    };
    let read = async {
        while live.unfinished || !same(live) {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                live.apply(&told).unwrap_or_else(|e| panic!("{sql}: {e}"));
            }
        }
    };
    let ended = tokio::time::timeout(testbed::PATIENCE, read).await;
    assert!(ended.is_ok(), "{sql}\n{:?}\n{wanted:?}", held(live));
}

#[tokio::test(flavor = "multi_thread")]
async fn results_stay_what_the_database_says_and_in_its_order() {
    let rules = vec![rule("agent", "loads", None, &[])];
    let c = Cluster::start(SCHEMA, &["loads"], rules, QueueLimits::default()).await;
    let mut clients = Vec::new();
    for (i, (sql, shape)) in QUERIES.into_iter().enumerate() {
        for every in [0, 40] {
            let mut session = c.connect(i % 2, &["agent"], json!({})).await;
            let answer = session.call("subscribe", json!({"query": sql, "every_ms": every})).await.unwrap();
            let answer: gossip_protocol::Subscribed = serde_json::from_value(answer).unwrap();
            assert_eq!(answer.shape, shape, "{sql}");
            clients.push((sql, session, ResultSet::new(answer)));
        }
    }
    let mut rng = StdRng::seed_from_u64(5);
    for round in 0..6 {
        for _ in 0..25 {
            let id = rng.random_range(1..20);
            let (tons, ship) =
                (rng.random_range(0..50), ["Petrel", "Osprey", "Grebe", "Dunlin"][rng.random_range(0..4)]);
            let berth = ["a", "b", "c"][rng.random_range(0..3)];
            let write = format!("INSERT OR REPLACE INTO loads VALUES ({id}, '{ship}', {tons}, '{berth}')");
            let other = format!("DELETE FROM loads WHERE id = {}", rng.random_range(1..20));
            c.db.execute_batch(&format!("BEGIN; {write}; {other}; COMMIT")).unwrap();
        }
        if round == 3 {
            c.db.execute_batch("DELETE FROM loads").unwrap();
        }
        for (sql, session, live) in &mut clients {
            let mut wanted = wanted(&c.db, sql);
            if live.shape != Shape::Ordered {
                wanted.sort();
            }
            until_it_is(session, live, &wanted, sql).await;
        }
    }
    // A client that comes now holds the same as those that followed.
    for (sql, _, live) in &clients {
        let mut late = c.connect(1, &["agent"], json!({})).await;
        let late = ResultSet::new(late.subscribe(*sql).await.unwrap());
        assert_eq!((held(&late), &late.order), (held(live), &live.order), "{sql}");
    }
}
