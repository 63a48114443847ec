//! Three instances in processes of their own, PostgreSQL, and each of the brokers: everything is heard everywhere once,
//! in source order, also while brokers, instances and connections fail.
//!
//! `GOSSIP_FAULT_SECONDS=n` sets how long a fault lasts, `GOSSIP_FAULT_BROKERS=all` tries them on every broker.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Write};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use gossip_client::{Incoming, ReconnectingSubscription, ResultSet, Session, SubscriptionEvent};
use postgres::{Client, NoTls};
use serde_json::{Value as Json, json};
use testbed::{Broker, Kind, PATIENCE, Postgres, Process, Proxy, run, wait_for};

const GOSSIP: &str = env!("CARGO_BIN_EXE_gossip");
const NAMES: [&str; 3] = ["east", "west", "far"];
const ROWS: i64 = 60;
const CLIENTS: usize = 200;
const PER_SECOND: u64 = 300;

/// One at a time: they are for themselves demanding enough.
fn alone() -> MutexGuard<'static, ()> {
    static ONE: Mutex<()> = Mutex::new(());
    ONE.lock().unwrap_or_else(PoisonError::into_inner)
}

fn seconds() -> Duration {
    let given = std::env::var("GOSSIP_FAULT_SECONDS").ok().and_then(|s| s.parse().ok());
    Duration::from_secs(given.unwrap_or(2))
}

struct Instance {
    process: Option<Process>,
    url: String,
}

struct Cluster {
    instances: Vec<Instance>,
    broker: Broker,
    /// The way of the last instance to the broker.
    proxy: Proxy,
    db: Postgres,
    dir: tempfile::TempDir,
    /// What lets in as an operator, as a head line.
    as_operator: String,
}

