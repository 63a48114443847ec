//! What is hidden cannot be learnt: not by asking, not by waiting, not by counting.

use gossip_client::result_set::Applied;
use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::rule::RuleText;
use gossip_core::send_queue::QueueLimits;
use serde_json::{Value as Json, json};

use crate::common::{Cluster, rule};

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT, note TEXT);
  CREATE TABLE crews (id INTEGER PRIMARY KEY, member TEXT, boss TEXT);
  INSERT INTO calls VALUES (5, 'Dunmore', 'expected', 'first'), (6, 'Elsewhere', 'expected', 'private')";

async fn cluster() -> Cluster {
    let masked = RuleText {
        masks: [("note".to_string(), "left(note, 1) || '…'".to_string())].into(),
        ..rule("masked", "calls", None, &["id", "agency"])
    };
    let rules = vec![
        rule("control", "crews", None, &[]),
        rule("narrow", "calls", Some("agency = claim.agency"), &["id", "status"]),
        rule("keyless", "calls", None, &["status"]),
        masked,
    ];
    Cluster::start(SCHEMA, &["calls", "crews"], rules, QueueLimits { deltas: 1_000, bytes: 64 << 20 }).await
}

async fn come(c: &Cluster, role: &str) -> Session {
    c.connect(0, &[role], json!({"agency": "Dunmore"})).await
}

async fn ask(s: &mut Session, query: &str) -> Result<Json, String> {
    s.call("subscribe", json!({"query": query})).await.map_err(|e| e.to_string())
}

async fn count(s: &mut Session, query: &str) -> usize {
    ask(s, query).await.unwrap()["rows"].as_array().unwrap().len()
}

/// Two queries that differ only in naming what is hidden and what is not there are refused in the same words.
async fn same_words(s: &mut Session, hidden: &str, missing: &str, names: (&str, &str)) {
    let (a, b) = (ask(s, hidden).await.unwrap_err(), ask(s, missing).await.unwrap_err());
    assert_eq!(a.replace(names.0, "…"), b.replace(names.1, "…"));
    assert!(!a.contains("did you mean"), "{a}");
}

async fn listen(s: &mut Session, query: &str) -> ResultSet {
    ResultSet::new(s.subscribe(query).await.unwrap())
}

/// All frames about a result until it fulfils a condition.
async fn hear(s: &mut Session, live: &mut ResultSet, done: impl Fn(&ResultSet) -> bool) -> Vec<String> {
    let mut told = Vec::new();
    while !done(live) {
        let (incoming, text) = tokio::time::timeout(testbed::PATIENCE, s.next()).await.expect("a delta").unwrap();
        let Incoming::Notification(n) = incoming else { continue };
        if live.apply(&n).unwrap() != Applied::NotMine {
            told.push(text);
        }
    }
    told
}

