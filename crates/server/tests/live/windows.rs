//! Windows over a large PostgreSQL table while its first rows go, come and move by the clock: what is shown is always what was
//! committed, in its order, pages are read seldom, and who asked something else does not notice.
//!
//! Minutes long: `cargo test --workspace --test live windows -- --ignored --nocapture`; `GOSSIP_SECONDS=n` sets for how
//! long, `GOSSIP_ROWS=n` how many rows.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use gossip_client::result_set::{Applied, JsonRow};
use gossip_client::{Incoming, ResultSet, Session};
use gossip_protocol::Notification;
use gossip_server::instance::Instance;
use parking_lot::Mutex;
use postgres::{Client, NoTls};
use rand::rngs::StdRng;
use rand::{Rng as _, SeedableRng as _};
use testbed::Postgres;

use crate::common::{prepared, rule, run, start};

const OWNERS: usize = 1_000;
const SESSIONS: usize = 10;
const WINDOW: usize = 10;
/// How far from the front rows change.
const NEAR: usize = 30;
const PER_SECOND: u64 = 1_000;
/// Departures of which one may have a page read: half a reserve.
const HALF_A_RESERVE: u64 = 32;

fn number(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).ok().and_then(|n| n.parse().ok()).unwrap_or(otherwise)
}

/// The rows of an owner by level and id, and the first ten as they were after each commit that changed them.
struct Owned {
    rows: BTreeSet<(i64, i64)>,
    first: Vec<Vec<i64>>,
}

impl Owned {
    fn front(&self) -> Vec<i64> {
        self.rows.iter().take(WINDOW).map(|(_, id)| *id).collect()
    }
}

type Tables = Arc<Vec<Mutex<Owned>>>;

/// What is known of the changes that were made.
#[derive(Default)]
struct Made {
    changes: AtomicU64,
    /// Rows that went or moved back by them.
    departures: AtomicU64,
    /// Windows that are shown.
    shown: AtomicU64,
    stopped: AtomicBool,
}

/// Changes rows near the front of random owners, so many in a second.
fn write(url: &str, tables: &Tables, made: &Made, mut next_id: i64) {
    let mut db = Client::connect(url, NoTls).unwrap();
    let insert = db.prepare("INSERT INTO orders VALUES ($1, $2, $3)").unwrap();
    let delete = db.prepare("DELETE FROM orders WHERE id = $1").unwrap();
    let update = db.prepare("UPDATE orders SET level = $2 WHERE id = $1").unwrap();
    let mut random = StdRng::seed_from_u64(11);
    let begun = Instant::now();
    for n in 0_u64.. {
        if made.stopped.load(Relaxed) {
            return;
        }
        let due = Duration::from_micros(n * 1_000_000 / PER_SECOND);
        std::thread::sleep(due.saturating_sub(begun.elapsed()));
        let owner = random.random_range(0..OWNERS);
        let near = random.random_range(0..NEAR);
        let kind = random.random_range(0..10);
        let (goes, moves, comes) = (kind < 4, kind == 4, (5..8).contains(&kind));
        // What is shown must be in the history before anybody can see it.
        let (id, level) = {
            let mut owned = tables[owner].lock();
            let (level, id) = owned.rows.iter().nth(near).copied().unwrap();
            let far = random.random_range(0..1_000_000);
            let new = if moves { level + random.random_range(-3..3) } else { far };
            if !comes {
                owned.rows.remove(&(level, id));
            }
            let id = if comes { next_id } else { id };
            next_id += i64::from(comes);
            if !goes {
                owned.rows.insert((new, id));
            }
            let front = owned.front();
            if owned.first.last() != Some(&front) {
                owned.first.push(front);
            }
            made.departures.fetch_add(u64::from(goes || !moves && !comes && new > level), Relaxed);
            (id, new)
        };
        let done = match (goes, comes) {
            (true, _) => db.execute(&delete, &[&id]),
            (_, true) => db.execute(&insert, &[&id, &(owner as i64), &level]),
            _ => db.execute(&update, &[&id, &level]),
        };
        done.unwrap();
        made.changes.fetch_add(1, Relaxed);
    }
}

