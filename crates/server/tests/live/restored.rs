//! A database that is put back to what it was, in every way, under running instances with clients.

use std::path::Path;

use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::send_queue::QueueLimits;
use rusqlite::Connection;
use serde_json::{Value as Json, json};
use testbed::PATIENCE;

use crate::common::{Cluster, rule};

const SCHEMA: &str =
    "CREATE TABLE t (id INTEGER PRIMARY KEY, v TEXT); INSERT INTO t VALUES (1, 'first'), (2, 'second');";

fn rows(path: &Path) -> Vec<Json> {
    let db = Connection::open(path).unwrap();
    let mut found = db.prepare("SELECT id, v FROM t ORDER BY id").unwrap();
    let row = |r: &rusqlite::Row<'_>| Ok(json!({"id": r.get::<_, i64>(0)?, "v": r.get::<_, String>(1)?}));
    found.query_map([], row).unwrap().map(Result::unwrap).collect()
}

/// Follows a live query until it is as the database is.
async fn right(session: &mut Session, live: &mut ResultSet, path: &Path) {
    let follow = async {
        while live.rows.values().map(|row| Json::Object(row.clone())).collect::<Vec<_>>() != rows(path) {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                live.apply(&told).unwrap();
            }
        }
    };
    tokio::time::timeout(PATIENCE, follow).await.unwrap_or_else(|_| panic!("{:?} is not {:?}", live.rows, rows(path)));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_clients_have_is_what_was_restored() {
    let everybody = vec![rule("anonymous", "t", None, &[])];
    let c = Cluster::start(SCHEMA, &["t"], everybody, QueueLimits::default()).await;
    let path = c.path();
    let copy = path.with_extension("copy");
    let mut clients = Vec::new();
    for i in 0..2 {
        let mut session = Session::connect(&c.url(i), None).await.unwrap();
        let live = ResultSet::new(session.subscribe("SELECT * FROM t").await.unwrap());
        clients.push((session, live));
    }
    macro_rules! all_are_right {
        () => {
            for (session, live) in &mut clients {
                right(session, live, &path).await;
            }
        };
    }
    let write = |sql: &str| {
        // A connection of its own: what was restored, or stands in its place, is another file to whoever has it open.
        let db = Connection::open(&path).unwrap();
        db.busy_timeout(PATIENCE).unwrap();
        db.execute_batch(sql).unwrap();
    };
    for n in 0..3 {
        write(&format!("UPDATE t SET v = 'kept {n}' WHERE id = 1"));
        all_are_right!();
        let _ = std::fs::remove_file(&copy);
        Connection::open(&path).unwrap().execute("VACUUM INTO ?1", [copy.to_str().unwrap()]).unwrap();
        // As many changes as follow afterwards, so that positions are used again.
        write("UPDATE t SET v = 'lost' WHERE id = 2; INSERT INTO t (v) VALUES ('lost too')");
        all_are_right!();
        let cursors: Vec<_> = clients.iter().map(|(_, live)| live.cursor.clone()).collect();
        match n {
            // Through the backup interface, into the file that is open; the second time it goes on at once.
            0 | 1 => {
                let from = Connection::open(&copy).unwrap();
                let mut into = Connection::open(&path).unwrap();
                into.busy_timeout(PATIENCE).unwrap();
                let backup = rusqlite::backup::Backup::new(&from, &mut into).unwrap();
                backup.run_to_completion(1_000, std::time::Duration::ZERO, None).unwrap();
            }
            // By another file in its place.
            _ => {
                for tail in ["-wal", "-shm"] {
                    let _ = std::fs::remove_file(format!("{}{tail}", path.display()));
                }
                std::fs::rename(&copy, &path).unwrap();
            }
        }
        if n > 0 {
            write("UPDATE t SET v = 'found' WHERE id = 2; INSERT INTO t (v) VALUES ('found too')");
        }
        all_are_right!();
        write("UPDATE t SET v = v || ', and on'");
        all_are_right!();
        // A cursor of the history that is gone leads to a whole result.
        for (i, cursor) in cursors.iter().enumerate() {
            let mut session = Session::connect(&c.url(i), None).await.unwrap();
            let answer =
                session.call("subscribe", json!({"query": "SELECT * FROM t", "cursor": cursor})).await.unwrap();
            let mut live = ResultSet::new(serde_json::from_value(answer).unwrap());
            right(&mut session, &mut live, &path).await;
        }
    }
    c.stop().await;
}