impl Cluster {
    fn start(kind: Kind) -> Cluster {
        let (db, broker, dir) = (Postgres::start(), Broker::start(kind), tempfile::tempdir().unwrap());
        let proxy = Proxy::to(broker.port());
        let schema = format!(
            "CREATE TABLE calls (id int PRIMARY KEY, n int NOT NULL, grp int NOT NULL);
             INSERT INTO calls SELECT i, 0, i % 20 FROM generate_series(1, {ROWS}) i"
        );
        Client::connect(&db.url(), NoTls).unwrap().batch_execute(&schema).unwrap();
        for (i, name) in NAMES.iter().enumerate() {
            let url = match i {
                2 => broker.url().replace(&broker.port().to_string(), &proxy.port().to_string()),
                _ => broker.url(),
            };
            let config = format!(
                "[instance]\nname = \"{name}\"\nlisten = \"127.0.0.1:{}\"\n[source.s]\nurl = \"{}\"\ntables = [\"calls\"]\n\
                 old_values = [\"calls\"]\n[relay]\nurl = \"{url}\"\nprefix = \"trial\"\n\
                 [auth]\nsecret_env = \"TRIAL_SECRET\"\noperators = \"ops\"\n\
                 [topic.vhf]\nkeep = 1000\ncolumns = {{ text = \"text\" }}\n\
                 [[rule]]\nrole = \"anonymous\"\ntable = \"calls\"\nmay = [\"read\"]\n\
                 [[rule]]\nrole = \"anonymous\"\ntable = \"vhf\"\nmay = [\"read\", \"publish\"]\n",
                testbed::free_port(),
                db.url()
            );
            std::fs::write(dir.path().join(format!("{name}.toml")), config).unwrap();
        }
        let mut cluster = Cluster { instances: vec![], broker, proxy, db, dir, as_operator: String::new() };
        assert_eq!(cluster.gossip(&["prepare", "-c", "east.toml"]).0, 0);
        let (code, text) = cluster.gossip(&["check", "-c", "east.toml"]);
        assert!(code == 0 && text.contains("on the broker, an instance needs to") && text.contains("trial"), "{text}");
        let token = cluster.gossip(&["token", "-c", "east.toml", "--claims", r#"{"sub":"op","roles":["ops"]}"#]).1;
        cluster.as_operator = format!("Authorization: Bearer {}", token.trim());
        for i in 0..NAMES.len() {
            let instance = cluster.serve(i);
            cluster.instances.push(instance);
        }
        cluster
    }

    fn gossip(&self, args: &[&str]) -> (i32, String) {
        let o = run(Path::new(GOSSIP), args, self.dir.path(), &[SECRET, ("GOSSIP_LOG", "off")]);
        let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
        (o.status.code().unwrap_or(-1), text(&o.stdout) + &text(&o.stderr))
    }

    fn serve(&self, i: usize) -> Instance {
        self.serve_with(i, &[])
    }

    fn serve_with(&self, i: usize, env: &[(&str, &str)]) -> Instance {
        let mut serve = Command::new(GOSSIP);
        serve.args(["serve", "-c", &format!("{}.toml", NAMES[i])]).current_dir(self.dir.path());
        serve.env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off").envs(env.iter().copied()).stdout(Stdio::piped());
        let mut child = Process(serve.spawn().unwrap());
        let mut line = String::new();
        BufReader::new(child.0.stdout.take().unwrap()).read_line(&mut line).unwrap();
        assert!(line.contains("is listening on"), "{line}");
        Instance { url: line.split_whitespace().last().unwrap().to_string(), process: Some(child) }
    }

    /// Starts an instance again that has been killed.
    fn again(&mut self, i: usize) {
        // A port may be held for a moment.
        self.instances[i] = self.serve(i);
    }

    fn kill(&mut self, i: usize) {
        self.instances[i].process = None;
    }

    fn signal(&self, i: usize, signal: &str) {
        let pid = self.instances[i].process.as_ref().unwrap().0.id().to_string();
        assert!(Command::new("kill").args([signal, &pid]).status().unwrap().success());
    }

    /// The instance that reads, of those that answer.
    fn reader(&self, not: Option<usize>) -> usize {
        let reads = |i: usize| {
            let address = self.instances[i].url.trim_start_matches("ws://").split('/').next().unwrap().to_string();
            let get = ["-s", "-m", "2", "-H", &self.as_operator, &format!("http://{address}/readyz")];
            let answer = Command::new("curl").args(get).output().unwrap();
            String::from_utf8_lossy(&answer.stdout).contains("\"reading\":\"reading\"")
        };
        testbed::require("curl", "curl");
        wait_for(|| "a reader".into(), || (0..NAMES.len()).find(|i| Some(*i) != not && reads(*i)))
    }
}

const SECRET: (&str, &str) = ("TRIAL_SECRET", "a secret for the tests, long enough");

/// Who follows: where it is now, its result, and how often its connection was lost.
struct Follower {
    at: Mutex<String>,
    group: i64,
    rows: Mutex<BTreeMap<String, i64>>,
    lost: AtomicU64,
    wholes: Mutex<BTreeMap<String, u64>>,
}

/// Follows a part of the table. No row is ever seen to go back: what comes twice, or late, would do that.
async fn follow(me: Arc<Follower>, urls: Vec<String>) {
    let params = json!({"g": me.group}).as_object().cloned().unwrap();
    let mut follow = ReconnectingSubscription::new(urls, None, "SELECT id, n FROM calls WHERE grp = :g", params);
    loop {
        let what = follow.next().await.unwrap();
        let now = |live: &ResultSet| -> BTreeMap<String, i64> {
            live.rows.iter().map(|(k, r)| (k.clone(), r["n"].as_i64().unwrap())).collect()
        };
        match &what {
            SubscriptionEvent::Lost(_) => drop(me.lost.fetch_add(1, Relaxed)),
            SubscriptionEvent::Whole(why) => *me.wholes.lock().unwrap().entry(why.clone()).or_default() += 1,
            SubscriptionEvent::Resumed | SubscriptionEvent::Changed => {}
        }
        if !matches!(what, SubscriptionEvent::Changed) {
            *me.at.lock().unwrap() = follow.url().to_string();
        }
        let Some(live) = follow.live() else { continue };
        let (new, mut before) = (now(live), me.rows.lock().unwrap());
        for (key, n) in &new {
            let was = before.get(key).copied().unwrap_or(0);
            assert!(*n >= was, "{key} was at {was} and is at {n} again, by {what:?}");
        }
        *before = new;
    }
}

/// Changes rows at a pace until it is stopped; every row's number only grows.
struct Writer {
    stop: Arc<AtomicBool>,
    pause: Arc<AtomicBool>,
    paused: Arc<AtomicBool>,
    written: Arc<AtomicU64>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Writer {
    fn start(url: String) -> Writer {
        let (stop, pause, paused, written) =
            <(Arc<AtomicBool>, Arc<AtomicBool>, Arc<AtomicBool>, Arc<AtomicU64>)>::default();
        let (s, p, d, w) = (stop.clone(), pause.clone(), paused.clone(), written.clone());
        let thread = std::thread::spawn(move || {
            let mut db = Client::connect(&url, NoTls).unwrap();
            let begun = Instant::now();
            let mut n = 0;
            while !s.load(Relaxed) {
                if p.load(Relaxed) {
                    d.store(true, Relaxed);
                    std::thread::sleep(Duration::from_millis(5));
                    continue;
                }
                d.store(false, Relaxed);
                n += 1;
                db.execute("UPDATE calls SET n = n + 1 WHERE id = $1", &[&((n % ROWS + 1) as i32)]).unwrap();
                w.fetch_add(1, Relaxed);
                let due = Duration::from_micros(n as u64 * 1_000_000 / PER_SECOND);
                std::thread::sleep(due.saturating_sub(begun.elapsed()).min(Duration::from_millis(20)));
            }
        });
        Writer { stop, pause, paused, written, thread: Some(thread) }
    }

    /// Lets nothing be written while it is compared.
    fn hold(&self, hold: bool) {
        self.pause.store(hold, Relaxed);
        if hold {
            wait_for(|| "the writer to hold".into(), || self.paused.load(Relaxed).then_some(()));
        }
    }
}

impl Drop for Writer {
    fn drop(&mut self) {
        self.stop.store(true, Relaxed);
        let _ = self.thread.take().map(std::thread::JoinHandle::join);
    }
}

/// Waits until every result is what the database holds, and returns how long that took.
fn all_agree(c: &Cluster, writer: &Writer, followers: &[Arc<Follower>], after: &str) -> Duration {
    let begun = Instant::now();
    writer.hold(true);
    let mut db = Client::connect(&c.db.url(), NoTls).unwrap();
    let mut truth: BTreeMap<i64, BTreeMap<String, i64>> = BTreeMap::new();
    for row in db.query("SELECT id, n, grp FROM calls", &[]).unwrap() {
        let (id, n, group): (i32, i32, i32) = (row.get(0), row.get(1), row.get(2));
        truth.entry(group.into()).or_default().insert(format!("[{id}]"), n.into());
    }
    let differs = || followers.iter().find(|f| *f.rows.lock().unwrap() != truth[&f.group]);
    let describe = || {
        let f = differs().unwrap();
        let wrong = followers.iter().filter(|f| *f.rows.lock().unwrap() != truth[&f.group]).count();
        format!(
            "results to be right after {after}: {wrong} are not; one of {}: {:?}, not {:?}; {:?}",
            f.at.lock().unwrap(),
            f.rows.lock().unwrap(),
            truth[&f.group],
            f.wholes.lock().unwrap()
        )
    };
    wait_for(describe, || differs().is_none().then_some(()));
    writer.hold(false);
    begun.elapsed()
}

fn everything_is_heard_once(kind: Kind) {
    let _alone = alone();
    let mut c = Cluster::start(kind);
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let urls: Vec<String> = c.instances.iter().map(|i| i.url.clone()).collect();
    let mut listening = runtime.block_on(async {
        let mut all = Vec::new();
        for url in &urls {
            let mut rows = Session::connect(url, None).await.unwrap();
            rows.subscribe("SELECT id, n FROM calls WHERE id = 1").await.unwrap();
            let mut events = Session::connect(url, None).await.unwrap();
            events.subscribe("SELECT text FROM vhf").await.unwrap();
            all.push((rows, events));
        }
        all
    });
    // Rows by psql, each in a transaction of its own; events by the program, over a socket and over HTTP.
    let script: String = (1..=50).map(|_| "UPDATE calls SET n = n + 1 WHERE id = 1;\n").collect();
    std::fs::write(c.dir.path().join("changes.sql"), script).unwrap();
    testbed::require("psql", "postgresql-client");
    let o = run(Path::new("psql"), &["-q", "-f", "changes.sql", &c.db.url()], c.dir.path(), &[]);
    assert!(o.status.success(), "{o:?}");
    for (i, url) in urls.iter().enumerate() {
        let (code, text) =
            c.gossip(&["publish", url, "vhf", &format!("{{\"text\": \"cli {i}\"}}"), "--id", &format!("c{i}")]);
        assert!(code == 0 && text.contains("topics:"), "{text}");
        // The same once more, elsewhere.
        let other = &urls[(i + 1) % 3];
        assert_eq!(
            c.gossip(&["publish", other, "vhf", &format!("{{\"text\": \"cli {i}\"}}"), "--id", &format!("c{i}")]).0,
            0
        );
        runtime.block_on(async {
            let mut s = Session::connect(url, None).await.unwrap();
            s.call("publish", json!({"topic": "vhf", "data": {"text": format!("socket {i}")}})).await.unwrap();
        });
        let event = json!({"specversion": "1.0", "id": "1", "source": format!("/{i}"), "type": "vhf", "data": {"text": format!("http {i}")}});
        let address = url.trim_start_matches("ws://").split('/').next().unwrap();
        let (header, body, to) =
            ("content-type: application/cloudevents+json", event.to_string(), format!("http://{address}/v1/events"));
        testbed::require("curl", "curl");
        let o = run(Path::new("curl"), &["-sf", "-H", header, "-d", &body, &to], c.dir.path(), &[]);
        assert!(o.status.success(), "{o:?}");
        // By a program that knows nothing of ours.
        let event = json!({"specversion": "1.0", "id": i.to_string(), "source": "/other", "type": "vhf",
            "time": "2026-11-27T00:00:00Z", "data": {"text": format!("broker {i}")}});
        c.broker.say("trial", "topic.vhf", &event.to_string());
    }
    let heard = async |s: &mut Session, column: &str, n: usize| {
        let mut heard = Vec::new();
        let all = async {
            while heard.len() < n {
                let (Incoming::Notification(_), text) = s.next().await.unwrap() else { continue };
                let message: Json = serde_json::from_str(&text).unwrap();
                assert!(message["method"] != "snapshot", "{text}");
                let changes = message["params"]["changes"].as_array().into_iter().flatten();
                heard.extend(changes.map(|c| c["row"][column].clone()));
            }
        };
        // Of all of it: something comes every second, also where nothing is left to be told.
        tokio::time::timeout(PATIENCE, all).await.expect("what was said");
        heard
    };
    runtime.block_on(async {
        for (rows, events) in &mut listening {
            assert_eq!(heard(rows, "n", 50).await, (1..=50).collect::<Vec<_>>(), "each once, in source order");
            let mut told: Vec<String> =
                heard(events, "text", 12).await.iter().map(|t| t.as_str().unwrap().to_string()).collect();
            told.sort();
            let all =
                ["broker", "cli", "http", "socket"].into_iter().flat_map(|w| (0..3).map(move |i| format!("{w} {i}")));
            assert!(told.iter().cloned().eq(all), "{told:?}");
        }
    });
    // One is let go through another one: its clients are sent away, its process ends, and the others go on.
    let (code, token) = c.gossip(&["token", "-c", "east.toml", "--claims", r#"{"sub":"op","roles":["ops"]}"#]);
    assert_eq!(code, 0, "{token}");
    std::fs::write(c.dir.path().join("ops"), token).unwrap();
    // They know of each other after a second.
    let drained = || {
        let (code, text) = c.gossip(&["drain", &urls[1], "--instance", NAMES[0], "--token-file", "ops"]);
        assert!(code == 0 || text.contains("there is no instance east; known:"), "{text}");
        text.contains("east goes").then_some(())
    };
    wait_for(|| "the first one to be known".into(), drained);
    let ended = c.instances[0].process.take().unwrap();
    assert!(ended.wait().success());
    runtime.block_on(async {
        let gone = async { while listening[0].0.next().await.is_ok() {} };
        tokio::time::timeout(PATIENCE, gone).await.expect("its clients are sent away");
    });
    Client::connect(&c.db.url(), NoTls).unwrap().batch_execute("UPDATE calls SET n = 99 WHERE id = 1").unwrap();
    runtime.block_on(async {
        for (rows, _) in &mut listening[1..] {
            assert_eq!(heard(rows, "n", 1).await, [99]);
        }
    });
}

fn everything_stays_right_while_things_fail(kind: Kind) {
    let _alone = alone();
    let mut c = Cluster::start(kind);
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let urls: Vec<String> = c.instances.iter().map(|i| i.url.clone()).collect();
    let followers: Vec<Arc<Follower>> = (0..CLIENTS)
        .map(|i| {
            let me = Arc::new(Follower {
                at: Mutex::new(urls[i % 3].clone()),
                group: (i % 20) as i64,
                rows: Mutex::default(),
                lost: AtomicU64::new(0),
                wholes: Mutex::default(),
            });
            // Each begins at an instance of its own, and knows the others.
            let mut own = urls.clone();
            own.rotate_left(i % 3);
            runtime.spawn(follow(me.clone(), own));
            me
        })
        .collect();
    let writer = Writer::start(c.db.url());
    all_agree(&c, &writer, &followers, "the start");
    let lasts = seconds();
    let held = |c: &mut Cluster, after: &str, hit: Option<usize>, fault: &mut dyn FnMut(&mut Cluster)| {
        // Where everybody is before, and how often each has lost its connection.
        let before: Vec<(String, u64)> =
            followers.iter().map(|f| (f.at.lock().unwrap().clone(), f.lost.load(Relaxed))).collect();
        let hit = hit.map(|i| c.instances[i].url.clone());
        fault(c);
        let took = all_agree(c, &writer, &followers, after);
        eprintln!("{kind:?}: {after}: all right {:.1} s after its end", took.as_secs_f64());
        for (f, (at, lost)) in followers.iter().zip(before).filter(|(_, (at, _))| hit.as_ref() != Some(at)) {
            assert_eq!(f.lost.load(Relaxed), lost, "a client of {at}, which was not hit, after {after}");
        }
    };
    held(&mut c, "an outage of the broker", None, &mut |c| {
        c.broker.kill();
        std::thread::sleep(lasts);
        c.broker.run();
    });
    held(&mut c, "the broker's loss of its data", None, &mut |c| {
        c.broker.lose();
        c.broker.run();
    });
    held(&mut c, "a cut between an instance and the broker", None, &mut |c| {
        c.proxy.cut();
        std::thread::sleep(lasts);
        c.proxy.restore();
    });
    let reader = c.reader(None);
    held(&mut c, "the reader's death", Some(reader), &mut |c| {
        c.kill(reader);
        c.reader(Some(reader));
        c.again(reader);
    });
    let reader = c.reader(None);
    held(&mut c, "a reader that was paused past its take-over", Some(reader), &mut |c| {
        c.signal(reader, "-STOP");
        c.reader(Some(reader));
        std::thread::sleep(lasts);
        c.signal(reader, "-CONT");
    });
    let other = (c.reader(None) + 1) % 3;
    held(&mut c, "another instance's death", Some(other), &mut |c| {
        c.kill(other);
        std::thread::sleep(lasts);
        c.again(other);
    });
    assert!(writer.written.load(Relaxed) > 0);
    drop(writer);
    runtime.shutdown_timeout(Duration::from_secs(2));
}

/// A part that panics takes its process with it, in time, and another instance goes on.
#[test]
fn every_part_that_is_killed_ends_its_process_and_another_takes_over() {
    let _alone = alone();
    let mut c = Cluster::start(Kind::Nats);
    for part in ["loop", "reader", "writer", "front"] {
        // Alone, so that it is the reader before its part is killed two seconds later.
        (0..NAMES.len()).for_each(|i| c.kill(i));
        c.instances[0] = c.serve_with(0, &[("GOSSIP_FAULT", &format!("panic:{part}"))]);
        let begun = Instant::now();
        // Somebody knocks, and listens: every part has something to do.
        let url = c.instances[0].url.clone();
        let knocking = std::thread::spawn(move || {
            let runtime = tokio::runtime::Runtime::new().unwrap();
            runtime.block_on(async {
                while let Ok(mut s) = Session::connect(&url, None).await {
                    let _ = s.subscribe("SELECT * FROM calls").await;
                    tokio::time::sleep(Duration::from_millis(50)).await;
                }
            });
        });
        c.again(1);
        let process = &mut c.instances[0].process.as_mut().unwrap().0;
        let code = wait_for(|| format!("the end of {part}"), || process.try_wait().unwrap());
        let after = begun.elapsed().saturating_sub(Duration::from_secs(2));
        assert_eq!(code.code(), Some(70), "{part}");
        let _ = knocking.join();
        assert_eq!(c.reader(Some(0)), 1, "{part}");
        let held = format!("{part}: the process ended {} ms after the fault\n", after.as_millis());
        std::io::stderr().write_all(held.as_bytes()).unwrap();
    }
}

macro_rules! on_each_broker {
    ($($name:ident: $kind:ident, $always:expr);*) => { $(mod $name {
        use super::*;

        #[test]
        fn everything_is_heard_once() {
            super::everything_is_heard_once(Kind::$kind);
        }

        #[test]
        fn everything_stays_right_while_things_fail() {
            // One that keeps what it was given, and one that does not; the others where that is asked for.
            if $always || std::env::var("GOSSIP_FAULT_BROKERS").is_ok_and(|b| b == "all") {
                super::everything_stays_right_while_things_fail(Kind::$kind);
            }
        }
    })* };
}

on_each_broker!(nats: Nats, true; redis_streams: Redis, false; mosquitto: Mosquitto, true; rabbit: Rabbit, false);