fn int(row: &JsonRow, name: &str) -> i64 {
    row[name].as_i64().or_else(|| row[name].as_str()?.parse().ok()).unwrap()
}

/// A window that is shown, and which of the states of its owner it showed last.
struct Shown {
    owner: usize,
    live: ResultSet,
    at: usize,
    states: u64,
}

impl Shown {
    fn ids(&self) -> Vec<i64> {
        self.live.in_order().map(|row| int(row, "id")).collect()
    }

    /// Holds it against the states that were committed: it is one of them, and never an earlier one than before.
    fn check(&mut self, tables: &Tables) {
        let now = self.ids();
        let owned = tables[self.owner].lock();
        let found = owned.first[self.at..].iter().position(|first| *first == now);
        let found = found.unwrap_or_else(|| panic!("owner {} was never {now:?} after state {}", self.owner, self.at));
        self.at += found;
        self.states += 1;
    }

    /// Whether it is as the table is now; the same ten may have been the first before.
    fn is_last(&self, tables: &Tables) -> bool {
        tables[self.owner].lock().first.last() == Some(&self.ids())
    }
}

/// Has one session show the windows of its owners until all of them are as the table is at the end.
async fn show(url: String, owners: std::ops::Range<usize>, tables: Tables, made: Arc<Made>) -> u64 {
    let mut session = Session::connect(&url, None).await.unwrap();
    let mut shown = Vec::new();
    for owner in owners {
        let query = format!("SELECT * FROM orders WHERE owner = {owner} ORDER BY level, id LIMIT {WINDOW}");
        let live = ResultSet::new(session.subscribe(&query).await.unwrap());
        shown.push(Shown { owner, live, at: 0, states: 0 });
        shown.last_mut().unwrap().check(&tables);
        made.shown.fetch_add(1, Relaxed);
    }
    loop {
        if made.stopped.load(Relaxed) && shown.iter().all(|s| s.is_last(&tables)) {
            return shown.iter().map(|s| s.states).sum();
        }
        let next = tokio::time::timeout(Duration::from_millis(300), session.next()).await;
        let Ok(next) = next else { continue };
        let (Incoming::Notification(told), _) = next.unwrap() else { continue };
        for s in &mut shown {
            match s.live.apply(&told).unwrap() {
                Applied::NotMine => {}
                Applied::Closed(why) => panic!("{why}"),
                Applied::Whole(_) | Applied::Changed => s.check(&tables),
            }
        }
    }
}

/// How long it took others to hear of a change of another table, for so long; in milliseconds, in ascending order.
async fn delays(instance: &Instance, url: &str, seconds: u64) -> Vec<f64> {
    let mut session = Session::connect(&instance.address().to_string(), None).await.unwrap();
    let mut live = ResultSet::new(session.subscribe("SELECT * FROM pulse").await.unwrap());
    let (told, mut beats) = tokio::sync::mpsc::unbounded_channel();
    let url = url.to_string();
    let beating = tokio::task::spawn_blocking(move || {
        let mut db = Client::connect(&url, NoTls).unwrap();
        let begun = Instant::now();
        while begun.elapsed() < Duration::from_secs(seconds) {
            db.execute("UPDATE pulse SET n = n + 1", &[]).unwrap();
            let _ = told.send(Instant::now());
            std::thread::sleep(Duration::from_millis(20));
        }
    });
    let mut took = Vec::new();
    while let Some(since) = beats.recv().await {
        loop {
            let next = tokio::time::timeout(testbed::PATIENCE, session.next()).await.expect("the pulse");
            let (Incoming::Notification(told), _) = next.unwrap() else { continue };
            if live.apply(&told).unwrap() == Applied::Changed && matches!(told, Notification::Delta { .. }) {
                break took.push(since.elapsed().as_secs_f64() * 1e3);
            }
        }
    }
    beating.await.unwrap();
    took.sort_by(f64::total_cmp);
    took
}

