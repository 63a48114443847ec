//! The seam under fire: writers of every kind on a real PostgreSQL, subscriptions that begin at any moment, a server and
//! instances that die.
//!
//! The table is made so that a result tells by itself whether it is one that was committed: in every group the amounts
//! add up to nothing at the end of every transaction, and every transaction on a group raises the group's version by
//! one. So a result that mixes two states does not add up, and a delta that is lost or doubled leaves a gap in the
//! versions. `GOSSIP_FIRE_SECONDS=n` sets how long it burns, `GOSSIP_FIRE_RATE=n` how many transactions there are in a second:
//! without it as many as the machine has room for, so that nobody keeps up.

mod listener;
mod writer;

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use crate::common::{prepared, rule};
use gossip_client::{Incoming, ResultSet, Session, result_set::Applied};
use gossip_core::send_queue::QueueLimits;
use gossip_relay::inproc::InProcess;
use gossip_server::instance::{Instance, Options};
use gossip_source::{Settings, Source};
use parking_lot::Mutex;
use postgres::{Client, NoTls};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::json;
use testbed::{Broker, Kind, Postgres};

use listener::{Asked, Listener, Truth};
use writer::{Writer, Written};

const GROUPS: i32 = 12;
const WRITERS: u64 = 8;
const SUBSCRIPTIONS: u64 = 200;

/// Every row of `acct` has an owner of its own, in the same group, which comes, moves and goes with it; `groups` has the version that the
/// first row of a group has.
const SCHEMA: &str = "CREATE TABLE acct (id bigint PRIMARY KEY, grp int NOT NULL, amount bigint NOT NULL, v bigint NOT NULL, owner bigint);
    CREATE TABLE owners (id bigint PRIMARY KEY, grp int NOT NULL);
    CREATE TABLE groups (grp int PRIMARY KEY, version bigint NOT NULL);
    CREATE SEQUENCE ids;
    INSERT INTO acct SELECT -g - 1, g, 0, 0, -g - 1 FROM generate_series(0, 11) g;
    INSERT INTO owners SELECT -g - 1, g FROM generate_series(0, 11) g;
    INSERT INTO groups SELECT g, 0 FROM generate_series(0, 11) g";

const TABLES: [&str; 3] = ["acct", "owners", "groups"];

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

#[derive(Clone, Copy, PartialEq)]
enum Trouble {
    None,
    /// The changes of the table do not carry the old row.
    NoOldValues,
    /// A synchronous standby that is not there, for a while.
    Standby,
    /// The server crashes three times, and both instances twice, with all they know.
    Crashes,
}

/// The source on a server, with its table, ready to be read.
async fn with_table(url: &str, old_values: bool) -> Arc<dyn Source> {
    run(url, SCHEMA).await;
    prepared(url, &TABLES, old_values).await
}

/// Runs statements, each in a transaction of its own.
async fn run(url: &str, sql: &str) {
    let (url, sql) = (url.to_string(), sql.to_string());
    let run = move || {
        let mut db = Client::connect(&url, NoTls).unwrap();
        sql.split(';').for_each(|s| db.batch_execute(s).unwrap());
    };
    tokio::task::spawn_blocking(run).await.unwrap();
}

