//! What of a result is sent: rows as they were, keys alone, only that something changed, only changes.

use gossip_client::{Incoming, Session};
use gossip_core::send_queue::QueueLimits;
use serde_json::{Value as Json, json};

use crate::common::{Cluster, rule};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT, eta INTEGER);
  INSERT INTO calls VALUES (1, 'fen', 'expected', 10), (2, 'fen', 'expected', 20), (3, 'moor', 'expected', 30)";

async fn cluster() -> Cluster {
    let rules = vec![rule("agent", "calls", Some("agency = claim.agency"), &[])];
    Cluster::start(SCHEMA, &["calls"], rules, QueueLimits::default()).await
}

/// A client of the agency `fen` and its answer to a subscription.
async fn begin(c: &Cluster, i: usize, how: Json) -> (Session, Json) {
    let mut session = c.connect(i, &["agent"], json!({"agency": "fen"})).await;
    let answer = session.call("subscribe", how).await.unwrap();
    (session, answer)
}

/// The parameters of the next notification of this kind.
async fn next(session: &mut Session, method: &str) -> Json {
    let read = async {
        loop {
            let (incoming, text) = session.next().await.unwrap();
            let message: Json = serde_json::from_str(&text).unwrap();
            if matches!(incoming, Incoming::Notification(_)) && message["method"] == method {
                return message["params"].clone();
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, read).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn rows_are_told_as_they_were_but_not_what_is_taken_back() {
    let c = cluster().await;
    let query = "SELECT id, status, eta FROM calls WHERE status = 'expected'";
    let (mut rows, _) = begin(&c, 0, json!({"query": query, "was": true})).await;
    let (mut changed, _) = begin(&c, 1, json!({"query": query, "was": true, "send": "changed"})).await;
    let grouped = "SELECT status, count(*) AS n FROM calls GROUP BY status";
    let (mut groups, _) = begin(&c, 1, json!({"query": grouped, "was": true})).await;

    c.db.execute_batch("UPDATE calls SET eta = 11 WHERE id = 1").unwrap();
    let told = next(&mut rows, "delta").await;
    assert_eq!(told["changes"][0]["was"], json!({"id": 1, "status": "expected", "eta": 10}));
    assert_eq!(told["changes"][0]["row"]["eta"], 11);
    assert_eq!(next(&mut changed, "delta").await["changes"][0]["was"], json!({"eta": 10}));

    c.db.execute_batch("UPDATE calls SET status = 'moored', eta = 12 WHERE id = 1").unwrap();
    let left = json!([{"op": "remove", "key": [1], "was": {"id": 1, "status": "expected", "eta": 11}}]);
    assert_eq!(next(&mut rows, "delta").await["changes"], left);
    assert_eq!(next(&mut changed, "delta").await["changes"], left);
    let told = next(&mut groups, "delta").await["changes"].clone();
    let expected = told.as_array().unwrap().iter().find(|c| c["key"] == json!(["expected"])).unwrap();
    assert_eq!((&expected["was"]["n"], &expected["row"]["n"]), (&json!(2), &json!(1)));

    // A row that changes hands is not told any more, not even as it was.
    c.db.execute_batch("UPDATE calls SET agency = 'moor' WHERE id = 2").unwrap();
    assert_eq!(next(&mut rows, "delta").await["changes"], json!([{"op": "remove", "key": [2]}]));
    assert_eq!(next(&mut groups, "delta").await["changes"], json!([{"op": "remove", "key": ["expected"]}]));
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_and_signals_carry_no_values() {
    let c = cluster().await;
    let query = "SELECT id, eta FROM calls WHERE status = 'expected' ORDER BY eta LIMIT 2";
    let (mut keys, answer) = begin(&c, 0, json!({"query": query, "send": "keys"})).await;
    assert_eq!(answer["rows"], json!([{"key": [1]}, {"key": [2]}]));
    let (mut signal, answer) = begin(&c, 1, json!({"query": query, "send": "signal"})).await;
    assert_eq!((&answer["rows"], &answer["shape"]), (&json!([]), &json!("ordered")));

    c.db.execute_batch("UPDATE calls SET eta = 25 WHERE id = 1").unwrap();
    let told = next(&mut keys, "delta").await;
    let moved = told["changes"].as_array().unwrap();
    assert!(moved.iter().all(|c| c.get("row").is_none() && c.get("changed").is_none()), "{told}");
    assert!(moved.iter().any(|c| c["op"] == "replace" && c["key"] == json!([1])), "{told}");
    let told = next(&mut signal, "delta").await;
    assert!(told.get("changes").is_none() && told["cursor"].is_string(), "{told}");

    // Of many that a client has not read yet, the newest is left; it is the last commit's.
    for eta in 26..60 {
        c.db.execute_batch(&format!("UPDATE calls SET eta = {eta} WHERE id = 1")).unwrap();
    }
    let (mut whole, answer) = begin(&c, 1, json!({"query": "SELECT id, eta FROM calls"})).await;
    let mut eta = answer["rows"][0]["row"]["eta"].clone();
    while eta != 59 {
        eta = next(&mut whole, "delta").await["changes"][0]["row"]["eta"].clone();
    }
    let mut at = next(&mut signal, "delta").await["at"].clone();
    c.db.execute_batch("UPDATE calls SET eta = 5 WHERE id = 1").unwrap();
    let last = next(&mut whole, "delta").await["at"].clone();
    while at != last {
        at = next(&mut signal, "delta").await["at"].clone();
    }
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn who_wants_only_changes_gets_no_rows_at_any_time() {
    let c = cluster().await;
    // A stateless query begins at once, others when they are known; a gap says that something was lost.
    let asked = [
        ("SELECT id, eta FROM calls", json!([{"op": "add", "key": [7], "row": {"id": 7, "eta": 70}}])),
        ("SELECT count(*) AS n FROM calls", json!([{"op": "replace", "key": [], "row": {"n": 3}, "changed": ["n"]}])),
    ];
    let mut clients = Vec::new();
    for (query, change) in asked {
        let (session, answer) = begin(&c, 0, json!({"query": query, "initial": false})).await;
        assert_eq!(answer["rows"], json!([]), "{query}");
        assert!(answer.get("more").is_none() && answer["cursor"].is_string());
        clients.push((session, change));
    }
    c.db.execute_batch("INSERT INTO calls VALUES (7, 'fen', 'expected', 70), (8, 'moor', 'expected', 80)").unwrap();
    for (session, change) in &mut clients {
        assert_eq!(next(session, "delta").await["changes"], *change);
    }
    // What they miss meanwhile follows from the cursor.
    let (mut first, _) = begin(&c, 0, json!({"query": "SELECT id FROM calls", "initial": false})).await;
    c.db.execute_batch("DELETE FROM calls WHERE id = 7").unwrap();
    let cursor = next(&mut first, "delta").await["cursor"].clone();
    c.db.execute_batch("INSERT INTO calls VALUES (9, 'fen', 'expected', 90)").unwrap();
    next(&mut first, "delta").await;
    let again = json!({"query": "SELECT id FROM calls", "initial": false, "cursor": cursor});
    let (mut again, answer) = begin(&c, 0, again).await;
    assert_eq!(answer["resumed"], true);
    assert_eq!(next(&mut again, "delta").await["changes"][0]["key"], json!([9]));
    // Rights that change leave nothing to send either.
    let more = vec![rule("agent", "calls", Some("agency = claim.agency OR eta > 85"), &[])];
    c.instances[0].as_ref().unwrap().set_rules(more).await;
    let told = next(&mut again, "snapshot").await;
    assert_eq!((&told["rows"], &told["why"]), (&json!([]), &json!("rights-changed")));

    let mut session = c.connect(0, &["agent"], json!({"agency": "fen"})).await;
    for (how, why) in [
        (
            json!({"query": "SELECT id FROM calls ORDER BY id", "initial": false}),
            "initial: false does not suit ORDER BY",
        ),
        (json!({"query": "SELECT id FROM calls", "was": true, "send": "keys"}), "was and send"),
    ] {
        let refused = session.call("subscribe", how).await.unwrap_err().to_string();
        assert!(refused.contains(why), "{refused}");
    }
    c.stop().await;
}
