//! What products are made of, at two instances at once: each is what the database says, also while a right is taken back.

use std::time::Duration;

use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::rule::{May, RuleText};
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Shape;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value as Json, json};

use crate::arranged::{held, until_it_is, wanted};
use crate::common::{Cluster, rule};
use crate::topics::topics;

const SCHEMA: &str = "CREATE TABLE members (id INTEGER PRIMARY KEY, room INTEGER, who TEXT);
  CREATE TABLE messages (id INTEGER PRIMARY KEY, room INTEGER, body TEXT, unread INTEGER);
  CREATE TABLE votes (id INTEGER PRIMARY KEY, room INTEGER, choice TEXT);
  INSERT INTO members VALUES (1, 1, 'ada'), (2, 2, 'ada'), (3, 3, 'ada'), (4, 1, 'bo'), (5, 2, 'bo')";

/// What one may see depends on the rooms that one is in.
const OF_MY_ROOMS: &str = "room IN (SELECT room FROM members WHERE who = claim.me)";

/// Recipes: what they are, and the query of somebody who may see the rooms that are filled in.
const RECIPES: [(&str, &str); 4] = [
    (
        "unread, newest first",
        "SELECT id, room, body FROM messages WHERE unread = 1 AND ROOMS ORDER BY id DESC LIMIT 10",
    ),
    ("a badge", "SELECT count(*) AS unread FROM messages WHERE unread = 1 AND ROOMS"),
    ("a poll's totals", "SELECT choice, count(*) AS votes FROM votes WHERE ROOMS GROUP BY choice ORDER BY choice"),
    (
        "the last message of each conversation",
        "SELECT DISTINCT ON (room) room, id, body FROM messages WHERE ROOMS ORDER BY room, id DESC",
    ),
];

/// The same for SQLite, which has no `DISTINCT ON`, with the rooms of somebody.
fn in_sqlite(query: &str, who: &str) -> String {
    let rooms = format!("room IN (SELECT room FROM members WHERE who = '{who}')");
    let last = "SELECT room, max(id) AS id, body FROM messages WHERE ROOMS GROUP BY room ORDER BY room";
    let query = if query.contains("DISTINCT ON") { last } else { query };
    query.replace("ROOMS", &rooms)
}

/// Who they are: those whose rules ask for the rooms, and those who see all, but of the members themselves alone, and ask for the rooms.
const READERS: [(&str, &str); 2] = [("member", "true"), ("reader", "room IN (SELECT room FROM members)")];

struct Follower {
    who: &'static str,
    reader: (&'static str, &'static str),
    query: &'static str,
    session: Session,
    live: ResultSet,
}

#[tokio::test(flavor = "multi_thread")]
async fn results_that_products_are_made_of_stay_true_and_end_with_their_rights() {
    let mut rules = ["messages", "votes"].map(|table| rule("member", table, Some(OF_MY_ROOMS), &[])).to_vec();
    rules.extend(["messages", "votes"].map(|table| rule("reader", table, None, &[])));
    rules.push(rule("reader", "members", Some("who = claim.me"), &[]));
    let c = Cluster::start(SCHEMA, &["members", "messages", "votes"], rules, QueueLimits::default()).await;
    let mut followers = Vec::new();
    for (i, who) in ["ada", "bo"].into_iter().enumerate() {
        for ((_, query), reader) in RECIPES.into_iter().flat_map(|recipe| READERS.map(|reader| (recipe, reader))) {
            let mut session = c.connect(i, &[reader.0], json!({"me": who})).await;
            let answer = session.subscribe(&query.replace("ROOMS", reader.1)).await.unwrap();
            followers.push(Follower { who, reader, query, session, live: ResultSet::new(answer) });
        }
    }
    let mut rng = StdRng::seed_from_u64(11);
    for round in 0..8 {
        for _ in 0..15 {
            let (id, room) = (rng.random_range(1..40), rng.random_range(1..4));
            let (body, unread) = (rng.random_range(0..1_000), rng.random_range(0..2));
            let choice = ["tea", "coffee", "water"][rng.random_range(0..3)];
            let write = [
                format!("INSERT OR REPLACE INTO messages VALUES ({id}, {room}, 'm{body}', {unread})"),
                format!("UPDATE messages SET unread = 0 WHERE id = {id}"),
                format!("DELETE FROM messages WHERE id = {id}"),
                format!("INSERT OR REPLACE INTO votes VALUES ({id}, {room}, '{choice}')"),
            ][rng.random_range(0..4)]
            .clone();
            c.db.execute_batch(&write).unwrap();
        }
        // Somebody leaves a room, together with something that is said there, and later comes back.
        match round {
            2 => c.db.execute_batch("BEGIN; DELETE FROM members WHERE id IN (2, 4); INSERT OR REPLACE INTO messages VALUES (50, 2, 'behind your back', 1); COMMIT"),
            5 => c.db.execute_batch("INSERT INTO members VALUES (2, 2, 'ada')"),
            _ => Ok(()),
        }
        .unwrap();
        for f in &mut followers {
            let mut wanted = wanted(&c.db, &in_sqlite(f.query, f.who));
            if f.live.shape != Shape::Ordered {
                wanted.sort();
            }
            until_it_is(&mut f.session, &mut f.live, &wanted, f.query).await;
        }
    }
    // Whoever comes now sees the same.
    for f in &followers {
        let mut late = c.connect(0, &[f.reader.0], json!({"me": f.who})).await;
        let late = ResultSet::new(late.subscribe(&f.query.replace("ROOMS", f.reader.1)).await.unwrap());
        assert_eq!(held(&late), held(&f.live), "{}", f.query);
    }
    c.stop().await;
}

