//! The seam under fire: writers of every kind on a real PostgreSQL, subscriptions that begin at any moment, a server and
//! instances that die.
//!
//! The table is made so that a result tells by itself whether it is one that was committed: in every group the amounts
//! add up to nothing at the end of every transaction, and every transaction on a group raises the group's version by
//! one. So a result that mixes two states does not add up, and a delta that is lost or doubled leaves a gap in the
//! versions. `GOSSIP_FIRE_SECONDS=n` sets how long it burns, `GOSSIP_FIRE_RATE=n` how many transactions there are in a second:
//! without it as many as the machine has room for, so that nobody keeps up.

use std::collections::{BTreeMap, HashMap};
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use crate::common::{prepared, rule};
use gossip_client::{ClientError, Incoming, ResultSet, Session, result_set::Applied};
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::Notification;
use gossip_relay::inproc::InProcess;
use gossip_server::instance::{Instance, Options};
use gossip_source::{Settings, Source};
use parking_lot::Mutex;
use postgres::{Client, NoTls};
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Map, Value as Json, json};
use testbed::{Broker, Kind, Postgres};

const GROUPS: i32 = 12;
const WRITERS: u64 = 8;
const SUBSCRIPTIONS: u64 = 200;

const SCHEMA: &str =
    "CREATE TABLE acct (id bigint PRIMARY KEY, grp int NOT NULL, amount bigint NOT NULL, v bigint NOT NULL);
    CREATE SEQUENCE ids; INSERT INTO acct SELECT -g - 1, g, 0, 0 FROM generate_series(0, 11) g";

fn number(name: &str) -> Option<u64> {
    std::env::var(name).ok()?.parse().ok()
}

/// When each version of each group was committed, as its writer knows it.
type Written = Arc<Mutex<HashMap<(i64, i64), Instant>>>;

/// One writer: random transactions until it is told to stop. A server that dies is waited for.
struct Writer {
    url: String,
    name: String,
    rng: StdRng,
    committed: Arc<AtomicU64>,
    written: Written,
    /// The versions of groups that the transaction makes.
    makes: Vec<(i64, i64)>,
    stopped: Arc<AtomicBool>,
}

impl Writer {
    fn run(mut self) {
        while !self.stopped.load(Relaxed) {
            let Ok(mut db) = Client::connect(&self.url, NoTls) else {
                std::thread::sleep(Duration::from_millis(20));
                continue;
            };
            // What was prepared before the server died still holds its locks.
            let left = "SELECT gid FROM pg_prepared_xacts WHERE gid = $1";
            if db.query(left, &[&self.name]).is_ok_and(|rows| !rows.is_empty()) {
                let _ = db.batch_execute(&format!("COMMIT PREPARED '{}'", self.name));
            }
            while !self.stopped.load(Relaxed) && self.transaction(&mut db).is_ok() {
                if let Some(rate) = number("GOSSIP_FIRE_RATE") {
                    std::thread::sleep(Duration::from_secs(WRITERS) / rate as u32);
                }
            }
        }
    }

    fn transaction(&mut self, db: &mut Client) -> Result<(), postgres::Error> {
        let (a, b) = (self.rng.random_range(0..GROUPS), self.rng.random_range(0..GROUPS));
        let own = |db: &mut Client, g: i32, salt: i64| -> Result<Option<(i64, i64)>, postgres::Error> {
            let sql = "SELECT id, amount FROM acct WHERE grp = $1 AND id > 0 ORDER BY (id * $2) % 97, id LIMIT 1";
            Ok(db.query_opt(sql, &[&g, &salt])?.map(|r| (r.get(0), r.get(1))))
        };
        let salt = self.rng.random_range(1..96);
        self.makes.clear();
        db.batch_execute("BEGIN")?;
        // All who change a group hold its first row, in one order.
        db.query(
            "SELECT FROM acct WHERE id IN ($1, $2) ORDER BY id FOR UPDATE",
            &[&i64::from(-a - 1), &i64::from(-b - 1)],
        )?;
        let some = own(db, a, salt)?;
        let amount = self.rng.random_range(-50..50i64);
        // As many rows go as come.
        match (self.rng.random_range(0..12), some) {
            (0..3, _) | (_, None) => {
                self.insert(db, a, amount)?;
            }
            (3..5, Some((id, _))) => {
                db.execute("UPDATE acct SET amount = amount + $2 WHERE id = $1", &[&id, &amount])?;
                self.settle(db, a, -amount)?;
            }
            (5..8, Some((id, was))) => {
                db.execute("DELETE FROM acct WHERE id = $1", &[&id])?;
                self.settle(db, a, was)?;
            }
            (8 | 9, Some((id, was))) if a != b => {
                db.execute("UPDATE acct SET grp = $2 WHERE id = $1", &[&id, &b])?;
                self.settle(db, a, was)?;
                self.settle(db, b, -was)?;
            }
            (10, Some((id, _))) => {
                db.execute("UPDATE acct SET id = nextval('ids') WHERE id = $1", &[&id])?;
                self.settle(db, a, 0)?;
            }
            (_, Some((id, was))) => {
                db.batch_execute("SAVEPOINT s")?;
                db.execute("DELETE FROM acct WHERE id = $1", &[&id])?;
                db.batch_execute("ROLLBACK TO s; SAVEPOINT t")?;
                db.execute("UPDATE acct SET amount = 0 WHERE id = $1", &[&id])?;
                db.batch_execute("RELEASE t")?;
                self.settle(db, a, was)?;
            }
        }
        let end = match self.rng.random_range(0..10) {
            0 => {
                db.batch_execute("ROLLBACK")?;
                "ROLLBACK"
            }
            1 => {
                db.batch_execute(&format!("PREPARE TRANSACTION '{}'", self.name))?;
                let end = if self.rng.random_bool(0.7) { "COMMIT" } else { "ROLLBACK" };
                db.batch_execute(&format!("{end} PREPARED '{}'", self.name))?;
                end
            }
            _ => {
                db.batch_execute("COMMIT")?;
                "COMMIT"
            }
        };
        if end == "COMMIT" {
            let now = Instant::now();
            self.written.lock().extend(self.makes.drain(..).map(|made| (made, now)));
        }
        self.committed.fetch_add(1, Relaxed);
        Ok(())
    }

