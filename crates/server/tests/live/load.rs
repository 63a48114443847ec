//! Four writers that are not ours, two instances, fifty clients that come and go: at the end every result equals the
//! database's answer under that person's rules, and nothing withheld was ever in a frame.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::{Duration, Instant};

use crate::common::{Cluster, rule};
use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Notification;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Map, Value as Json, json};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT NOT NULL, status TEXT NOT NULL,
  note TEXT NOT NULL, secret TEXT NOT NULL);
  CREATE TABLE agencies (name TEXT PRIMARY KEY, city TEXT)";
const AGENCIES: [&str; 3] = ["Brightwater", "Northlight", "Dunmore"];
/// With what has to hold of a row of `calls`.
const QUERIES: [(&str, &str); 5] = [
    ("SELECT id, agency, status, note FROM calls", "true"),
    ("SELECT id, note FROM calls WHERE status = 'inbound'", "status = 'inbound'"),
    ("SELECT id, status FROM calls WHERE status IN ('expected', 'berthed')", "status IN ('expected', 'berthed')"),
    ("SELECT c.id, c.note, a.city FROM calls c LEFT JOIN agencies a ON a.name = c.agency", "true"),
    (
        "SELECT c.id, c.status, a.city FROM agencies a JOIN calls c ON c.agency = a.name WHERE c.status <> 'berthed'",
        "status <> 'berthed' AND EXISTS (SELECT 1 FROM agencies a WHERE a.name = agency)",
    ),
];
const WRITERS: u64 = 4;
const EACH: u64 = 5_000;

/// What one writer does, as SQL for the `sqlite3` program. Every text of a row names its agency, so that it can be told
/// in a frame whose row it was.
fn script(seed: u64) -> String {
    let mut rng = StdRng::seed_from_u64(seed);
    let mut sql = String::new();
    for i in 0..EACH {
        let id = rng.random_range(0..200);
        let agency = AGENCIES[rng.random_range(0..3)];
        let status = ["expected", "inbound", "berthed"][rng.random_range(0..3)];
        let row = format!("{id}, '{agency}', '{status}', '{agency} note {seed}.{i}', 'SECRET {i}'");
        sql += "BEGIN IMMEDIATE;";
        sql += &match rng.random_range(0..12) {
            0..3 => format!("INSERT OR REPLACE INTO calls VALUES ({row});"),
            3..5 => format!("UPDATE calls SET status = '{status}' WHERE id = {id};"),
            5..6 => format!("UPDATE calls SET secret = 'SECRET {seed}.{i}' WHERE id BETWEEN {id} AND {id} + 3;"),
            6..8 => {
                format!("UPDATE calls SET agency = '{agency}', note = '{agency} moved {seed}.{i}' WHERE id = {id};")
            }
            8..9 => format!("DELETE FROM calls WHERE id = {id};"),
            9 => format!("INSERT OR REPLACE INTO agencies VALUES ('{agency}', '{agency} city {seed}.{i}');"),
            10 => format!(
                "DELETE FROM agencies WHERE name = '{agency}'; UPDATE calls SET status = 'inbound' WHERE id = {id};"
            ),
            _ => format!("INSERT OR IGNORE INTO calls VALUES ({row}); DELETE FROM calls WHERE id = {id} + 1;"),
        };
        sql += "COMMIT;\n";
    }
    sql
}

struct Person {
    agency: Option<&'static str>,
    query: usize,
}