/// A server renders parts of a page and publishes them; clients hold the newest of each, and none that they may not see.
#[tokio::test(flavor = "multi_thread")]
async fn fragments_of_a_page_are_kept_up_to_date_by_a_topic() {
    let fragments = topics("[topic.fragments]\nkey = ['part']\ncolumns = { part = 'text', html = 'text' }");
    let publisher = RuleText {
        role: "renderer".into(),
        table: TableName::plain("fragments"),
        may: May { read: false, publish: true },
        ..RuleText::default()
    };
    let rules =
        vec![publisher, rule("reader", "fragments", Some("part <> 'admin'"), &[]), rule("member", "votes", None, &[])];
    let c = Cluster::with_topics(SCHEMA, &["votes"], rules.clone(), QueueLimits::default(), fragments).await;
    let mut renderer = c.connect(0, &["renderer"], json!({})).await;
    let mut reader = c.connect(1, &["reader"], json!({})).await;
    let answer = reader.subscribe("SELECT part, html FROM fragments").await.unwrap();
    let mut live = ResultSet::new(answer);
    for (part, html) in [("head", "<h1>1</h1>"), ("admin", "<b>no</b>"), ("list", "<ul></ul>"), ("head", "<h1>2</h1>")]
    {
        let event = json!({"topic": "fragments", "data": {"part": part, "html": html}});
        renderer.call("publish", event).await.unwrap();
    }
    let expected = json!([{"part": "head", "html": "<h1>2</h1>"}, {"part": "list", "html": "<ul></ul>"}]);
    let read = async {
        while json!(live.in_order().collect::<Vec<_>>()) != expected {
            if let Incoming::Notification(told) = reader.next().await.unwrap().0 {
                live.apply(&told).unwrap();
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, read).await.unwrap();
    let mut late = c.connect(0, &["reader"], json!({})).await;
    let late = ResultSet::new(late.subscribe("SELECT part, html FROM fragments").await.unwrap());
    assert_eq!(json!(late.in_order().collect::<Vec<_>>()), expected);
    // The right ends at both instances, and so does what was shown by it.
    for instance in c.instances.iter().flatten() {
        instance.set_rules(rules.iter().filter(|r| r.role != "reader").cloned().collect()).await;
    }
    let ended = async {
        loop {
            let (incoming, text) = reader.next().await.unwrap();
            let message: Json = serde_json::from_str(&text).unwrap();
            if matches!(incoming, Incoming::Notification(_)) && message["method"] == "closed" {
                return message["params"]["why"].clone();
            }
        }
    };
    let why = tokio::time::timeout(testbed::PATIENCE, ended).await.unwrap();
    assert!(why.as_str().unwrap().starts_with("rights-changed"), "{why}");
    c.stop().await;
}

/// What is older than a moment leaves by itself, at every instance, without a change of the table.
#[tokio::test(flavor = "multi_thread")]
async fn what_is_too_old_leaves_by_itself() {
    let typing = topics(
        "[topic.typing]\nkey = ['who']\ncolumns = { who = 'text', at = { type = 'timestamptz', attribute = 'time' } }",
    );
    let publisher = RuleText { may: May { read: false, publish: true }, ..rule("member", "typing", None, &[]) };
    let rules = vec![publisher, rule("member", "typing", None, &[])];
    let c = Cluster::with_topics(SCHEMA, &["votes"], rules, QueueLimits::default(), typing).await;
    let query = "SELECT who FROM typing WHERE at > now() - INTERVAL '2 seconds'";
    let counted = "SELECT count(*) AS n FROM typing WHERE at > now() - INTERVAL '2 seconds'";
    let mut clients = Vec::new();
    for (i, query) in [(0, query), (1, query), (1, counted)] {
        let mut session = c.connect(i, &["member"], json!({})).await;
        let live = ResultSet::new(session.subscribe(query).await.unwrap());
        clients.push((session, live));
    }
    let is = |live: &ResultSet| json!(live.in_order().collect::<Vec<_>>());
    let empty: Vec<Json> = clients.iter().map(|(_, live)| is(live)).collect();
    // It is said again until all have seen it, however slow they are.
    let mut writer = c.connect(0, &["member"], json!({})).await;
    let mut seen = vec![false; clients.len()];
    let come = async {
        while seen.contains(&false) {
            writer.call("publish", json!({"topic": "typing", "data": {"who": "ada"}})).await.unwrap();
            for (i, (session, live)) in clients.iter_mut().enumerate() {
                while let Ok(next) = tokio::time::timeout(Duration::from_millis(50), session.next()).await {
                    if let Incoming::Notification(told) = next.unwrap().0 {
                        live.apply(&told).unwrap();
                    }
                    seen[i] |= is(live) != empty[i];
                }
            }
        }
    };
    tokio::time::timeout(testbed::PATIENCE, come).await.expect("it comes");
    for ((session, live), empty) in clients.iter_mut().zip(&empty) {
        let gone = async {
            while is(live) != *empty {
                if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                    live.apply(&told).unwrap();
                }
            }
        };
        tokio::time::timeout(testbed::PATIENCE, gone).await.expect("it goes");
    }
    c.stop().await;
}
