//! Queries that compute, over the wire: what they show, and how they fail.

use crate::common::{Cluster, rule};
use gossip_client::{ClientError, Incoming, ResultSet};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::notification::Notification;
use serde_json::json;

const SCHEMA: &str = "CREATE TABLE loads (id INTEGER PRIMARY KEY, ship TEXT, tons INTEGER, crates INTEGER);
  INSERT INTO loads VALUES (1, 'Petrel', 90, 30), (2, 'Osprey', 10, 5), (3, 'hidden', 1, 0)";

#[tokio::test(flavor = "multi_thread")]
async fn a_query_computes_and_fails_only_on_rows_that_its_client_may_see() {
    let rules = vec![rule("agent", "loads", Some("ship <> 'hidden'"), &[])];
    let c = Cluster::start(SCHEMA, &["loads"], rules, QueueLimits::default()).await;
    let mut agent = c.connect(0, &["agent"], json!({})).await;
    let heavy = "SELECT id, ship FROM loads WHERE tons / crates >= 3 AND upper(ship) || '!' ILIKE 'p%!'";
    let answer = agent.subscribe(heavy).await.unwrap();
    let number = answer.subscription;
    let mut result = ResultSet::new(answer);
    // The row with no crates is withheld: it is divided by nothing, and nobody hears of it.
    assert_eq!(result.rows.len(), 1, "{:?}", result.rows);
    c.db.execute_batch(
        "UPDATE loads SET crates = 10 WHERE id = 1; UPDATE loads SET ship = 'puffin', tons = 15 WHERE id = 2",
    )
    .unwrap();
    c.db.execute_batch("INSERT INTO loads VALUES (4, 'hidden', 5, 0)").unwrap();
    let read = async {
        while result.rows.len() < 2 {
            if let Incoming::Notification(told) = agent.next().await.unwrap().0 {
                result.apply(&told).unwrap();
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, read).await.expect("both ships");
    // Now one that it may see has none, in the same transaction as another change.
    c.db.execute_batch(
        "BEGIN; UPDATE loads SET tons = 16 WHERE id = 2; UPDATE loads SET crates = 0 WHERE id = 1; COMMIT",
    )
    .unwrap();
    let closed = async {
        loop {
            if let Incoming::Notification(Notification::Closed { subscription, why, .. }) =
                agent.next().await.unwrap().0
            {
                assert_eq!(subscription, number);
                return why;
            }
        }
    };
    assert_eq!(tokio::time::timeout(testbed::PATIENCE, closed).await.expect("it fails"), "query-failed");
    let Err(ClientError::Refused(e)) = agent.subscribe(heavy).await else { panic!("it still fails") };
    assert_eq!((e.code, &e.message[..]), (-32_007, "the query fails on a row: division by zero"));
    assert_eq!(e.data.unwrap()["message"], "division by zero");
    // What decides without it does not fail, and the connection goes on.
    let other = agent.subscribe("SELECT id FROM loads WHERE crates <> 0 AND tons / crates >= 3").await.unwrap();
    assert_eq!(ResultSet::new(other).rows.len(), 1);
    // Once it is mended, the query is taken again.
    c.db.execute_batch("UPDATE loads SET crates = 1 WHERE id = 1").unwrap();
    let taken = async {
        while agent.subscribe(heavy).await.is_err() {
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
    };
    tokio::time::timeout(testbed::PATIENCE, taken).await.expect("it does not fail any more");
}
