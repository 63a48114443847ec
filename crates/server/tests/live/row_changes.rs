//! The stream of row changes: each reader hears of each change what the rules of its table let them see.

use std::time::Duration;

use gossip_client::{ClientError, Incoming, Session};
use gossip_core::rule::RuleText;
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::code;
use serde_json::{Value as Json, json};

use crate::common::{Cluster, prepared, rule, run, start};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT, note TEXT);
  CREATE TABLE berths (id INTEGER PRIMARY KEY, quay TEXT);
  CREATE TABLE wages (id INTEGER PRIMARY KEY, amount INTEGER);
  INSERT INTO calls VALUES (1, 'fen', 'expected', 'n1'), (2, 'moor', 'expected', 'n2')";

fn rules() -> Vec<RuleText> {
    vec![
        rule("agent", "calls", Some("agency = claim.agency"), &["id", "agency", "status"]),
        rule("agent", "berths", None, &[]),
        rule("control", "calls", None, &[]),
        rule("control", "berths", None, &[]),
        rule("control", "wages", Some("id IN (SELECT id FROM berths)"), &[]),
    ]
}

struct Reader {
    session: Session,
    cursor: Json,
}

impl Reader {
    async fn begin(mut session: Session, query: &str, cursor: Option<&Json>) -> Reader {
        let mut params = json!({"query": query});
        if let Some(cursor) = cursor {
            params["cursor"] = cursor.clone();
        }
        // Until the source has been read for the first time, one is asked to come again.
        let answer = loop {
            match session.call("subscribe", params.clone()).await {
                Ok(answer) => break answer,
                Err(ClientError::Refused(e)) if e.code == code::UNAVAILABLE => {
                    tokio::time::sleep(Duration::from_millis(20)).await;
                }
                Err(e) => panic!("{e}"),
            }
        };
        assert_eq!(answer["shape"], "stream");
        assert_eq!(answer["resumed"].as_bool().unwrap_or(false), cursor.is_some(), "{answer}");
        assert!(answer["rows"].as_array().is_none_or(Vec::is_empty));
        Reader { session, cursor: answer["cursor"].clone() }
    }

    async fn message(&mut self, method: &str) -> Json {
        let read = async {
            loop {
                let (incoming, text) = self.session.next().await.unwrap();
                let message: Json = serde_json::from_str(&text).unwrap();
                if matches!(incoming, Incoming::Notification(_)) && message["method"] == method {
                    return message["params"].clone();
                }
            }
        };
        let told = tokio::time::timeout(testbed::PATIENCE, read).await.unwrap_or_else(|_| panic!("no {method}"));
        self.cursor = told["cursor"].clone();
        told
    }

    /// The events of the next transaction that is heard, without their time.
    async fn hears(&mut self) -> Vec<Json> {
        let told = self.message("delta").await;
        let event = |change: &Json| {
            let mut event = change["row"].clone();
            assert_eq!(change["op"], "add");
            event.as_object_mut().unwrap().remove("at");
            event
        };
        told["changes"].as_array().unwrap().iter().map(event).collect()
    }
}

const ALL: &str = "SELECT * FROM gossip.row_changes";

