//! A change that is lost without a trace, in a running instance: the audit finds it, says so and repairs it.

use std::io::Write;
use std::sync::atomic::Ordering::Relaxed;
use std::time::{Duration, Instant};

use gossip_client::{Incoming, ResultSet};
use gossip_core::send_queue::QueueLimits;
use serde_json::{Value as Json, json};
use testbed::PATIENCE;

use crate::common::{Cluster, rule};

const ROWS: usize = 10_000;

/// Time that this process has used on its processors.
fn used() -> Duration {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let ticks: Vec<u64> =
        stat.rsplit(')').next().unwrap().split_whitespace().skip(11).take(2).map(|n| n.parse().unwrap()).collect();
    Duration::from_millis(ticks.iter().sum::<u64>() * 10)
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_lost_without_a_trace_is_found_and_repaired() {
    let schema = format!(
        "CREATE TABLE calls (id INTEGER PRIMARY KEY, v INTEGER);
         WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {ROWS}) INSERT INTO calls SELECT i, 0 FROM n"
    );
    let rules = vec![rule("agent", "calls", None, &[])];
    let c = Cluster::start(&schema, &["calls"], rules, QueueLimits::default()).await;
    // The one that does not read hears of changes through the relay.
    let mut which = None;
    for (i, instance) in c.instances.iter().enumerate() {
        if instance.as_ref().unwrap().state().await.reading != "reading" {
            which = Some(i);
        }
    }
    let which = which.expect("one reads and one does not");
    let mut session = c.connect(which, &["agent"], json!({"sub": "ada"})).await;
    let mut live = ResultSet::new(session.subscribe("SELECT * FROM calls WHERE id > 0").await.unwrap());
    let mut operator = c.operator(which).await;
    let query = "SELECT name, audits, audit_differences FROM gossip.instances WHERE here";
    let standing = async |operator: &mut gossip_client::Session| -> (i64, i64) {
        let answer = operator.subscribe(query).await.unwrap();
        let row = ResultSet::new(answer.clone()).rows.into_values().next().unwrap_or_default();
        operator.call("unsubscribe", json!({"subscription": answer.subscription})).await.unwrap();
        let number = |name: &str| row.get(name).and_then(Json::as_i64).unwrap_or(0);
        (number("audits"), number("audit_differences"))
    };
    let follow = async |session: &mut gossip_client::Session, live: &mut ResultSet, key: &str, v: i64| {
        while live.rows.get(key).is_none_or(|row| row["v"] != json!(v)) {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                live.apply(&told).unwrap();
            }
        }
    };
    c.db.execute("UPDATE calls SET v = 1 WHERE id = 1", []).unwrap();
    tokio::time::timeout(PATIENCE, follow(&mut session, &mut live, "[1]", 1)).await.expect("a change");
    c.faults[which].empty_next.store(1, Relaxed);
    c.db.execute("UPDATE calls SET v = 2 WHERE id = 2", []).unwrap();
    let begun = Instant::now();
    tokio::time::timeout(PATIENCE, follow(&mut session, &mut live, "[2]", 2)).await.expect("what was lost");
    let repaired = begun.elapsed();
    assert_eq!(c.faults[which].empty_next.load(Relaxed), 0, "it was lost");
    let told = async {
        loop {
            let found = standing(&mut operator).await;
            if found.1 > 0 {
                return found;
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    let (audits, differences) = tokio::time::timeout(PATIENCE, told).await.expect("that it was found");
    assert_eq!(differences, 1);
    let alarms = operator.subscribe("SELECT kind, about FROM gossip.alarms").await.unwrap();
    let alarms = ResultSet::new(alarms);
    assert!(
        alarms.rows.values().any(|row| row["kind"] == json!("audit") && row["about"] == json!("calls")),
        "{:?}",
        alarms.rows
    );
    // What looking costs, where there is nothing to be found: an instance that does nothing else.
    let (begun, before) = (Instant::now(), used());
    let more = async {
        while standing(&mut operator).await.0 < audits + 2 {
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    };
    tokio::time::timeout(PATIENCE, more).await.expect("it goes on looking");
    assert_eq!(standing(&mut operator).await.1, 1, "and finds nothing more");
    let (spent, cost) = (begun.elapsed(), used() - before);
    let held = format!(
        "found and repaired after {repaired:.1?}; two instances with a result of {ROWS} rows that is audited use {:.1} % of a core\n",
        100.0 * cost.as_secs_f64() / spent.as_secs_f64()
    );
    std::io::stderr().write_all(held.as_bytes()).unwrap();
    c.stop().await;
}