async fn instances(source: &Arc<dyn Source>, listen: &[SocketAddr]) -> Vec<Instance> {
    let relay = Arc::new(InProcess::default());
    let mut started = Vec::new();
    for (i, listen) in listen.iter().enumerate() {
        let options = || Options {
            name: format!("i{i}"),
            listen: *listen,
            source: source.clone(),
            rules: TABLES.map(|table| rule("anonymous", table, None, &[])).to_vec(),
            queries: BTreeMap::new(),
            tokens: None,
            secret: b"the same before and after".to_vec(),
            relay: relay.clone(),
            queue: QueueLimits::default(),
            admission: Default::default(),
            topics: vec![],
            decisions: None,
            on_failure: Default::default(),
        };
        // The server may be away, or the address still in use.
        let begun = Instant::now();
        loop {
            match Instance::start(options()).await {
                Ok(instance) => break started.push(instance),
                Err(e) => assert!(begun.elapsed() < testbed::PATIENCE, "{e}"),
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }
    started
}

async fn burn(trouble: Trouble) {
    let seconds = number("GOSSIP_FIRE_SECONDS").unwrap_or(10);
    let server = Arc::new(Postgres::start());
    let url = server.url();
    let source = with_table(&url, trouble != Trouble::NoOldValues).await;
    let mut running = instances(&source, &[SocketAddr::from(([127, 0, 0, 1], 0)); 2]).await;
    let addresses: Vec<SocketAddr> = running.iter().map(Instance::address).collect();
    let urls = Arc::new(Mutex::new(addresses.iter().map(ToString::to_string).collect::<Vec<_>>()));
    let (stopped, committed) = (Arc::new(AtomicBool::new(false)), Arc::new(AtomicU64::new(0)));
    let written = Written::default();
    let writers: Vec<_> = (0..WRITERS)
        .map(|n| {
            let rng = StdRng::seed_from_u64(n);
            let (committed, stopped, written) = (committed.clone(), stopped.clone(), written.clone());
            let (url, name, makes) = (url.clone(), format!("w{n}"), Vec::new());
            let writer = Writer { url, name, rng, committed, written, makes, stopped };
            std::thread::spawn(move || writer.run())
        })
        .collect();
    let truth: Arc<Mutex<Option<Truth>>> = Arc::default();
    let mut listeners = Vec::new();
    for n in 0..SUBSCRIPTIONS {
        let mut rng = StdRng::seed_from_u64(1_000 + n);
        let after = Duration::from_millis(rng.random_range(0..seconds * 950));
        let asked = match n % 10 {
            0 => Asked::All,
            1 => Asked::Sums,
            2 => Asked::JoinedSums,
            3 => [Asked::Top, Asked::JoinedTop][n as usize / 10 % 2],
            4 | 5 => Asked::Joined(Some(rng.random_range(0..GROUPS))),
            6 if n < 50 => Asked::Joined(None),
            _ => Asked::Group(rng.random_range(0..GROUPS)),
        };
        let (urls, truth, written) = (urls.clone(), truth.clone(), written.clone());
        listeners.push(tokio::spawn(async move {
            tokio::time::sleep(after).await;
            let done = move |l: &Listener| truth.lock().as_ref().is_some_and(|t| l.has_all(t));
            Listener::new(asked, written).listen(urls, done, n as usize).await
        }));
    }
    let begun = Instant::now();
    let mut troubles = 0;
    let wanted_troubles = match trouble {
        Trouble::None | Trouble::NoOldValues => 0,
        Trouble::Standby => 1,
        Trouble::Crashes => 5,
    };
    while begun.elapsed() < Duration::from_secs(seconds) || troubles < wanted_troubles {
        tokio::time::sleep(Duration::from_millis(200)).await;
        let part = begun.elapsed().as_millis() as u64 * 8 / (seconds * 1_000);
        match trouble {
            Trouble::Standby if troubles == 0 && part >= 3 => {
                troubles = 1;
                standby(&url, "absent").await;
                tokio::time::sleep(Duration::from_secs(5.min(seconds / 2))).await;
                standby(&url, "").await;
            }
            Trouble::Crashes if part > troubles && troubles < 5 => {
                troubles += 1;
                if troubles % 2 == 1 {
                    let server = server.clone();
                    tokio::task::spawn_blocking(move || {
                        server.crash();
                        server.start_again();
                    })
                    .await
                    .unwrap();
                } else {
                    running.drain(..).for_each(Instance::kill);
                    running = instances(&source, &addresses).await;
                }
            }
            _ => {}
        }
    }
    stopped.store(true, Relaxed);
    let at = url.clone();
    let answer = tokio::task::spawn_blocking(move || {
        writers.into_iter().for_each(|w| w.join().unwrap());
        let mut db = Client::connect(&at, NoTls).unwrap();
        for r in db.query("SELECT gid FROM pg_prepared_xacts", &[]).unwrap() {
            db.batch_execute(&format!("COMMIT PREPARED '{}'", r.get::<_, String>(0))).unwrap();
        }
        let rows = db.query("SELECT id, grp, amount, v FROM acct", &[]).unwrap();
        let row = |r: &postgres::Row| {
            (format!("[{}]", r.get::<_, i64>(0)), (i64::from(r.get::<_, i32>(1)), r.get(2), r.get(3)))
        };
        rows.iter().map(row).collect()
    });
    *truth.lock() = Some(answer.await.unwrap());
    let (mut deltas, mut wholes, mut oldest) = (0, 0, Duration::ZERO);
    for listener in listeners {
        let ended = tokio::time::timeout(testbed::PATIENCE, listener).await.expect("every result equals the table");
        let l = ended.unwrap();
        (deltas, wholes, oldest) = (deltas + l.deltas, wholes + l.wholes, oldest.max(l.oldest));
    }
    let commits = committed.load(Relaxed);
    eprintln!(
        "{commits} transactions, {deltas} deltas, {wholes} whole results for {SUBSCRIPTIONS} subscriptions, none older than {oldest:?}"
    );
    assert!(commits > 100 && deltas > commits, "hardly anything happened");
    for instance in running {
        instance.stop().await;
    }
}

async fn standby(url: &str, name: &str) {
    let (url, sql) = (url.to_string(), format!("ALTER SYSTEM SET synchronous_standby_names = '{name}'"));
    tokio::task::spawn_blocking(move || {
        let mut db = Client::connect(&url, NoTls).unwrap();
        // Or setting it would wait for the standby as well.
        db.batch_execute("SET synchronous_commit = local").unwrap();
        db.batch_execute(&sql).unwrap();
        db.batch_execute("SELECT pg_reload_conf()").unwrap();
    })
    .await
    .unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn every_result_is_a_committed_state_under_concurrent_writers() {
    burn(Trouble::None).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn also_where_changes_do_not_carry_the_old_row() {
    burn(Trouble::NoOldValues).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn also_while_a_synchronous_standby_is_missing() {
    burn(Trouble::Standby).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn also_while_the_server_and_the_instances_crash() {
    burn(Trouble::Crashes).await;
}

/// The slot is dropped under a running instance, or given up by the server: what was written meanwhile is lost to the
/// stream. That is said, and once there is a new slot every feed is read anew.
#[tokio::test(flavor = "multi_thread")]
async fn a_lost_slot_is_an_alarm_and_a_new_one_begins_with_snapshots() {
    let server = Postgres::start();
    let url = server.url();
    let source = with_table(&url, true).await;
    let instance = instances(&source, &[SocketAddr::from(([127, 0, 0, 1], 0))]).await.remove(0);
    let mut session = Session::connect(&instance.address().to_string(), None).await.unwrap();
    let mut live = ResultSet::new(session.subscribe("SELECT id FROM acct WHERE id > 0").await.unwrap());
    run(&url, "INSERT INTO acct VALUES (1, 0, 0, 0)").await;
    while live.rows.is_empty() {
        if let Incoming::Notification(told) = session.next().await.unwrap().0 {
            live.apply(&told).unwrap();
        }
    }
    // Only between two attempts of the reader is it free to be dropped.
    let drop_it = "SELECT pg_terminate_backend(active_pid) FROM pg_replication_slots WHERE active;
        SELECT pg_drop_replication_slot(slot_name) FROM pg_replication_slots WHERE NOT active";
    let begun = Instant::now();
    while !instance.state().await.reading.contains("does not exist") {
        run(&url, drop_it).await;
        assert!(begun.elapsed() < testbed::PATIENCE, "{:?}", instance.state().await);
    }
    run(&url, "INSERT INTO acct VALUES (2, 0, 0, 0); DELETE FROM acct WHERE id = 1").await;
    let of = source.clone();
    tokio::task::spawn_blocking(move || of.carry_out(&of.plan().unwrap().statements).unwrap()).await.unwrap();
    let why = loop {
        let next = tokio::time::timeout(testbed::PATIENCE, session.next()).await.expect("a snapshot");
        let Incoming::Notification(told) = next.unwrap().0 else { continue };
        if let Applied::Whole(why) = live.apply(&told).unwrap() {
            break why;
        }
    };
    assert_eq!((why.as_str(), live.rows.keys().map(String::as_str).collect::<Vec<_>>()), ("gap", vec!["[2]"]));
    run(&url, "INSERT INTO acct VALUES (3, 0, 0, 0)").await;
    while live.rows.len() < 2 {
        if let Incoming::Notification(told) = session.next().await.unwrap().0 {
            live.apply(&told).unwrap();
        }
    }
    instance.stop().await;
}

/// A relay outlives an instance: the next reader begins where the relay ends, which is beyond what the slot was told.
#[tokio::test(flavor = "multi_thread")]
async fn an_instance_that_starts_again_goes_on_where_the_relay_is() {
    let server = Postgres::start();
    let url = server.url();
    let source = with_table(&url, true).await;
    let options = Options {
        name: "one".into(),
        listen: SocketAddr::from(([127, 0, 0, 1], 0)),
        source,
        rules: vec![rule("anonymous", "acct", None, &[])],
        queries: BTreeMap::new(),
        tokens: None,
        secret: b"the same before and after".to_vec(),
        relay: Arc::new(InProcess::default()),
        queue: QueueLimits::default(),
        admission: Default::default(),
        topics: vec![],
        decisions: None,
        on_failure: Default::default(),
    };
    for round in 1..=3i64 {
        let instance = Instance::start(options.clone()).await.unwrap();
        let mut session = Session::connect(&instance.address().to_string(), None).await.unwrap();
        let mut live = ResultSet::new(session.subscribe("SELECT * FROM acct WHERE id > 0").await.unwrap());
        // All but the first row of what came meanwhile, after the table was emptied.
        let before = if round == 1 { 0 } else { 9 };
        assert_eq!(live.rows.len() as i64, before, "round {round}: {:?}", instance.state().await);
        for i in 0..10 {
            run(&url, &format!("INSERT INTO acct VALUES ({}, 0, 0, 0)", round * 100 + i)).await;
        }
        while (live.rows.len() as i64) < before + 10 {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                live.apply(&told).unwrap();
            }
        }
        drop(session);
        instance.stop().await;
        let insert = |i| format!("INSERT INTO acct VALUES ({}, 0, 0, 0);", round * 100 + i);
        let meanwhile: String = std::iter::once(insert(10) + "TRUNCATE acct;").chain((11..20).map(insert)).collect();
        run(&url, meanwhile.trim_end_matches(';')).await;
    }
}

/// While the broker is away nothing can be handed on, and the server keeps its log for us: up to a limit. Beyond it the
/// log is let go, and whoever listens is shown everything anew once the broker is back.
#[tokio::test(flavor = "multi_thread")]
async fn a_broker_that_stays_away_costs_no_more_log_than_is_allowed() {
    const MOST_MB: u64 = 4;
    let server = Postgres::start();
    let (url, mut broker) = (server.url(), Broker::start(Kind::Nats));
    with_table(&url, true).await;
    let settings = Settings {
        name: "s".into(),
        url: url.clone(),
        tables: vec!["acct".into()],
        options: [("old_values".to_string(), json!(["acct"])), ("max_wal_mb".to_string(), json!(MOST_MB))].into(),
    };
    let relay = gossip_relay::Settings { url: broker.url(), ..gossip_relay::Settings::default() };
    let options = Options {
        name: "one".into(),
        listen: SocketAddr::from(([127, 0, 0, 1], 0)),
        source: gossip_source::from_settings(&settings, std::path::Path::new("/")).unwrap(),
        rules: vec![rule("anonymous", "acct", None, &[])],
        queries: BTreeMap::new(),
        tokens: None,
        secret: b"the same before and after".to_vec(),
        relay: gossip_relay::connect(&relay, "one").await.unwrap(),
        queue: QueueLimits::default(),
        admission: Default::default(),
        topics: vec![],
        decisions: None,
        on_failure: Default::default(),
    };
    let instance = Instance::start(options).await.unwrap();
    let mut session = Session::connect(&instance.address().to_string(), None).await.unwrap();
    let mut live = ResultSet::new(session.subscribe("SELECT id FROM acct WHERE id > 0").await.unwrap());
    run(&url, "INSERT INTO acct VALUES (1, 0, 0, 0)").await;
    while live.rows.is_empty() {
        if let Incoming::Notification(told) = session.next().await.unwrap().0 {
            live.apply(&told).unwrap();
        }
    }
    broker.kill();
    run(
        &url,
        "INSERT INTO acct VALUES (2, 0, 0, 0); DELETE FROM acct WHERE id = 1;
         CREATE TABLE noise AS SELECT repeat('n', 1000) AS v FROM generate_series(1, 20000)",
    )
    .await;
    let held = move || {
        let mut db = Client::connect(&url, NoTls).unwrap();
        let sql = "SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn)::int8 FROM pg_replication_slots";
        let held = db.query_one(sql, &[]).unwrap().get::<_, i64>(0);
        (held.unsigned_abs() <= MOST_MB << 20).then_some(())
    };
    tokio::task::spawn_blocking(|| testbed::wait_for(|| "the log to be let go".into(), held)).await.unwrap();
    broker.run();
    let why = loop {
        let next = tokio::time::timeout(testbed::PATIENCE, session.next()).await.expect("a snapshot");
        let Incoming::Notification(told) = next.unwrap().0 else { continue };
        if let Applied::Whole(why) = live.apply(&told).unwrap() {
            break why;
        }
    };
    assert_eq!((why.as_str(), live.rows.keys().map(String::as_str).collect::<Vec<_>>()), ("gap", vec!["[2]"]));
    instance.stop().await;
}
