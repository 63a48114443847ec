//! Large values that the database stores apart, and leaves out of the changes that do not touch them.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::Duration;

use gossip_client::{Incoming, ResultSet, Session};
use postgres::{Client, NoTls};
use serde_json::json;
use testbed::{PATIENCE, Postgres};

use crate::common::{prepared, rule, run, start};

const ROWS: i64 = 300;

/// Between two writes, each of a twentieth of the rows; a snapshot takes longer.
const EVERY: Duration = Duration::from_millis(2);

/// Rows with a large value are written all the time, which the changes leave out. Whoever comes meanwhile gets a result,
/// and what follows keeps it right.
#[tokio::test(flavor = "multi_thread")]
async fn whoever_comes_while_rows_with_large_values_are_written_gets_a_result() {
    let server = Postgres::start();
    let url = server.url();
    let schema = format!(
        "CREATE TABLE notes (id int PRIMARY KEY, n int NOT NULL, body text);
         ALTER TABLE notes ALTER body SET STORAGE EXTERNAL;
         INSERT INTO notes SELECT i, 0, repeat('note ' || i, 1000) FROM generate_series(1, {ROWS}) i"
    );
    run(&url, schema).await;
    let source = prepared(&url, &["notes"], false).await;
    let instance = start(source, vec![rule("anonymous", "notes", None, &[])]).await;
    let over = Arc::new(AtomicBool::new(false));
    let (of, ends) = (url.clone(), over.clone());
    let writer = tokio::task::spawn_blocking(move || {
        let mut db = Client::connect(&of, NoTls).unwrap();
        let mut n = 0;
        while !ends.load(Relaxed) {
            n += 1;
            db.execute("UPDATE notes SET n = $1 WHERE id % 20 = $1 % 20", &[&n]).unwrap();
            std::thread::sleep(EVERY);
        }
        let rows = db.query("SELECT id, n FROM notes", &[]).unwrap();
        rows.into_iter()
            .map(|row| (format!("[{}]", row.get::<_, i32>(0)), row.get(1)))
            .collect::<BTreeMap<String, i32>>()
    });
    let mut session = Session::connect(&instance.address().to_string(), None).await.unwrap();
    let mut all = Vec::new();
    for i in 0..5 {
        // Another query each time, so that each has a snapshot of its own.
        let query = format!("SELECT * FROM notes WHERE n > -{i}");
        let answer = tokio::time::timeout(PATIENCE, session.subscribe(&query)).await;
        all.push(ResultSet::new(answer.expect("an answer").expect("a result")));
    }
    over.store(true, Relaxed);
    let truth = writer.await.unwrap();
    let shows = |live: &ResultSet| -> BTreeMap<String, i32> {
        live.rows.iter().map(|(key, row)| (key.clone(), row["n"].as_i64().unwrap() as i32)).collect()
    };
    let follow = async {
        while all.iter().any(|live| shows(live) != truth) {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                all.iter_mut().for_each(|live| drop(live.apply(&told).unwrap()));
            }
        }
    };
    tokio::time::timeout(PATIENCE, follow).await.expect("all changes");
    for row in all.iter().flat_map(|live| live.rows.values()) {
        assert_eq!(row["body"], json!(format!("note {}", row["id"]).repeat(1000)));
    }
    instance.stop().await;
}