/// How often the index of the windows' order was used: by pages that were read.
async fn pages(url: &str) -> i64 {
    let url = url.to_string();
    let read = move || {
        let mut db = Client::connect(&url, NoTls).unwrap();
        // Sessions report what they did when they have been idle for ten seconds.
        std::thread::sleep(Duration::from_secs(12));
        let sql = "SELECT idx_scan FROM pg_stat_user_indexes WHERE indexrelname = 'orders_front'";
        db.query_one(sql, &[]).unwrap().get(0)
    };
    tokio::task::spawn_blocking(read).await.unwrap()
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "minutes long"]
async fn windows_over_a_large_table_are_right_and_in_nobodys_way() {
    let (rows, seconds) = (number("GOSSIP_ROWS", 1_000_000) as i64, number("GOSSIP_SECONDS", 60));
    let server = Postgres::start();
    let url = server.url();
    let level = |id: i64| id * 7_919 % 1_000_003;
    run(
        &url,
        format!(
            "CREATE TABLE pulse (id int8 PRIMARY KEY, n int8 NOT NULL); INSERT INTO pulse VALUES (1, 0);
             CREATE TABLE orders (id int8 PRIMARY KEY, owner int8 NOT NULL, level int8 NOT NULL);
             INSERT INTO orders SELECT n, n % {OWNERS}, n * 7919 % 1000003 FROM generate_series(0::int8, {rows} - 1) n;
             CREATE INDEX orders_front ON orders (owner, level, id)"
        ),
    )
    .await;
    run(&url, "ANALYZE orders").await;
    let owned = |owner: usize| {
        let rows = (owner as i64..rows).step_by(OWNERS).map(|id| (level(id), id)).collect();
        let mut owned = Owned { rows, first: vec![] };
        owned.first.push(owned.front());
        Mutex::new(owned)
    };
    let tables: Tables = Arc::new((0..OWNERS).map(owned).collect());
    let source = prepared(&url, &["orders", "pulse"], true).await;
    let rules = ["orders", "pulse"].map(|table| rule("anonymous", table, None, &[])).to_vec();
    let instance = start(source, rules).await;
    let made = Arc::new(Made::default());
    let writer = {
        let (url, tables, made) = (url.clone(), tables.clone(), made.clone());
        std::thread::spawn(move || write(&url, &tables, &made, rows))
    };
    let without = delays(&instance, &url, seconds / 3).await;
    let before = pages(&url).await;
    let (subscribed, gone) = (Instant::now(), made.departures.load(Relaxed));
    let each = OWNERS / SESSIONS;
    let one = |n: usize| {
        let address = instance.address().to_string();
        tokio::spawn(show(address, n * each..(n + 1) * each, tables.clone(), made.clone()))
    };
    let sessions: Vec<_> = (0..SESSIONS).map(one).collect();
    while made.shown.load(Relaxed) < OWNERS as u64 {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let with = delays(&instance, &url, seconds).await;
    made.stopped.store(true, Relaxed);
    writer.join().unwrap();
    let lasted = subscribed.elapsed().as_secs_f64();
    let mut states = 0;
    for session in sessions {
        let ended = tokio::time::timeout(testbed::PATIENCE, session).await;
        states += ended.expect("every window is as the table is at the end").unwrap();
    }
    // The first pages are not re-reads.
    let read = (pages(&url).await - before - OWNERS as i64).max(0) as u64;
    let gone = made.departures.load(Relaxed) - gone;
    let quantiles = |took: &[f64]| [took[took.len() / 2], took[took.len() * 99 / 100]];
    let rate = made.changes.load(Relaxed) as f64;
    eprintln!("{rate} changes; {states} states of {OWNERS} windows, all committed ones, in {lasted:.0} s");
    eprintln!("{gone} rows went or moved back and {read} pages were read on: one for {}", gone / read.max(1));
    eprintln!(
        "others heard within (median, 99 %) {:.2?} ms, before there were windows {:.2?}",
        quantiles(&with),
        quantiles(&without)
    );
    assert!(states > OWNERS as u64 && read * HALF_A_RESERVE <= gone, "{states} states, {read} pages for {gone} rows");
    instance.stop().await;
}