    fn insert(&mut self, db: &mut Client, g: i32, amount: i64) -> Result<(), postgres::Error> {
        db.execute("INSERT INTO acct VALUES (nextval('ids'), $1, $2, 0)", &[&g, &amount])?;
        self.settle(db, g, -amount)
    }

    /// Makes a group add up again, and raises its version.
    fn settle(&mut self, db: &mut Client, g: i32, amount: i64) -> Result<(), postgres::Error> {
        let sql = "UPDATE acct SET amount = amount + $2, v = v + 1 WHERE id = $1 RETURNING v";
        self.makes.push((g.into(), db.query_one(sql, &[&i64::from(-g - 1), &amount])?.get(0)));
        Ok(())
    }
}

/// What is asked.
#[derive(Clone, Copy, Debug, PartialEq)]
enum Asked {
    All,
    /// The rows of one group.
    Group(i32),
    /// What each group adds up to, its version, and how many rows it has.
    Sums,
    /// The groups with the highest versions, in this order.
    Top,
}

/// Rows of a window.
const TOP: usize = 5;

/// What the database says: by key, group, amount and version.
type Truth = BTreeMap<String, (i64, i64, i64)>;

/// Who listens, and what it has seen.
struct Listener {
    query: String,
    asked: Asked,
    live: ResultSet,
    /// Whether `live` holds a result.
    begun: bool,
    /// The versions of groups that it has seen last.
    versions: BTreeMap<i64, i64>,
    deltas: u64,
    wholes: u64,
    written: Written,
    /// For how long, at most, a version of a group had been committed and was not seen here.
    oldest: Duration,
}

fn int(row: &Map<String, Json>, name: &str) -> i64 {
    row.get(name)
        .and_then(|v| v.as_i64().or_else(|| v.as_str()?.parse().ok()))
        .unwrap_or_else(|| panic!("{name} in {row:?}"))
}

impl Listener {
    fn new(asked: Asked, written: Written) -> Listener {
        let query = match asked {
            Asked::Group(g) => format!("SELECT * FROM acct WHERE grp = {g}"),
            Asked::All => "SELECT * FROM acct".into(),
            Asked::Sums => {
                "SELECT grp, sum(amount) AS amount, sum(v) AS v, count(*) AS n FROM acct GROUP BY grp".into()
            }
            Asked::Top => format!("SELECT id, grp, v FROM acct WHERE id < 0 ORDER BY v DESC, id LIMIT {TOP}"),
        };
        let (live, versions) = (ResultSet::default(), BTreeMap::new());
        Listener { query, asked, live, begun: false, versions, deltas: 0, wholes: 0, written, oldest: Duration::ZERO }
    }

    /// Holds the result against what every committed state fulfils.
    fn check(&mut self, whole: bool) {
        let mut sums: BTreeMap<i64, i64> = BTreeMap::new();
        for row in self.live.rows.values().filter(|_| self.asked != Asked::Top) {
            *sums.entry(int(row, "grp")).or_default() += int(row, "amount");
        }
        assert!(sums.values().all(|s| *s == 0), "a state that was never committed: {sums:?} in {}", self.query);
        let mut versions = BTreeMap::new();
        match self.asked {
            Asked::All => {}
            Asked::Group(g) => {
                versions.insert(g.into(), int(&self.live.rows[&format!("[{}]", -g - 1)], "v"));
            }
            Asked::Sums => versions.extend(self.live.rows.values().map(|row| (int(row, "grp"), int(row, "v")))),
            Asked::Top => {
                let rows: Vec<(i64, i64)> = self.live.in_order().map(|row| (-int(row, "v"), int(row, "id"))).collect();
                assert!(rows.is_sorted() && rows.len() == TOP, "not in order: {rows:?}");
                versions.extend(self.live.rows.values().map(|row| (int(row, "grp"), int(row, "v"))));
            }
        }
        for (group, version) in &versions {
            let Some(before) = self.versions.get(group) else { continue };
            // One delta is one transaction. A group may leave a window and come again later.
            let follows = (*version == before + 1 || *version == *before && self.asked != Asked::Group(*group as i32))
                || self.asked == Asked::Top;
            assert!(version >= before, "{} went back from {before} to {version}", self.query);
            assert!(whole || follows, "a gap or a double in {}: {before}, {version}", self.query);
            if self.asked != Asked::Top && version > before {
                // Until now the next version was not seen here.
                let since = self.written.lock().get(&(*group, before + 1)).map(Instant::elapsed);
                self.oldest = self.oldest.max(since.unwrap_or_default());
            }
        }
        self.versions.extend(versions);
    }

