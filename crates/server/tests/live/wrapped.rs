//! Messages that a broker brings are lost, doubled and late on their last stretch, by the wrapper around the relay: three
//! instances over each real broker and a PostgreSQL, 300 transactions a second, 200 clients. No connection is lost, no row
//! ever goes back, and when it is over every result is what the database holds.
//!
//! `GOSSIP_FAULT_SECONDS=n` sets how long it lasts.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::{Duration, Instant};

use gossip_client::result_set::Applied;
use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::send_queue::QueueLimits;
use gossip_relay::faulty::{Faults, Faulty};
use gossip_server::instance::{Instance, Options};
use parking_lot::Mutex;
use postgres::{Client, NoTls};
use rand::Rng;
use testbed::{Broker, Kind, PATIENCE, Postgres};

use crate::common::{prepared, rule, run};

const ROWS: i64 = 60;
const GROUPS: i64 = 20;
const CLIENTS: usize = 200;
const PER_SECOND: u32 = 300;

type Rows = BTreeMap<String, i64>;

/// Writes at a pace until it is stopped; every row's number only grows. Returns how many transactions there were.
fn write(url: &str, stop: &AtomicBool) -> u32 {
    let mut db = Client::connect(url, NoTls).unwrap();
    let (begun, mut n) = (Instant::now(), 0);
    while !stop.load(Relaxed) {
        n += 1;
        let id = i64::from(n) % ROWS + 1;
        db.execute("UPDATE calls SET n = n + 1 WHERE id = $1", &[&(id as i32)]).unwrap();
        let due = Duration::from_secs(1) * n / PER_SECOND;
        std::thread::sleep(due.saturating_sub(begun.elapsed()));
    }
    n
}

/// Reads for ever, and keeps the result. No row goes back, nothing is closed.
async fn read(mut session: Session, mut live: ResultSet, rows: Arc<Mutex<Rows>>) {
    loop {
        let Incoming::Notification(told) = session.next().await.expect("the connection holds").0 else { continue };
        if let Applied::Closed(why) = live.apply(&told).unwrap() {
            panic!("closed: {why}");
        }
        let mut before = rows.lock();
        for (key, row) in &live.rows {
            let n = row["n"].as_i64().unwrap();
            let was = before.insert(key.clone(), n).unwrap_or(0);
            assert!(n >= was, "{key} was at {was} and is at {n} again");
        }
        before.retain(|key, _| live.rows.contains_key(key));
    }
}

/// Loses, doubles and delays, for so long; then nothing any more.
async fn misbehave(all: &[Arc<Faults>], time: Duration) {
    let begun = Instant::now();
    while begun.elapsed() < time {
        for faults in all {
            let (lost, twice) = (rand::rng().random_range(0..4), rand::rng().random_range(0..4));
            faults.drop_next.store(lost, Relaxed);
            faults.double_next.store(twice, Relaxed);
            faults.delay_ms.store(if lost == 0 { 15 } else { 0 }, Relaxed);
        }
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
    for faults in all {
        faults.delay_ms.store(0, Relaxed);
        faults.drop_next.store(0, Relaxed);
        faults.double_next.store(0, Relaxed);
    }
}

async fn all_is_right_in_the_end(kind: Kind) {
    let (db, broker) = (Arc::new(Postgres::start()), Broker::start(kind));
    let schema = format!(
        "CREATE TABLE calls (id int PRIMARY KEY, n int NOT NULL, grp int NOT NULL);
         INSERT INTO calls SELECT i, 0, i % {GROUPS} FROM generate_series(1, {ROWS}) i"
    );
    run(&db.url(), schema).await;
    let source = prepared(&db.url(), &["calls"], true).await;
    let (mut instances, mut faults) = (Vec::new(), Vec::new());
    for name in ["east", "west", "far"] {
        let settings = gossip_relay::Settings { url: broker.url(), ..gossip_relay::Settings::default() };
        let relay = Faulty::new(gossip_relay::connect(&settings, name).await.unwrap());
        faults.push(relay.faults().clone());
        let options = Options {
            name: name.into(),
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            source: source.clone(),
            rules: vec![rule("anonymous", "calls", None, &[])],
            queries: BTreeMap::new(),
            tokens: None,
            secret: b"the same for all of them".to_vec(),
            relay: Arc::new(relay),
            queue: QueueLimits::default(),
            admission: Default::default(),
            topics: vec![],
            decisions: None,
            on_failure: Default::default(),
        };
        instances.push(Instance::start(options).await.unwrap());
    }
    let mut clients = Vec::new();
    for i in 0..CLIENTS {
        let mut session = Session::connect(&instances[i % 3].address().to_string(), None).await.unwrap();
        let query = format!("SELECT id, n FROM calls WHERE grp = {}", i as i64 % GROUPS);
        let live = ResultSet::new(session.subscribe(&query).await.unwrap());
        let rows = Arc::new(Mutex::new(Rows::new()));
        clients.push((rows.clone(), tokio::spawn(read(session, live, rows))));
    }
    let stop = Arc::new(AtomicBool::new(false));
    let (url, stopped) = (db.url(), stop.clone());
    let writer = tokio::task::spawn_blocking(move || write(&url, &stopped));
    let given = std::env::var("GOSSIP_FAULT_SECONDS").ok().and_then(|s| s.parse().ok());
    misbehave(&faults, Duration::from_secs(given.unwrap_or(3))).await;
    stop.store(true, Relaxed);
    let written = writer.await.unwrap();
    let ended = Instant::now();
    let url = db.url();
    let truth = move || {
        let mut truth = vec![Rows::new(); GROUPS as usize];
        for r in Client::connect(&url, NoTls).unwrap().query("SELECT id, n, grp FROM calls", &[]).unwrap() {
            let (id, n, group): (i32, i32, i32) = (r.get(0), r.get(1), r.get(2));
            truth[group as usize].insert(format!("[{id}]"), n.into());
        }
        truth
    };
    let truth = tokio::task::spawn_blocking(truth).await.unwrap();
    for (i, (rows, reading)) in clients.iter().enumerate() {
        let expected = &truth[i % GROUPS as usize];
        while *rows.lock() != *expected {
            assert!(!reading.is_finished(), "a client has failed");
            assert!(ended.elapsed() < PATIENCE, "client {i}: {:?}, not {expected:?}", rows.lock());
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }
    eprintln!(
        "{kind:?}: {written} transactions; all right {:.1} s after the last fault",
        ended.elapsed().as_secs_f64()
    );
    for (_, reading) in clients {
        assert!(!reading.is_finished(), "a client has failed");
        reading.abort();
    }
    for instance in instances {
        instance.stop().await;
    }
}

macro_rules! on_each_broker {
    ($($name:ident: $kind:ident),*) => { $(
        #[tokio::test(flavor = "multi_thread")]
        async fn $name() {
            all_is_right_in_the_end(Kind::$kind).await;
        }
    )* };
}

on_each_broker!(over_nats: Nats, over_redis: Redis, over_mqtt: Mosquitto, over_amqp: Rabbit);
