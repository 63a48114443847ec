//! A joined result whose partners are always new: 200 messages a second for a minute, each of another of 1,000,000 users, one of
//! whom, with thousands of messages, changes every second. PostgreSQL, and one instance.
//!
//! The delay from before the commit to the other end of a socket is measured for a window of the newest messages with their
//! sender's name, for all messages with theirs, and beside them for the same messages alone, which is the floor. A neighbour measures
//! its own table, without and with somebody hostile who asks for whatever is too much.
//!
//! `cargo bench --bench partners` (a number after `--` sets the seconds).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::{Duration, Instant};

use gossip_client::{ClientError, Incoming, Session};
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_protocol::{ChangeEntry, Notification};
use gossip_relay::inproc::InProcess;
use gossip_server::auth::Tokens;
use gossip_server::config::Auth;
use gossip_server::instance::{Instance, Options};
use gossip_server::now;
use gossip_source::Settings;
use hdrhistogram::Histogram;
use parking_lot::Mutex;
use postgres::{Client, NoTls};
use serde_json::{Map, json};
use testbed::Postgres;

const USERS: i64 = 1_000_000;
const PER_SECOND: u64 = 200;
/// Messages of the user who changes every second.
const HOT: i64 = 2_000;
const SECRET: &[u8] = b"a secret of at least thirty-two bytes";

type Delays = Arc<Mutex<Histogram<u64>>>;

fn delays() -> Delays {
    Arc::new(Mutex::new(Histogram::new_with_bounds(1, 600_000_000, 3).unwrap()))
}

struct Door {
    address: String,
    tokens: Tokens,
}

impl Door {
    async fn enter(&self, who: &str) -> Session {
        let claims = Map::new();
        let token = self.tokens.mint_for(who, &["reader".into()], &claims, now() / 1_000_000, 3_600).unwrap();
        Session::connect_within(testbed::PATIENCE, &self.address, Some(&token)).await.unwrap()
    }

    /// Notes how late what is added to a result comes.
    async fn watch(&self, who: &str, query: &str) -> Delays {
        let mut session = self.enter(who).await;
        session.subscribe(query).await.unwrap();
        let noted = delays();
        let kept = noted.clone();
        tokio::spawn(async move {
            while let Ok((incoming, text)) = session.next().await {
                let Incoming::Notification(told) = incoming else { continue };
                let Notification::Delta { changes, .. } = told else {
                    assert!(!matches!(told, Notification::Closed { .. }), "{text}");
                    continue;
                };
                for change in changes {
                    if let ChangeEntry::Add { row, .. } = change
                        && let Some(sent) = row.get("sent").and_then(|sent| sent.as_i64()).filter(|sent| *sent > 0)
                    {
                        noted.lock().saturating_record((now() - sent).max(1).unsigned_abs());
                    }
                }
            }
        });
        kept
    }
}

/// What somebody hostile is told.
type Told = Arc<Mutex<BTreeMap<String, usize>>>;

/// Asks for what is too much, again and again, and notes what is said to it.
async fn besiege(door: Arc<Door>, told: Told, over: Arc<AtomicBool>, queries: &'static [&'static str]) {
    let note = |text: &str| {
        // Numbers differ from one to the next.
        let text: String = text.chars().filter(|c| !c.is_ascii_digit()).take(110).collect();
        *told.lock().entry(text).or_default() += 1;
    };
    let mut n = 0;
    while !over.load(Relaxed) {
        let mut session = door.enter("mallory").await;
        for _ in 0..200 {
            n += 1;
            let query = queries[n % queries.len()].replace("{n}", &n.to_string());
            match tokio::time::timeout(Duration::from_secs(5), session.subscribe(&query)).await {
                Ok(Ok(_)) => {}
                Ok(Err(ClientError::Refused(error))) => note(&error.to_string()),
                Ok(Err(_)) => break,
                // It goes on being read.
                Err(_) => note("(no answer for 5 s)"),
            }
            while let Ok(Ok((incoming, text))) = tokio::time::timeout(Duration::from_millis(1), session.next()).await {
                if let Incoming::Notification(Notification::Closed { .. }) = incoming {
                    note(&text);
                }
            }
            if over.load(Relaxed) {
                break;
            }
        }
    }
}