#[tokio::test(flavor = "multi_thread")]
async fn each_reader_hears_what_each_change_is_to_them() {
    let c = Cluster::start(SCHEMA, &["calls", "berths", "wages"], rules(), QueueLimits::default()).await;
    let fen = || async { c.connect(1, &["agent"], json!({"agency": "fen"})).await };
    let mut fen_all = Reader::begin(fen().await, ALL, None).await;
    let moor = c.connect(0, &["agent"], json!({"agency": "moor"})).await;
    let mut moor = Reader::begin(moor, ALL, None).await;
    let mut control = Reader::begin(c.connect(0, &["control"], json!({})).await, ALL, None).await;
    let few = "SELECT op, key FROM gossip.row_changes WHERE \"table\" = 'calls' AND op IN ('insert', 'delete')";
    let mut few = Reader::begin(fen().await, few, None).await;

    c.db.execute_batch(
        "BEGIN; INSERT INTO calls VALUES (3, 'fen', 'expected', 'n3'); INSERT INTO berths VALUES (9, 'north'); COMMIT",
    )
    .unwrap();
    let row = json!({"id": 3, "agency": "fen", "status": "expected"});
    let berth = json!({"table": "berths", "op": "insert", "key": [9], "row": {"id": 9, "quay": "north"}, "was": null});
    let call = json!({"table": "calls", "op": "insert", "key": [3], "row": row, "was": null});
    let heard = fen_all.hears().await;
    assert!(heard.len() == 2 && heard.contains(&call) && heard.contains(&berth), "{heard:?}");
    assert_eq!(moor.hears().await, [berth]);
    assert_eq!(control.hears().await.len(), 2);
    assert_eq!(few.hears().await, [json!({"op": "insert", "key": [3]})]);
    let before = fen_all.cursor.clone();

    // What is hidden says nothing; what leaves what one may see is deleted for them, and not told as it was.
    // Commits that follow each other closely are read as one, so that each is waited for.
    c.db.execute_batch("UPDATE calls SET note = 'secret' WHERE id = 3").unwrap();
    assert_eq!(control.hears().await[0]["was"]["note"], "n3");
    c.db.execute_batch("UPDATE calls SET status = 'moored' WHERE id = 3").unwrap();
    let was = row;
    let now = json!({"id": 3, "agency": "fen", "status": "moored"});
    let update = json!({"table": "calls", "op": "update", "key": [3], "row": now, "was": was});
    assert_eq!(fen_all.hears().await, [update]);
    assert_eq!(control.hears().await[0]["was"]["note"], "secret");
    c.db.execute_batch("UPDATE calls SET agency = 'moor' WHERE id = 3").unwrap();
    let gone = json!({"table": "calls", "op": "delete", "key": [3], "row": null, "was": null});
    assert_eq!(fen_all.hears().await, [gone]);
    assert_eq!(few.hears().await, [json!({"op": "delete", "key": [3]})]);
    let come = moor.hears().await;
    assert_eq!(
        (&come[0]["op"], &come[0]["row"]["agency"], &come[0]["was"]),
        (&json!("insert"), &json!("moor"), &Json::Null)
    );
    let told = control.hears().await;
    assert_eq!((&told[0]["op"], &told[0]["was"]["agency"]), (&json!("update"), &json!("fen")));
    c.db.execute_batch("DELETE FROM calls WHERE id = 3").unwrap();
    let told = moor.hears().await;
    assert_eq!((&told[0]["op"], &told[0]["was"]["status"]), (&json!("delete"), &json!("moored")));

    // Who comes back hears what was missed, at any instance, but for what may not be seen any more.
    c.db.execute_batch("INSERT INTO berths VALUES (10, 'south')").unwrap();
    assert_eq!(fen_all.hears().await[0]["key"], json!([10]));
    let cursor = fen_all.cursor.clone();
    c.db.execute_batch("INSERT INTO berths VALUES (11, 'west')").unwrap();
    assert_eq!(fen_all.hears().await[0]["key"], json!([11]));
    let mut again = Reader::begin(c.connect(0, &["agent"], json!({"agency": "fen"})).await, ALL, Some(&cursor)).await;
    assert_eq!(again.hears().await[0]["key"], json!([11]));
    let late = json!({"query": ALL, "cursor": before});
    let answer = fen().await.call("subscribe", late).await.unwrap();
    assert_eq!((&answer["why"], &answer["rows"]), (&json!("rights-changed"), &json!([])));

    // A table whose rule asks another one is not among them, nor one that may not be read.
    c.db.execute_batch("INSERT INTO wages VALUES (10, 5); INSERT INTO berths VALUES (12, 'east')").unwrap();
    assert_eq!(fen_all.hears().await[0]["key"], json!([12]));

    // Other rights and another table are said, and hold from there on.
    c.db.execute_batch("ALTER TABLE berths ADD COLUMN depth INTEGER").unwrap();
    c.db.execute_batch("INSERT INTO berths VALUES (13, 'east', 7)").unwrap();
    assert_eq!(fen_all.message("snapshot").await["why"], "schema-changed");
    c.db.execute_batch("INSERT INTO berths VALUES (14, 'east', 8)").unwrap();
    loop {
        let heard = fen_all.hears().await;
        if let Some(event) = heard.iter().find(|event| event["key"] == json!([14])) {
            assert_eq!(event["row"], json!({"id": 14, "quay": "east", "depth": 8}));
            break;
        }
    }
    let mut fewer = rules();
    fewer.retain(|rule| rule.table.to_string() != "berths");
    c.instances[1].as_ref().unwrap().set_rules(fewer).await;
    let told = fen_all.message("snapshot").await;
    assert_eq!((&told["why"], &told["rows"]), (&json!("rights-changed"), &json!([])));
    c.db.execute_batch("INSERT INTO berths VALUES (15, 'x', 1); INSERT INTO calls VALUES (5, 'fen', 'expected', 'n')")
        .unwrap();
    assert_eq!(fen_all.hears().await[0]["table"], "calls");
    c.stop().await;
}

/// PostgreSQL empties tables at once, and may leave out what a row was.
#[tokio::test(flavor = "multi_thread")]
async fn tables_that_are_emptied_and_rows_that_are_not_known() {
    let pg = tokio::task::spawn_blocking(testbed::Postgres::start).await.unwrap();
    let url = pg.url();
    run(&url, "CREATE TABLE open (id int PRIMARY KEY, n int); CREATE TABLE own (id int PRIMARY KEY, who text)").await;
    let source = prepared(&url, &["open", "own"], false).await;
    let rules = vec![rule("anonymous", "open", None, &[]), rule("anonymous", "own", Some("who = 'me'"), &[])];
    let instance = start(source, rules).await;
    let address = instance.address();
    let session = Session::connect(&address.to_string(), None).await.unwrap();
    let mut reader = Reader::begin(session, ALL, None).await;
    run(&url, "INSERT INTO own VALUES (1, 'me'); INSERT INTO open VALUES (1, 10), (2, 20)").await;
    let heard = reader.hears().await;
    assert_eq!(
        heard.iter().map(|e| (&e["op"], &e["key"])).collect::<Vec<_>>(),
        [(&json!("insert"), &json!([1])), (&json!("insert"), &json!([2]))]
    );
    run(&url, "UPDATE open SET n = 11 WHERE id = 1; DELETE FROM open WHERE id = 2").await;
    let heard = reader.hears().await;
    let event =
        |op: &str, key: i64, row: Json| json!({"table": "open", "op": op, "key": [key], "row": row, "was": null});
    assert!(
        heard.contains(&event("update", 1, json!({"id": 1, "n": 11})))
            && heard.contains(&event("delete", 2, Json::Null)),
        "{heard:?}"
    );
    run(&url, "TRUNCATE open; INSERT INTO own VALUES (2, 'me')").await;
    let emptied = json!({"table": "open", "op": "truncate", "key": null, "row": null, "was": null});
    // A snapshot says before it that the table is another one now.
    assert_eq!(reader.hears().await, [emptied]);
    run(&url, "INSERT INTO open VALUES (3, 30)").await;
    assert_eq!(reader.hears().await, [event("insert", 3, json!({"id": 3, "n": 30}))]);
    instance.stop().await;
}