    /// Whether the result is what the database says at the end: by key, group, amount and version.
    fn has_all(&self, truth: &Truth) -> bool {
        match self.asked {
            Asked::All | Asked::Group(_) => {
                let rows = |row: &Map<String, Json>| (int(row, "grp"), int(row, "amount"), int(row, "v"));
                let own = |grp: i64| self.asked == Asked::All || self.asked == Asked::Group(grp as i32);
                let count = truth.values().filter(|(grp, ..)| own(*grp)).count();
                self.live.rows.len() == count
                    && self.live.rows.iter().all(|(key, row)| truth.get(key) == Some(&rows(row)))
            }
            Asked::Sums => {
                let mut groups: BTreeMap<i64, (i64, i64)> = BTreeMap::new();
                for (grp, _, v) in truth.values() {
                    let (versions, count) = groups.entry(*grp).or_default();
                    (*versions, *count) = (*versions + v, *count + 1);
                }
                let held = self.live.rows.values().map(|row| (int(row, "grp"), (int(row, "v"), int(row, "n"))));
                held.collect::<BTreeMap<_, _>>() == groups
            }
            Asked::Top => {
                let heads =
                    truth.values().filter(|(grp, ..)| *grp >= 0).fold(BTreeMap::new(), |mut heads, (grp, _, v)| {
                        let newest: &mut i64 = heads.entry(*grp).or_default();
                        *newest = (*newest).max(*v);
                        heads
                    });
                // Of equal ones the smaller id, which is that of the larger group.
                let mut wanted: Vec<(i64, i64)> = heads.into_iter().map(|(grp, v)| (-v, -grp - 1)).collect();
                wanted.sort_unstable();
                self.live.in_order().map(|row| (-int(row, "v"), int(row, "id"))).eq(wanted.into_iter().take(TOP))
            }
        }
    }

    /// Listens until `done`; comes back with its cursor when the connection ends.
    async fn listen(
        mut self,
        urls: Arc<Mutex<Vec<String>>>,
        done: impl Fn(&Listener) -> bool,
        salt: usize,
    ) -> Listener {
        loop {
            let url = {
                let urls = urls.lock();
                urls[salt % urls.len()].clone()
            };
            match self.one_connection(&url, &done).await {
                Ok(()) => return self,
                Err(ClientError::NotUnderstood(e)) => panic!("{}: {e}", self.query),
                Err(ClientError::Refused(e)) if !e.message.contains("not available now") => panic!("{e}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }

    async fn one_connection(&mut self, url: &str, done: &impl Fn(&Listener) -> bool) -> Result<(), ClientError> {
        let mut session = Session::connect(url, None).await?;
        let mut params = serde_json::json!({"query": self.query});
        if self.begun {
            params["cursor"] = self.live.cursor.clone().into();
        }
        let answer = session.call("subscribe", params).await?;
        let answer: gossip_protocol::Subscribed = serde_json::from_value(answer).unwrap();
        if answer.resumed {
            self.live.subscription = answer.subscription;
        } else {
            self.live = ResultSet::new(answer);
            self.wholes += 1;
            if !self.live.unfinished {
                self.check(true);
            }
        }
        self.begun = true;
        let mut whole = true;
        loop {
            if !self.live.unfinished && done(self) {
                return Ok(());
            }
            let next = tokio::time::timeout(Duration::from_millis(300), session.next()).await;
            let Ok(next) = next else { continue };
            let (Incoming::Notification(told), text) = next? else { continue };
            let was_unfinished = self.live.unfinished;
            match self.live.apply(&told).map_err(|e| ClientError::NotUnderstood(format!("{e}: {text}")))? {
                Applied::Closed(why) => return Err(ClientError::Ended(why)),
                Applied::NotMine => continue,
                Applied::Whole(_) => {
                    whole = true;
                    self.wholes += 1;
                }
                Applied::Changed if matches!(told, Notification::Delta { .. }) => {
                    whole = false;
                    self.deltas += 1;
                }
                Applied::Changed => whole |= was_unfinished,
            }
            if !self.live.unfinished {
                self.check(whole);
            }
        }
    }
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
    prepared(url, &["acct"], old_values).await
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
            rules: vec![rule("anonymous", "acct", None, &[])],
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
            1 | 2 => Asked::Sums,
            3 => Asked::Top,
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