const HOSTILE: [&[&str]; 2] = [
    &[
        "SELECT a.id, b.name FROM users a LEFT JOIN users b ON b.id = a.boss WHERE a.id > {n}",
        "SELECT u.id, u.name, b.name AS boss FROM users u JOIN users b ON b.id = u.boss ORDER BY b.name, u.id LIMIT 1000 OFFSET {n}",
    ],
    &[
        "SELECT m.id, m.body, u.name FROM messages m LEFT JOIN users u ON u.id = m.sender WHERE m.id > {n}",
        "SELECT m.id FROM messages m WHERE m.sender IN (SELECT u.id FROM users u WHERE u.id > {n})",
        "SELECT m.id, a.name FROM messages m JOIN users a ON a.id = m.sender JOIN users b ON b.id = a.boss \
         JOIN users c ON c.id = b.boss JOIN users d ON d.id = c.boss JOIN users e ON e.id = d.boss WHERE m.id > {n}",
    ],
];

fn database(server: &Postgres) -> Client {
    let mut db = Client::connect(&server.url(), NoTls).unwrap();
    db.batch_execute(&format!(
        "CREATE TABLE users (id bigint PRIMARY KEY, name text, boss bigint);
         CREATE TABLE messages (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, sender bigint, body text, sent bigint);
         CREATE TABLE ticks (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, sent bigint);
         INSERT INTO users SELECT i, 'user ' || i, i / 10 FROM generate_series(1, {USERS}) i;
         INSERT INTO messages (sender, body, sent) SELECT 1, 'hot', 0 FROM generate_series(1, {HOT}) i;
         ANALYZE"
    ))
    .unwrap();
    db
}

/// Writes for a while: messages of users of whom none was asked for yet, the hot user's name, and ticks.
fn write(url: &str, first: i64, seconds: u64) -> i64 {
    let url_of_ticks = url.to_string();
    let ticks = std::thread::spawn(move || {
        let mut db = Client::connect(&url_of_ticks, NoTls).unwrap();
        let insert = db.prepare("INSERT INTO ticks (sent) VALUES ($1)").unwrap();
        let begun = Instant::now();
        for n in 0..seconds * 50 {
            std::thread::sleep((begun + Duration::from_millis(n * 20)).saturating_duration_since(Instant::now()));
            db.execute(&insert, &[&now()]).unwrap();
        }
    });
    let mut db = Client::connect(url, NoTls).unwrap();
    let insert =
        db.prepare("INSERT INTO messages (sender, body, sent) VALUES ($1, 'some text of a message', $2)").unwrap();
    let rename = db.prepare("UPDATE users SET name = $1 WHERE id = 1").unwrap();
    let begun = Instant::now();
    for n in 0..seconds * PER_SECOND {
        let due = begun + Duration::from_micros(n * 1_000_000 / PER_SECOND);
        std::thread::sleep(due.saturating_duration_since(Instant::now()));
        db.execute(&insert, &[&(first + n as i64), &now()]).unwrap();
        if n % PER_SECOND == 0 {
            db.execute(&rename, &[&format!("name {n}")]).unwrap();
        }
    }
    ticks.join().unwrap();
    first + (seconds * PER_SECOND) as i64
}

