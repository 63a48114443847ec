//! What other rules would have let be heard, asked by an operator over the wire.

use crate::common::{Cluster, rule};
use gossip_client::{ClientError, Incoming, ResultSet};
use gossip_core::send_queue::QueueLimits;
use serde_json::json;

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT);
  CREATE TABLE crews (id INTEGER PRIMARY KEY, agency TEXT, member TEXT);
  INSERT INTO calls VALUES (1, 'Brightwater', 'expected'), (2, 'Northlight', 'expected');
  INSERT INTO crews VALUES (1, 'Northlight', 'somebody'), (2, 'Brightwater', 'someone else')";

#[tokio::test(flavor = "multi_thread")]
async fn an_operator_asks_what_other_rules_would_let_be_heard() {
    let rules = vec![rule("agent", "calls", Some("agency = claim.agency"), &["id", "agency", "status"])];
    let c = Cluster::start(SCHEMA, &["calls", "crews"], rules, QueueLimits::default()).await;
    let mut agent = c.connect(0, &["agent"], json!({"agency": "Brightwater"})).await;
    // Places for observed subscriptions are few, and for operators and those beside them.
    let observe = json!({"query": "SELECT * FROM calls", "observed": "it"});
    let refused = agent.call("subscribe", observe.clone()).await.unwrap_err().to_string();
    assert!(refused.contains("only beside an operator"), "{refused}");
    let mut ops = c.operator(0).await;
    let answer = agent.call("subscribe", observe).await.unwrap();
    assert_eq!(answer["rows"].as_array().unwrap().len(), 1);
    let mut verdicts = ResultSet::new(ops.subscribe("SELECT * FROM gossip.verdicts").await.unwrap());
    // One after the other: what is committed between two reads arrives as one.
    for id in [1, 2] {
        c.db.execute_batch(&format!("UPDATE calls SET status = 'inbound' WHERE id = {id}")).unwrap();
        let judged = |v: &ResultSet| v.stream.iter().filter(|r| r["verdict"] != "written").count();
        let read = async {
            while judged(&verdicts) < id {
                if let Incoming::Notification(told) = ops.next().await.unwrap().0 {
                    verdicts.apply(&told).unwrap();
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.expect("a verdict");
    }
    let subscription = verdicts.stream[0]["subscription"].clone();
    let others = json!([
        {"query": "SELECT * FROM calls", "roles": ["agent"], "claims": {"agency": "Northlight"}},
        {"query": "SELECT * FROM calls", "roles": ["pilot"], "claims": {"sub": "somebody"}},
    ]);
    let asked = json!([{"subscription": subscription}, others[0], others[1]]);

    // What is asked with the rules as they are changes nothing for anybody, and there is nobody without a rule.
    let own = json!({"role": "agent", "table": "calls", "rows": "agency = claim.agency",
        "columns": ["id", "agency", "status"]});
    let same = ops.call("what_if", json!({"rules": [own], "asked": asked})).await.unwrap();
    assert_eq!(same["transactions"], 2);
    for of in same["asked"].as_array().unwrap() {
        assert_eq!((&of["more"], &of["less"], &of["otherwise"]), (&json!(0), &json!(0), &json!(0)), "{of}");
    }
    assert!(same["asked"][2]["refused"].as_str().unwrap().contains("not known or not permitted"), "{same}");

    // Agents get the others' calls and no longer their own; pilots what a sub-select finds, which nobody asked yet.
    let rules = json!([
        {"role": "agent", "table": "calls", "rows": "agency <> claim.agency"},
        {"role": "pilot", "table": "calls", "rows": "agency IN (SELECT agency FROM crews WHERE member = claim.sub)"},
        {"role": "pilot", "table": "cals"},
    ]);
    let told = ops.call("what_if", json!({"rules": rules, "asked": asked})).await.unwrap();
    let counts = |i: usize| {
        let of = &told["asked"][i];
        (of["more"].as_u64().unwrap(), of["less"].as_u64().unwrap(), of["otherwise"].as_u64().unwrap())
    };
    assert_eq!((counts(0), counts(1), counts(2)), ((1, 1, 0), (1, 1, 0), (1, 0, 0)), "{told}");
    let newest = &told["asked"][2]["changes"][0];
    assert_eq!(newest["key"], json!([2]));
    assert_eq!(
        (&newest["effect"], &newest["verdict"], &newest["would_be"]),
        (&json!("more"), &json!("withheld"), &json!("matched"))
    );
    assert_eq!((&newest["old"]["status"], &newest["new"]["status"]), (&json!("expected"), &json!("inbound")));
    assert_eq!((&newest["heard"], &newest["would_be_heard"]), (&json!(null), &json!("replaced")));
    assert_eq!(told["unknown"], json!([]), "what the sub-select finds was read");
    assert!(
        told["problems"][0]["rule"] == 2
            && told["problems"][0]["message"].as_str().unwrap().contains("did you mean calls?"),
        "{told}"
    );

    // Nobody heard of it, nothing is left behind, and nobody else may ask.
    let rows = |table: &str| json!({"query": format!("SELECT * FROM gossip.{table}")});
    let feeds = ops.call("subscribe", rows("feeds")).await.unwrap();
    assert!(feeds["rows"].to_string().matches("FROM calls").count() <= 1, "{feeds}");
    match agent.call("what_if", json!({"rules": [], "asked": []})).await {
        Err(ClientError::Refused(e)) => assert_eq!(e.code, -32002),
        other => panic!("{other:?}"),
    }
    for (bad, words) in [
        (json!({"asked": []}), "rules is missing"),
        (json!({"rules": [{"role": "x"}], "asked": []}), "missing field `table`"),
        (json!({"rules": [], "asked": [{"subscription": 4_000_000}]}), "no subscription 4000000"),
        (json!({"rules": [], "asked": vec![others[0].clone(); 65]}), "asked, at most 64"),
    ] {
        let e = ops.call("what_if", bad).await.unwrap_err().to_string();
        assert!(e.contains(words), "{e}");
    }
    c.stop().await;
}

/// What came into a window is said to have come, also once others have taken its place; what did not, where it stands.
#[tokio::test(flavor = "multi_thread")]
async fn a_window_is_explained_as_it_was() {
    let rules = vec![rule("agent", "calls", None, &["id", "status"])];
    let c = Cluster::start(SCHEMA, &["calls", "crews"], rules, QueueLimits::default()).await;
    let mut ops = c.operator(0).await;
    let mut agent = c.connect(0, &["agent"], json!({})).await;
    let window = json!({"query": "SELECT id, status FROM calls ORDER BY id DESC LIMIT 1", "observed": "it"});
    agent.call("subscribe", window).await.unwrap();
    let judged = "SELECT * FROM gossip.verdicts WHERE verdict <> 'written'";
    let mut verdicts = ResultSet::new(ops.subscribe(judged).await.unwrap());
    let changes = [
        "UPDATE calls SET status = 'inbound' WHERE id = 2",
        "UPDATE calls SET status = 'inbound' WHERE id = 1",
        "INSERT INTO calls VALUES (3, 'Northlight', 'expected')",
    ];
    // One after the other: what is committed between two reads arrives as one.
    for (i, change) in changes.iter().enumerate() {
        c.db.execute_batch(change).unwrap();
        let read = async {
            while verdicts.stream.len() <= i {
                if let Incoming::Notification(told) = ops.next().await.unwrap().0 {
                    verdicts.apply(&told).unwrap();
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, read).await.expect("a verdict");
    }
    let mut steps = Vec::new();
    for row in &verdicts.stream {
        let asked = json!({"subscription": row["subscription"], "position": row["position"]});
        let told = ops.call("explain", asked).await.unwrap()["steps"].clone();
        let step = told.as_array().unwrap().iter().find(|s| s["step"] == "window").unwrap().clone();
        steps.push((step["verdict"].clone(), step["values"][0].as_str().unwrap_or_default().to_string()));
    }
    let place = |n: usize| format!("as it became: place {n} among the rows as they are now");
    assert_eq!(steps, [(json!("yes"), place(1)), (json!("no"), place(2)), (json!("yes"), place(0))]);
    c.stop().await;
}