fn told_status(of: &'static str) -> impl Fn(&ResultSet) -> bool {
    move |l| l.rows["[5]"].get("status") == Some(&json!(of))
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_where() {
    let c = cluster().await;
    let mut narrow = come(&c, "narrow").await;
    let (hidden, missing) = ("SELECT id FROM calls WHERE note = 'first'", "SELECT id FROM calls WHERE nose = 'first'");
    same_words(&mut narrow, hidden, missing, ("note", "nose")).await;
    assert_eq!(count(&mut narrow, "SELECT * FROM calls WHERE id = 6").await, 0, "a row that is withheld");
    // A mask is what stands there, also for conditions.
    let mut masked = come(&c, "masked").await;
    assert_eq!(count(&mut masked, "SELECT * FROM calls WHERE note = 'private'").await, 0);
    assert_eq!(count(&mut masked, "SELECT * FROM calls WHERE note LIKE '%rivate'").await, 0);
    assert_eq!(count(&mut masked, "SELECT * FROM calls WHERE note = 'p…'").await, 1);
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_order() {
    let c = cluster().await;
    let mut narrow = come(&c, "narrow").await;
    for query in [
        "SELECT id FROM calls ORDER BY note",
        "SELECT count(*) FROM calls GROUP BY note",
        "SELECT max(note) FROM calls",
        "SELECT count(*) FILTER (WHERE note > 'a') FROM calls",
        "SELECT status, count(*) FROM calls GROUP BY status HAVING min(note) = 'first'",
        "SELECT DISTINCT ON (note) id FROM calls ORDER BY note",
        "SELECT upper(note) FROM calls",
    ] {
        same_words(&mut narrow, query, &query.replace("note", "nose"), ("note", "nose")).await;
    }
    let counted = ask(&mut narrow, "SELECT count(*) AS n, max(id) AS newest FROM calls").await.unwrap();
    assert_eq!(counted["rows"], json!([{"key": [], "row": {"n": 1, "newest": 5}}]), "a row that is withheld");
    // Rows come by their key, whatever was written when.
    c.db.execute_batch("INSERT INTO calls VALUES (4, 'Dunmore', 'new', 'a'), (1, 'Dunmore', 'new', 'z')").unwrap();
    let mut live = listen(&mut narrow, "SELECT id FROM calls").await;
    hear(&mut narrow, &mut live, |l| l.rows.len() == 3).await;
    let rows = ask(&mut narrow, "SELECT id FROM calls").await.unwrap()["rows"].clone();
    let keys: Vec<i64> = rows.as_array().unwrap().iter().map(|r| r["key"][0].as_i64().unwrap()).collect();
    assert_eq!(keys, [1, 4, 5]);
    // Under keys that nobody may see they come in an order that says nothing of them: in a result and in a delta alike.
    c.db.execute_batch("DELETE FROM calls").unwrap();
    let mut keyless = come(&c, "keyless").await;
    let query = "SELECT status FROM calls WHERE status LIKE 'n%'";
    let mut live = listen(&mut keyless, query).await;
    let names: Vec<String> = (0..40).map(|n| format!("n{n:02}")).collect();
    let rows: Vec<String> = names.iter().enumerate().map(|(i, n)| format!("({i}, 'x', '{n}', '')")).collect();
    c.db.execute_batch(&format!("INSERT INTO calls VALUES {}", rows.join(", "))).unwrap();
    let told = hear(&mut keyless, &mut live, |l| l.rows.len() == 40).await;
    let whole = ask(&mut keyless, query).await.unwrap().to_string();
    // Rows that are equal in what they are ordered by, too.
    let tied = ask(&mut keyless, &format!("{query} ORDER BY left(status, 1)")).await.unwrap().to_string();
    for text in [&told.concat(), &whole, &tied] {
        let mut found: Vec<(usize, &String)> = names.iter().map(|n| (text.find(&**n).unwrap(), n)).collect();
        found.sort();
        let order: Vec<&String> = found.into_iter().map(|(_, n)| n).collect();
        assert!(order != names.iter().collect::<Vec<_>>(), "{text}");
        assert!(order != names.iter().rev().collect::<Vec<_>>(), "{text}");
    }
    c.stop().await;
}

/// Where the source stands counts the changes of tables that the asker may not see.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_positions() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let c = cluster().await;
    let readyz = |token: Option<String>| {
        let call = reqwest::Client::new().get(format!("http://{}/readyz", c.url(0)));
        async move {
            let call = token.into_iter().fold(call, |call, t| call.bearer_auth(t));
            call.send().await.unwrap().text().await.unwrap()
        }
    };
    let mut narrow = come(&c, "narrow").await;
    listen(&mut narrow, "SELECT id FROM calls").await;
    for token in [None, Some(c.token(&["narrow"], json!({"agency": "Dunmore"})))] {
        let text = readyz(token).await;
        assert!(text.contains("behind_ms") && !text.contains("position"), "{text}");
    }
    let current = async {
        loop {
            let (_, text) = narrow.next().await.unwrap();
            if text.contains("\"current\"") {
                return text;
            }
        }
    };
    let text = tokio::time::timeout(testbed::PATIENCE, current).await.expect("how current it is");
    assert!(!text.contains("position"), "{text}");
    let text = readyz(Some(c.token(&["ops"], json!({})))).await;
    assert!(text.contains("position"), "an operator is told: {text}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_errors_that_only_a_withheld_row_would_raise() {
    let c = cluster().await;
    // What does not fit its type stands in a row that is withheld, and in a column that is hidden.
    c.db.execute_batch("INSERT INTO calls VALUES (7, 'Elsewhere', x'ff', x'00'), (8, 'Dunmore', 'new', x'ff')")
        .unwrap();
    let mut narrow = come(&c, "narrow").await;
    for condition in
        ["status LIKE '%w'", "status > 'a'", "status = 'new'", "NOT status = 'other'", "status IS NOT NULL"]
    {
        let found = ask(&mut narrow, &format!("SELECT * FROM calls WHERE {condition}")).await;
        let text = found.unwrap()["rows"].to_string();
        assert!(text.contains("[8]") && !text.contains("[7]"), "{condition}: {text}");
    }
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_what_a_delta_says_has_changed() {
    let c = cluster().await;
    let mut narrow = come(&c, "narrow").await;
    let mut live = listen(&mut narrow, "SELECT * FROM calls").await;
    c.db.execute_batch("UPDATE calls SET status = 'told', note = 'spoken' WHERE id = 5").unwrap();
    let told = hear(&mut narrow, &mut live, told_status("told")).await;
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].contains(r#""changed":["status"]"#) && !told[0].contains("spoken"), "{told:?}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_error_texts_or_suggestions() {
    let c = cluster().await;
    let mut narrow = come(&c, "narrow").await;
    for (hidden, missing, names) in [
        ("SELECT note FROM calls", "SELECT nose FROM calls", ("note", "nose")),
        ("SELECT noet FROM calls", "SELECT noes FROM calls", ("noet", "noes")),
        ("SELECT id FROM crews", "SELECT id FROM cress", ("crews", "cress")),
        ("SELECT id FROM gossip.feeds", "SELECT id FROM gossip.feeds2", ("feeds", "feeds2")),
    ] {
        same_words(&mut narrow, hidden, missing, names).await;
    }
    // What somebody may see is suggested.
    let e = ask(&mut narrow, "SELECT statsu FROM calls").await.unwrap_err();
    assert!(e.contains("did you mean status?"), "{e}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_counts() {
    let c = cluster().await;
    let mut narrow = come(&c, "narrow").await;
    let mut live = listen(&mut narrow, "SELECT * FROM calls").await;
    let rows = (10..60).map(|n| format!("({n}, 'Elsewhere', 'x', 'y')")).collect::<Vec<_>>().join(", ");
    c.db.execute_batch(&format!("INSERT INTO calls VALUES {rows}; UPDATE calls SET status = 'told' WHERE id = 5"))
        .unwrap();
    let told = hear(&mut narrow, &mut live, told_status("told")).await;
    assert_eq!(told.len(), 1, "nothing for what is withheld, not even an empty delta: {told:?}");
    let text: Json = serde_json::from_str(&told[0]).unwrap();
    let known = ["subscription", "cursor", "at", "changes"];
    let said: Vec<&String> = text["params"].as_object().unwrap().keys().collect();
    assert!(said.iter().all(|k| known.contains(&k.as_str())), "{said:?}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_numbers_of_subscriptions_or_positions() {
    let c = cluster().await;
    let mut others = come(&c, "masked").await;
    for _ in 0..5 {
        ask(&mut others, "SELECT * FROM calls").await.unwrap();
    }
    let mut narrow = come(&c, "narrow").await;
    let first = ask(&mut narrow, "SELECT * FROM calls").await.unwrap();
    assert_eq!(first["subscription"], 1, "counted within the connection");
    // The log's position is inside the cursor, which is sealed; of two with something hidden between nothing is told.
    let text = first.to_string();
    assert!(!text.contains("position") && !text.contains("\"s:"), "{text}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_keys() {
    let c = cluster().await;
    let mut keyless = come(&c, "keyless").await;
    let mut live = listen(&mut keyless, "SELECT * FROM calls").await;
    assert_eq!(live.rows.len(), 2);
    c.db.execute_batch("UPDATE calls SET status = 'told' WHERE id = 5; DELETE FROM calls WHERE id = 6").unwrap();
    let told = hear(&mut keyless, &mut live, |l| l.rows.len() == 1).await;
    for text in told.iter().chain(live.rows.keys()) {
        assert!(!text.contains("[5]") && !text.contains("[6]"), "{text}");
    }
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_deltas_for_changes_of_what_is_hidden() {
    let c = cluster().await;
    let (mut narrow, mut masked) = (come(&c, "narrow").await, come(&c, "masked").await);
    let mut all = listen(&mut narrow, "SELECT * FROM calls").await;
    let mut half = listen(&mut masked, "SELECT * FROM calls").await;
    for sql in [
        "UPDATE calls SET note = 'second' WHERE id = 5",
        "UPDATE calls SET note = 'promised' WHERE id = 6",
        "UPDATE calls SET status = 'gone' WHERE id = 6",
        "INSERT INTO crews VALUES (8, 'a', 'b')",
        "UPDATE calls SET status = 'told', note = 'spoken' WHERE id = 5",
    ] {
        c.db.execute_batch(sql).unwrap();
    }
    let told = hear(&mut narrow, &mut all, told_status("told")).await;
    assert_eq!(told.len(), 1, "{told:?}");
    // `first` and `second` look different behind the mask, `private` and `promised` do not; `spoken` is as `second`.
    let told = hear(&mut masked, &mut half, |l| l.rows["[5]"]["note"] == "s…").await;
    assert!(told.iter().all(|t| !t.contains("promised") && !t.contains("p…") && !t.contains("gone")), "{told:?}");
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn not_by_explanations() {
    let c = cluster().await;
    let mut narrow = come(&c, "narrow").await;
    for call in ["explain", "what_if"] {
        let params = json!({"query": "SELECT id FROM calls"});
        let e = narrow.call(call, params).await.unwrap_err().to_string();
        assert!(e.contains("not known or not permitted"), "operators only: {e}");
    }
    for table in ["instances", "tables", "rules", "feeds", "clients", "changes", "verdicts", "connections", "frames"] {
        let e = ask(&mut narrow, &format!("SELECT * FROM gossip.{table}")).await.unwrap_err();
        assert!(e.contains("not known or not permitted"), "{table}: {e}");
    }
    c.stop().await;
}