/// Reads until the end, keeping the result, and holding every frame against what this person may see.
async fn read(session: &mut Session, person: &Person, live: &mut ResultSet, until: impl Fn(u64, u64) -> bool) {
    let (mut at, mut deltas) = (0, 0);
    while !until(at, deltas) {
        let (incoming, text) = session.next().await.expect("the connection holds");
        assert!(!text.contains("SECRET"), "a hidden column in a frame: {text}");
        if let Some(agency) = person.agency {
            let others = AGENCIES.iter().filter(|a| **a != agency);
            others.for_each(|a| assert!(!text.contains(a), "a withheld row in a frame to {agency}: {text}"));
        }
        let Incoming::Notification(told) = incoming else { continue };
        live.apply(&told).unwrap_or_else(|e| panic!("{e}: {text}"));
        match told {
            Notification::Current { position: Some(position), .. } => {
                at = position.rsplit(':').next().unwrap().parse().unwrap()
            }
            Notification::Delta { .. } => deltas += 1,
            _ => {}
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn every_result_equals_the_database_at_the_end() {
    let columns = ["id", "agency", "status", "note"];
    let rules = vec![
        rule("control", "calls", None, &columns),
        rule("control", "agencies", None, &[]),
        rule("agent", "calls", Some("agency = claim.agency"), &columns),
        rule("agent", "agencies", Some("name = claim.agency"), &[]),
    ];
    // Small queues, so that some clients are brought up to date by snapshots under way.
    let queue = QueueLimits { deltas: 64, bytes: 64 << 10 };
    let cluster = Cluster::start(SCHEMA, &["calls", "agencies"], rules, queue).await;
    // Beside an operator clients are told positions.
    for i in 0..2 {
        let mut operator = cluster.operator(i).await;
        tokio::spawn(async move { while operator.next().await.is_ok() {} });
    }
    let written = Arc::new(AtomicBool::new(false));
    let mut clients = Vec::new();
    for i in 0..50u64 {
        let (door, written) = (cluster.door(), written.clone());
        clients.push(tokio::spawn(async move {
            let mut rng = StdRng::seed_from_u64(1_000 + i);
            loop {
                let last_round = written.load(Relaxed);
                let agency = rng.random_bool(0.8).then(|| AGENCIES[rng.random_range(0..3)]);
                let person = Person { agency, query: rng.random_range(0..QUERIES.len()) };
                let (roles, claims) = match agency {
                    Some(agency) => (["agent"], json!({"agency": agency})),
                    None => (["control"], json!({})),
                };
                let mut session = door.connect(rng.random_range(0..2), &roles, claims).await;
                let answer = session.subscribe(QUERIES[person.query].0).await.unwrap();
                let mut live = ResultSet::new(answer);
                if last_round {
                    return (session, person, live);
                }
                let enough = rng.random_range(1..400);
                let begun = Instant::now();
                let done = |_, deltas| deltas >= enough || begun.elapsed() > Duration::from_secs(8);
                read(&mut session, &person, &mut live, done).await;
                if rng.random_bool(0.5) {
                    session.close().await;
                }
            }
        }));
    }
    let path = cluster.path();
    let writers: Vec<_> = (0..WRITERS).map(|w| testbed::sqlite3(&path, &script(w))).collect();
    for mut w in writers {
        let status = tokio::task::spawn_blocking(move || w.0.wait()).await.unwrap().unwrap();
        assert!(status.success(), "a writer failed: {status}");
    }
    written.store(true, Relaxed);
    let last: u64 = cluster.db.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get::<_, i64>(0)).unwrap() as u64;
    assert!(last > WRITERS * EACH / 2);
    for client in clients {
        let (mut session, person, mut live) = client.await.unwrap();
        read(&mut session, &person, &mut live, |at, _| at >= last).await;
        let rows = format!(
            "SELECT id, json_object('id', id, 'agency', agency, 'status', status, 'note', note, 'city', (SELECT city FROM agencies WHERE name = agency)) FROM calls WHERE {} AND ({} IS NULL OR agency = {})",
            QUERIES[person.query].1,
            person.agency.map_or("NULL".into(), |a| format!("'{a}'")),
            person.agency.map_or("NULL".into(), |a| format!("'{a}'")),
        );
        let mut s = cluster.db.prepare(&rows).unwrap();
        let expected: BTreeMap<String, Map<String, Json>> = s
            .query_map([], |r| Ok((r.get::<_, i64>(0)?, r.get::<_, String>(1)?)))
            .unwrap()
            .map(|r| r.unwrap())
            .map(|(id, row)| {
                let all: Map<String, Json> = serde_json::from_str(&row).unwrap();
                let wanted = live.columns.iter().map(|c| (c.name.clone(), all[&c.name].clone())).collect();
                (format!("[{id}]"), wanted)
            })
            .collect();
        assert_eq!(live.rows, expected, "{:?} {}", person.agency, QUERIES[person.query].0);
    }
}
