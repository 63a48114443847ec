//! Results of several tables at two instances: each is what the database says of what its reader may see of each table, whichever of
//! them changes, and what is withdrawn of one is withdrawn of the result.

use gossip_client::{ResultSet, Session};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Shape;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::json;

use crate::arranged::{held, until_it_is, wanted};
use crate::common::{Cluster, rule};

const SCHEMA: &str = "CREATE TABLE users (id INTEGER PRIMARY KEY, name TEXT, city TEXT, hidden INTEGER);
  CREATE TABLE messages (id INTEGER PRIMARY KEY, sender INTEGER, answers INTEGER, body TEXT);
  CREATE TABLE reactions (id INTEGER PRIMARY KEY, message INTEGER, sign TEXT);
  INSERT INTO users VALUES (1, 'ada', 'fen', 0), (2, 'bo', 'fen', 0), (3, 'cy', 'tor', 0), (4, 'di', 'tor', 1);
  INSERT INTO messages VALUES (1, 1, NULL, 'a'), (2, 4, 1, 'b'), (3, NULL, 2, 'c');
  INSERT INTO reactions VALUES (1, 1, '+'), (2, 1, '-'), (3, 3, '+')";

/// What the readers may see of users.
const SEEN: &str = "(SELECT * FROM users WHERE hidden = 0)";

const QUERIES: [&str; 7] = [
    "SELECT m.id, m.body, u.name AS sender FROM messages m LEFT JOIN users u ON u.id = m.sender",
    "SELECT m.*, u.name AS who, a.body AS answered FROM messages m JOIN users u ON u.id = m.sender \
     LEFT JOIN messages a ON a.id = m.answers ORDER BY u.name, m.id LIMIT 12",
    "SELECT m.id, m.body, count(*) AS reactions FROM messages m JOIN reactions r ON r.message = m.id \
     GROUP BY m.id, m.body ORDER BY count(*) DESC, m.id",
    "SELECT m.id, u.name FROM users u JOIN messages m ON m.sender = u.id WHERE u.city = 'fen' ORDER BY m.id",
    "SELECT u.city, count(*) AS messages FROM messages m LEFT JOIN users u ON u.id = m.sender GROUP BY u.city",
    "SELECT r.id, r.sign, u.name AS author FROM reactions r JOIN messages m ON m.id = r.message JOIN users u ON u.id = m.sender \
     ORDER BY r.id",
    "SELECT count(*) AS unanswered FROM messages m JOIN users u ON u.id = m.sender AND u.city <> 'tor' \
     WHERE NOT EXISTS (SELECT 1 FROM messages x WHERE x.answers = m.id)",
];

#[tokio::test(flavor = "multi_thread")]
async fn rows_of_several_tables_stay_together_whichever_changes() {
    let mut rules = ["messages", "reactions"].map(|table| rule("reader", table, None, &[])).to_vec();
    rules.push(rule("reader", "users", Some("hidden = 0"), &[]));
    let c = Cluster::start(SCHEMA, &["users", "messages", "reactions"], rules, QueueLimits::default()).await;
    let mut followers: Vec<(Session, ResultSet, &str)> = Vec::new();
    for (i, query) in QUERIES.into_iter().enumerate() {
        let mut session = c.connect(i % 2, &["reader"], json!({})).await;
        let answer = session.subscribe(query).await.unwrap_or_else(|e| panic!("{query}: {e}"));
        followers.push((session, ResultSet::new(answer), query));
    }
    let in_sqlite = |query: &str| {
        query.replace("JOIN users u", &format!("JOIN {SEEN} u")).replace("FROM users u", &format!("FROM {SEEN} u"))
    };
    let mut rng = StdRng::seed_from_u64(16);
    for _ in 0..60 {
        for _ in 0..6 {
            let (id, user, message) = (rng.random_range(1..14), rng.random_range(1..6), rng.random_range(1..14));
            let (word, city) = (rng.random_range(0..50), ["fen", "tor"][rng.random_range(0..2)]);
            let write = [
                format!("INSERT OR REPLACE INTO messages VALUES ({id}, {user}, {message}, 'm{word}')"),
                format!("UPDATE messages SET sender = {user} WHERE id = {id}"),
                format!("DELETE FROM messages WHERE id = {id}"),
                format!("INSERT OR REPLACE INTO users VALUES ({user}, 'u{word}', '{city}', {})", rng.random_range(0..2)),
                format!("BEGIN; UPDATE users SET hidden = 1 - hidden WHERE id = {user}; UPDATE messages SET body = 'x{word}' WHERE sender = {user}; COMMIT"),
                format!("DELETE FROM users WHERE id = {user}"),
                format!("INSERT OR REPLACE INTO reactions VALUES ({id}, {message}, 's{word}')"),
                format!("DELETE FROM reactions WHERE id = {id}"),
            ][rng.random_range(0..8)]
            .clone();
            c.db.execute_batch(&write).unwrap();
        }
        for (session, live, query) in &mut followers {
            let mut wanted = wanted(&c.db, &in_sqlite(query));
            if live.shape != Shape::Ordered {
                wanted.sort();
            }
            until_it_is(session, live, &wanted, query).await;
        }
    }
    for (i, (_, live, query)) in followers.iter().enumerate() {
        let mut late = c.connect((i + 1) % 2, &["reader"], json!({})).await;
        let late = ResultSet::new(late.subscribe(*query).await.unwrap());
        assert_eq!(held(&late), held(live), "{query}");
    }
    c.stop().await;
}
