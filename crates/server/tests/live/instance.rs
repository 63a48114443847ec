//! Real instances over real sockets: faults, rights, slow clients.

use std::sync::atomic::Ordering::Relaxed;

use crate::common::{Cluster, rule};
use gossip_client::{ClientError, Incoming, ResultSet, Session, result_set::Applied};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Notification;
use serde_json::{Map, Value as Json, json};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT, note TEXT);
  CREATE TABLE other (id INTEGER PRIMARY KEY);
  INSERT INTO calls VALUES (1, 'Brightwater', 'expected', 'hidden'), (2, 'Northlight', 'expected', 'hidden')";

pub async fn cluster(queue: QueueLimits) -> Cluster {
    let rules = vec![
        rule("control", "calls", None, &[]),
        rule("agent", "calls", Some("agency = claim.agency"), &["id", "agency", "status"]),
        rule("anonymous", "calls", Some("status = 'expected'"), &["status"]),
    ];
    Cluster::start(SCHEMA, &["calls", "other"], rules, queue).await
}

/// Reads until a message fulfils a condition.
pub async fn until(
    session: &mut Session,
    live: &mut ResultSet,
    done: impl Fn(&Notification, &ResultSet) -> bool,
) -> Notification {
    let read = async {
        loop {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                live.apply(&told).unwrap();
                if done(&told, live) {
                    return told;
                }
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, read).await.expect("what was waited for")
}

pub async fn subscribe(session: &mut Session, query: &str) -> ResultSet {
    ResultSet::new(session.subscribe(query).await.unwrap())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_heard_on_both_instances_by_those_who_may() {
    let c = cluster(QueueLimits::default()).await;
    let mut sessions = Vec::new();
    for i in 0..2 {
        let mut s = c.connect(i, &["agent"], json!({"agency": "Brightwater"})).await;
        let live = subscribe(&mut s, "SELECT * FROM calls").await;
        assert_eq!(live.rows.len(), 1);
        assert!(live.rows["[1]"].get("note").is_none(), "a hidden column is absent");
        sessions.push((s, live));
    }
    c.db.execute_batch("UPDATE calls SET agency = 'Brightwater', note = 'still hidden' WHERE id = 2").unwrap();
    for (s, live) in &mut sessions {
        until(s, live, |_, l| l.rows.len() == 2).await;
    }
    c.db.execute_batch("UPDATE calls SET agency = 'Northlight', status = 'unseen' WHERE id = 1").unwrap();
    for (s, live) in &mut sessions {
        let told = until(s, live, |_, l| l.rows.len() == 1).await;
        let text = serde_json::to_string(&told).unwrap();
        assert!(text.contains("\"remove\"") && !text.contains("unseen"), "removed by key alone: {text}");
    }
    // The board may not see the key: it gets an opaque one, the same on every instance.
    let mut keys = Vec::new();
    for i in 0..2 {
        let mut s = Session::connect(&c.url(i), None).await.unwrap();
        keys.push(subscribe(&mut s, "SELECT * FROM calls").await.rows.into_keys().collect::<Vec<_>>());
    }
    assert_eq!(keys[0], keys[1]);
    assert!(!keys[0].is_empty() && !keys[0][0].starts_with('['), "{keys:?}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn explain_names_the_rule_with_both_values() {
    let c = cluster(QueueLimits::default()).await;
    let mut ops = c.operator(0).await;
    let mut changes = subscribe(&mut ops, "SELECT position, changes FROM gossip.changes").await;
    c.db.execute_batch("UPDATE calls SET status = 'inbound' WHERE id = 1").unwrap();
    until(&mut ops, &mut changes, |_, l| !l.stream.is_empty()).await;
    let position = changes.stream[0]["position"].clone();
    let ask = json!({"position": position, "query": "SELECT id FROM calls", "roles": ["agent"], "claims": {"agency": "Northlight"}});
    let steps = ops.call("explain", ask).await.unwrap()["steps"].clone();
    let rule = steps.as_array().unwrap().iter().find(|s| s["step"] == "rule").unwrap().clone();
    assert_eq!(rule["verdict"], "no");
    assert!(rule["text"].as_str().unwrap().contains("agency = claim.agency"), "{rule}");
    assert_eq!(rule["values"][0], "'Brightwater' = 'Northlight'");
    let mut agent = c.connect(0, &["agent"], json!({"agency": "Northlight"})).await;
    match agent.call("explain", json!({"position": position})).await {
        Err(ClientError::Refused(e)) => assert_eq!(e.code, -32002),
        other => panic!("{other:?}"),
    }
    c.stop().await;
}

/// Whichever instance an operator is connected to: any other one answers through it, and can be let go.
#[tokio::test(flavor = "multi_thread")]
async fn an_operator_reaches_every_instance_through_any_other() {
    let c = cluster(QueueLimits::default()).await;
    let mut ops = c.operator(0).await;
    let mut members = subscribe(&mut ops, "SELECT name, here FROM gossip.instances").await;
    until(&mut ops, &mut members, |_, l| l.rows.len() == 2).await;
    let asked = |instance: &str| json!({"instance": instance, "query": "SELECT id FROM calls", "roles": ["control"]});
    let here = ops.call("explain", asked("north")).await.unwrap();
    assert_eq!(ops.call("explain", asked("south")).await.unwrap()["steps"], here["steps"]);
    let wrong = json!({"instance": "south", "query": "SELECT nothing FROM calls", "roles": ["control"]});
    // Why a query would be refused is an answer; a refusal comes back as one, too.
    let there = ops.call("explain", wrong).await.unwrap();
    assert!(there["refused"].as_str().is_some_and(|e| e.contains("nothing")), "{there}");
    assert_eq!(there["steps"][0]["step"], "query");
    let unknown = json!({"instance": "south", "subscription": 999_999});
    match ops.call("explain", unknown).await {
        Err(ClientError::Refused(e)) => assert!(e.message.contains("no subscription 999999"), "{e}"),
        other => panic!("{other:?}"),
    }
    let tried =
        json!({"instance": "south", "rules": [], "asked": [{"query": "SELECT id FROM calls", "roles": ["control"]}]});
    assert!(ops.call("what_if", tried).await.unwrap().is_object());
    match ops.call("drain", json!({"instance": "west"})).await {
        Err(ClientError::Refused(e)) => assert!(e.code == -32004 && e.message.contains("known: south, north"), "{e}"),
        other => panic!("{other:?}"),
    }
    let mut control = c.connect(1, &["control"], json!({})).await;
    match control.call("drain", json!({"instance": "north"})).await {
        Err(ClientError::Refused(e)) => assert_eq!(e.code, -32002),
        other => panic!("{other:?}"),
    }
    ops.call("drain", json!({"instance": "south"})).await.unwrap();
    let ended = async {
        loop {
            if let Err(e) = control.next().await {
                return e.to_string();
            }
        }
    };
    let ended = tokio::time::timeout(testbed::PATIENCE, ended).await.expect("its clients are sent away");
    assert!(ended.contains("1012"), "{ended}");
    let over = c.instances[1].as_ref().unwrap().over();
    tokio::time::timeout(testbed::PATIENCE, over).await.expect("it ends");
    assert!(tokio::net::TcpStream::connect(c.url(1)).await.is_err(), "nobody listens there any more");
    // The others need not wait until it has been silent for long, and one of them reads now.
    until(&mut ops, &mut members, |_, l| l.rows.len() == 1).await;
    let mut live = subscribe(&mut ops, "SELECT changes FROM gossip.changes").await;
    c.db.execute_batch("UPDATE calls SET status = 'inbound' WHERE id = 1").unwrap();
    until(&mut ops, &mut live, |_, l| !l.stream.is_empty()).await;
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn one_instance_is_killed_and_comes_back_and_the_other_goes_on() {
    let mut c = cluster(QueueLimits::default()).await;
    let mut north = c.connect(0, &["control"], json!({})).await;
    let mut south = c.connect(1, &["control"], json!({})).await;
    let mut on_north = subscribe(&mut north, "SELECT * FROM calls").await;
    let mut on_south = subscribe(&mut south, "SELECT * FROM calls").await;
    // Whichever is the reader, the other one takes over.
    c.instances[0].take().unwrap().kill();
    c.db.execute_batch("INSERT INTO calls VALUES (3, 'Dunmore', 'expected', NULL)").unwrap();
    until(&mut south, &mut on_south, |_, l| l.rows.len() == 3).await;
    let lost = async {
        loop {
            match north.next().await {
                Ok((Incoming::Notification(told), _)) => drop(on_north.apply(&told)),
                Ok(_) => {}
                Err(_) => return,
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, lost).await.expect("its client is told");
    c.instances[0] = Some(gossip_server::instance::Instance::start(c.options[0].clone()).await.unwrap());
    let mut north = c.connect(0, &["control"], json!({})).await;
    let mut on_north = subscribe(&mut north, "SELECT * FROM calls").await;
    assert_eq!(on_north.rows, on_south.rows);
    c.db.execute_batch("DELETE FROM calls WHERE id = 3").unwrap();
    until(&mut north, &mut on_north, |_, l| l.rows.len() == 2).await;
    until(&mut south, &mut on_south, |_, l| l.rows.len() == 2).await;
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_lost_last_message_is_noticed_by_the_heartbeat_and_healed() {
    let c = cluster(QueueLimits::default()).await;
    let mut s = c.connect(1, &["control"], json!({})).await;
    let mut live = subscribe(&mut s, "SELECT * FROM calls").await;
    c.faults[1].drop_next.store(1, Relaxed);
    c.db.execute_batch("INSERT INTO calls VALUES (9, 'Dunmore', 'expected', NULL)").unwrap();
    until(&mut s, &mut live, |_, l| l.rows.len() == 3).await;
    assert_eq!(c.faults[1].drop_next.load(Relaxed), 0, "it was lost on the way");
    // Doubled and late messages change nothing.
    c.faults[1].double_next.store(20, Relaxed);
    c.faults[1].delay_ms.store(30, Relaxed);
    c.db.execute_batch("DELETE FROM calls WHERE id = 9").unwrap();
    until(&mut s, &mut live, |_, l| l.rows.len() == 2).await;
    // Cut off, it says that it is not current; mended, it is right again.
    c.faults[1].delay_ms.store(0, Relaxed);
    c.faults[1].cut.store(true, Relaxed);
    c.db.execute_batch("DELETE FROM calls WHERE id = 1").unwrap();
    until(&mut s, &mut live, |n, _| matches!(n, Notification::Current { behind_ms, .. } if *behind_ms > 0)).await;
    c.faults[1].cut.store(false, Relaxed);
    until(&mut s, &mut live, |_, l| l.rows.len() == 1).await;
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_slow_client_is_caught_up_with_the_newest_state() {
    let c = cluster(QueueLimits { deltas: 8, bytes: 1 << 20 }).await;
    let mut s = c.connect(0, &["control"], json!({})).await;
    let mut live = subscribe(&mut s, "SELECT id, note FROM calls").await;
    let mut reads = c.connect(0, &["control"], json!({})).await;
    let mut seen = subscribe(&mut reads, "SELECT id, status FROM calls").await;
    // The client reads nothing while far more than its queue and the sockets' buffers hold goes by.
    let big = "x".repeat(100_000);
    for i in 0..150 {
        let status = i.to_string();
        c.db.execute("INSERT OR REPLACE INTO calls VALUES (5, 'Dunmore', ?1, ?2)", [&status, &format!("{big}{i}")])
            .unwrap();
        until(&mut reads, &mut seen, |_, l| l.rows.get("[5]").is_some_and(|r| r["status"] == status)).await;
    }
    c.db.execute_batch("UPDATE calls SET note = 'last' WHERE id = 5").unwrap();
    let caught_up = std::sync::atomic::AtomicBool::new(false);
    until(&mut s, &mut live, |n, l| {
        caught_up.fetch_or(matches!(n, Notification::Snapshot { why, .. } if why == "caught-up"), Relaxed);
        l.rows.get("[5]").is_some_and(|r| r["note"] == "last")
    })
    .await;
    assert!(caught_up.load(Relaxed), "it was brought up to date by a snapshot");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn changed_claims_replace_the_result_or_end_it() {
    let c = cluster(QueueLimits::default()).await;
    let mut s = c.connect(0, &["agent"], json!({"agency": "Brightwater"})).await;
    let mut live = subscribe(&mut s, "SELECT * FROM calls").await;
    let token = c.token(&["agent"], json!({"agency": "Northlight"}));
    let answer = s.call("authenticate", json!({"token": token})).await.unwrap();
    assert_eq!(answer["roles"], json!(["agent"]));
    until(&mut s, &mut live, |n, _| matches!(n, Notification::Snapshot { why, .. } if why == "rights-changed")).await;
    assert_eq!(live.rows.keys().collect::<Vec<_>>(), ["[2]"]);
    // A query on what may not be named any more ends.
    let token = c.token(&["nobody"], json!({}));
    s.call("authenticate", json!({"token": token})).await.unwrap();
    let closed = async {
        loop {
            if let Incoming::Notification(told) = s.next().await.unwrap().0
                && let Applied::Closed(why) = live.apply(&told).unwrap()
            {
                return why;
            }
        }
    };
    let why = tokio::time::timeout(testbed::PATIENCE, closed).await.expect("closed");
    assert!(why.starts_with("rights-changed"), "{why}");
    // Another subject ends the connection.
    let now = gossip_server::now() / 1_000_000;
    let other = c.tokens.mint_for("somebody else", &["agent".into()], &Map::new(), now, 60).unwrap();
    match s.call("authenticate", json!({"token": other})).await {
        Err(ClientError::Ended(why)) => assert!(why.starts_with("1008"), "{why}"),
        other => panic!("{other:?}"),
    }
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_migration_under_way_brings_a_new_snapshot_or_an_end() {
    let c = cluster(QueueLimits::default()).await;
    let mut s = c.connect(1, &["control"], json!({})).await;
    let mut all = subscribe(&mut s, "SELECT * FROM calls").await;
    c.db.execute_batch("ALTER TABLE calls ADD COLUMN tugs INT DEFAULT 2").unwrap();
    until(&mut s, &mut all, |n, l| {
        matches!(n, Notification::Snapshot { why, columns: Some(_), .. } if why == "schema-changed")
            && l.rows["[1]"]["tugs"] == 2
            && l.columns.last().is_some_and(|c| c.name == "tugs")
    })
    .await;
    c.db.execute_batch("UPDATE calls SET tugs = 3 WHERE id = 1").unwrap();
    until(&mut s, &mut all, |_, l| l.rows["[1]"]["tugs"] == 3).await;
    let mut t = c.connect(1, &["control"], json!({})).await;
    let mut named = subscribe(&mut t, "SELECT id FROM calls WHERE tugs > 1").await;
    c.db.execute_batch("ALTER TABLE calls DROP COLUMN tugs").unwrap();
    let told = until(&mut t, &mut named, |n, _| matches!(n, Notification::Closed { .. })).await;
    assert!(matches!(told, Notification::Closed { why, .. } if why.starts_with("schema-changed")));
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_unsent_when_rules_change_is_never_sent() {
    let c = cluster(QueueLimits { deltas: 1_000, bytes: 64 << 20 }).await;
    let mut reads = c.connect(0, &["control"], json!({})).await;
    let mut seen = subscribe(&mut reads, "SELECT id, status FROM calls").await;
    let mut stuck = c.connect(0, &["control"], json!({})).await;
    let mut live = subscribe(&mut stuck, "SELECT id, note FROM calls WHERE id = 5").await;
    // One whose result ends with the rule, and one whose result goes on with fewer columns.
    let mut narrowed = c.connect(0, &["control"], json!({})).await;
    let mut star = subscribe(&mut narrowed, "SELECT * FROM calls WHERE id = 5").await;
    // More than the sockets' buffers hold, and behind it what must not leave.
    let big = "x".repeat(200_000);
    for i in 0..120 {
        let (status, note) = (i.to_string(), format!("{big}{i}"));
        c.db.execute("INSERT OR REPLACE INTO calls VALUES (5, 'Dunmore', ?1, ?2)", [&status, &note]).unwrap();
        until(&mut reads, &mut seen, |_, l| l.rows.get("[5]").is_some_and(|r| r["status"] == status)).await;
    }
    c.db.execute_batch("UPDATE calls SET note = 'REVOKED', status = 'end' WHERE id = 5").unwrap();
    until(&mut reads, &mut seen, |_, l| l.rows["[5]"]["status"] == "end").await;
    let rules = vec![rule("control", "calls", None, &["id", "status"])];
    c.instances[0].as_ref().unwrap().set_rules(rules).await;
    for (session, live, expected) in
        [(&mut stuck, &mut live, "closed: rights-changed"), (&mut narrowed, &mut star, "whole: rights-changed")]
    {
        let told = async {
            loop {
                let (incoming, text) = session.next().await.unwrap();
                assert!(!text.contains("REVOKED"), "unsent when the rule went, and sent all the same");
                let Incoming::Notification(told) = incoming else { continue };
                match live.apply(&told).unwrap() {
                    Applied::Closed(why) => return format!("closed: {why}"),
                    Applied::Whole(why) => return format!("whole: {why}"),
                    Applied::Changed | Applied::NotMine => {}
                }
            }
        };
        let told = tokio::time::timeout(testbed::PATIENCE, told).await.expect("an end");
        assert!(told.starts_with(expected), "{told}");
    }
    assert_eq!(Json::from(star.rows["[5]"].clone()), json!({"id": 5, "status": "end"}));
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_subscription_is_resumed_from_its_cursor_or_told_why_not() {
    let c = cluster(QueueLimits::default()).await;
    let query = "SELECT id, status FROM calls WHERE agency = 'Dunmore'";
    let insert = |id: i64| {
        let text = "INSERT INTO calls VALUES (?1, 'Dunmore', 'expected', NULL)";
        c.db.execute(text, [id]).unwrap();
    };
    let mut session = c.connect(0, &["control"], json!({})).await;
    let mut live = subscribe(&mut session, query).await;
    insert(11);
    until(&mut session, &mut live, |_, l| l.rows.contains_key("[11]")).await;
    session.close().await;
    insert(12);
    c.db.execute_batch("UPDATE calls SET status = 'inbound' WHERE id = 11").unwrap();

    // At the other instance, once it has seen as much: nothing but what was missed.
    let mut other = c.connect(1, &["control"], json!({})).await;
    let mut probe = subscribe(&mut other, query).await;
    until(&mut other, &mut probe, |_, l| l.rows.contains_key("[12]") && l.rows["[11]"]["status"] == "inbound").await;
    let again = json!({"query": query, "cursor": live.cursor});
    let answer = other.call("subscribe", again.clone()).await.unwrap();
    assert_eq!(
        (&answer["resumed"], &answer["cursor"], &answer["rows"]),
        (&json!(true), &json!(live.cursor), &json!(null))
    );
    live.subscription = answer["subscription"].as_u64().unwrap();
    until(&mut other, &mut live, |_, l| l.rows == probe.rows).await;

    let refused = [
        (json!({"query": query, "cursor": "AAAA"}), "resumed-too-late"),
        (json!({"query": "SELECT id FROM calls", "cursor": live.cursor}), "rights-changed"),
    ];
    for (call, why) in refused {
        let answer = other.call("subscribe", call).await.unwrap();
        assert_eq!(answer["why"], *why, "{answer}");
        assert!(answer["rows"].as_array().is_some_and(|r| !r.is_empty()), "{answer}");
    }
    let mut agent = c.connect(1, &["agent"], json!({"agency": "Dunmore"})).await;
    let answer = agent.call("subscribe", again).await.unwrap();
    assert_eq!(answer["why"], "rights-changed", "somebody else's cursor");

    // A window that nobody listens to for a while.
    let query = "SELECT id, status FROM calls ORDER BY id DESC LIMIT 3";
    let mut window = subscribe(&mut other, query).await;
    other.call("unsubscribe", json!({"subscription": window.subscription})).await.unwrap();
    insert(13);
    until(&mut other, &mut probe, |_, l| l.rows.contains_key("[13]")).await;
    let answer = other.call("subscribe", json!({"query": query, "cursor": window.cursor})).await.unwrap();
    assert_eq!(answer["resumed"], true, "{answer}");
    window.subscription = answer["subscription"].as_u64().unwrap();
    until(&mut other, &mut window, |_, l| l.rows.contains_key("[13]") && l.rows.len() == 3).await;
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_subscription_is_paced_cut_and_worded_as_asked() {
    let c = cluster(QueueLimits::default()).await;
    c.db.execute_batch("INSERT INTO calls VALUES (21,'Dunmore','expected','a'),(22,'Dunmore','expected','b')").unwrap();
    let mut s = c.connect(0, &["control"], json!({})).await;
    // A stored query by its name, rows one by one, at most one delta in 300 ms, and of it only what changed.
    let call = json!({"name": "of_agency", "params": {"a": "Dunmore"}, "batch": 1, "every_ms": 300, "send": "changed"});
    let answer = s.call("subscribe", call).await.unwrap();
    assert_eq!((answer["rows"].as_array().map(Vec::len), &answer["more"]), (Some(1), &json!(true)), "{answer}");
    let mut live = ResultSet::new(serde_json::from_value(answer).unwrap());
    until(&mut s, &mut live, |_, l| !l.unfinished).await;
    for status in ["inbound", "berthed", "gone"] {
        c.db.execute("UPDATE calls SET status = ?1 WHERE id = 21", [status]).unwrap();
    }
    c.db.execute_batch("INSERT INTO calls VALUES (23,'Dunmore','expected','c'); DELETE FROM calls WHERE id = 23")
        .unwrap();
    c.db.execute_batch("DELETE FROM calls WHERE id = 22").unwrap();
    let mut deltas = Vec::new();
    while live.rows.len() > 1 || live.rows["[21]"]["status"] != "gone" {
        let (incoming, text) = s.next().await.unwrap();
        let Incoming::Notification(told) = incoming else { continue };
        live.apply(&told).unwrap();
        if matches!(told, Notification::Delta { .. }) {
            assert!(!text.contains("\"note\"") && !text.contains("[23]"), "{text}");
            deltas.push(text);
        }
    }
    assert!(deltas.len() < 4, "six transactions within the pace: {deltas:#?}");
    for (call, text) in [
        (json!({"name": "of_agenc"}), "there is no stored query of_agenc"),
        (json!({"name": "of_agency", "query": "SELECT id FROM calls"}), "expected one of them"),
        (json!({"query": "SELECT id FROM calls", "every_ms": 100_000}), "every_ms: expected a number from 0 to 60000"),
        (json!({"query": "SELECT id FROM calls", "send": "all"}), "send: expected"),
        (json!({"query": "SELECT id FROM calls", "every_ms": 10, "observed": true}), "transaction by transaction"),
    ] {
        let e = s.call("subscribe", call.clone()).await.unwrap_err().to_string();
        assert!(e.contains(text), "{call}: {e}");
    }
    c.stop().await;
}