async fn start(server: &Postgres) -> (Instance, Arc<Door>) {
    let tables = ["users", "messages", "ticks"];
    let settings = Settings {
        name: "s".into(),
        url: server.url(),
        tables: tables.map(String::from).to_vec(),
        options: [("old_values".to_string(), json!(tables))].into(),
    };
    let source = gossip_source::from_settings(&settings, Path::new("/")).unwrap();
    let source = tokio::task::spawn_blocking(move || {
        source.carry_out(&source.plan().unwrap().statements).unwrap();
        source
    });
    let rule = |table: &str| RuleText { role: "reader".into(), table: TableName::plain(table), ..RuleText::default() };
    let auth = || Auth { audience: Some("harbour".into()), operators: Some("ops".into()), ..Auth::default() };
    let options = Options {
        name: "one".into(),
        listen: ([127, 0, 0, 1], 0).into(),
        source: source.await.unwrap(),
        rules: tables.map(rule).to_vec(),
        queries: Default::default(),
        tokens: Some(Arc::new(Tokens::new(auth(), SECRET).unwrap())),
        secret: SECRET.to_vec(),
        relay: Arc::new(InProcess::default()),
        queue: Default::default(),
        admission: Default::default(),
        topics: vec![],
        decisions: None,
        on_failure: Default::default(),
    };
    let instance = Instance::start(options).await.unwrap();
    let door = Door { address: instance.address().to_string(), tokens: Tokens::new(auth(), SECRET).unwrap() };
    (instance, Arc::new(door))
}

const WATCHED: [(&str, &str); 4] = [
    (
        "newest 50, sender's name",
        "SELECT m.id, m.sent, u.name FROM messages m JOIN users u ON u.id = m.sender ORDER BY m.id DESC LIMIT 50",
    ),
    ("all, sender's name", "SELECT m.id, m.sent, u.name FROM messages m LEFT JOIN users u ON u.id = m.sender"),
    ("all, alone", "SELECT id, sent FROM messages"),
    ("neighbour", "SELECT id, sent FROM ticks"),
];

fn main() {
    let seconds = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(60);
    // What clients do with what they are sent is not to take the instance's threads.
    let threads = || tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap();
    let (runtime, of_watchers, of_hostile) = (threads(), threads(), threads());
    let server = Postgres::start();
    drop(database(&server));
    let (instance, door) = runtime.block_on(start(&server));
    println!(
        "{USERS} users, {PER_SECOND} messages a second for {seconds} s, each of another user; one user with {HOT} changes every second"
    );
    println!("{:<36}{:>9}{:>9}{:>9}{:>9}{:>9}", "delay in ms", "count", "p50", "p99", "max", "ratio");
    let mut next = 2;
    for hostile in [false, true] {
        let over = Arc::new(AtomicBool::new(false));
        let told = Told::default();
        let watched = WATCHED.map(|(name, query)| (name, of_watchers.block_on(door.watch(name, query))));
        let siege =
            || HOSTILE.map(|queries| of_hostile.spawn(besiege(door.clone(), told.clone(), over.clone(), queries)));
        let siege = hostile.then(siege);
        next = write(&server.url(), next, seconds);
        let all = seconds * PER_SECOND;
        let deadline = Instant::now() + testbed::PATIENCE;
        while watched[..3].iter().any(|(_, delays)| delays.lock().len() < all) && Instant::now() < deadline {
            std::thread::sleep(Duration::from_millis(10));
        }
        over.store(true, Relaxed);
        for task in siege.into_iter().flatten() {
            of_hostile.block_on(task).unwrap();
        }
        println!("{}", if hostile { "beside somebody hostile" } else { "alone" });
        let floor = watched[2].1.lock().value_at_quantile(0.5) as f64;
        for (name, delays) in &watched {
            let delays = delays.lock();
            let ms = |q| delays.value_at_quantile(q) as f64 / 1_000.0;
            let (p50, p99, most) = (ms(0.5), ms(0.99), delays.max() as f64 / 1_000.0);
            let ratio = p50 * 1_000.0 / floor;
            println!("  {name:<34}{:>9}{p50:>9.2}{p99:>9.2}{most:>9.1}{ratio:>9.2}", delays.len());
        }
        for (what, times) in told.lock().iter() {
            println!("  {times:>6} times told: {what}");
        }
    }
    runtime.block_on(instance.stop());
}
