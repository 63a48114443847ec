//! Hostile clients with valid tokens, all at once, beside one that behaves and measures how long it waits.
//!
//! `GOSSIP_SIEGE_SECONDS=n` sets how long it lasts. What is waited for is printed; that everything comes, that nothing ends
//! and that memory stays bounded is asserted. The hostile ones have a process of their own, whose memory is not the instance's.

use std::io::{Read, Write};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use gossip_client::{Incoming, ResultSet, Session};
use gossip_core::rule::{May, RuleText};
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use serde_json::{Value as Json, json};
use testbed::PATIENCE;
use tokio::io::AsyncWriteExt;
use tokio::net::TcpStream;

use crate::common::{Cluster, rule};
use crate::topics::topics;

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT, at INTEGER);
  WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 2000)
  INSERT INTO calls SELECT i, 'agency ' || i % 7, 'expected', 0 FROM n";

/// Between two changes that the one that behaves waits for.
const EVERY: Duration = Duration::from_millis(25);

/// What memory may grow by, whatever they do.
const GROWTH: u64 = 1 << 30;

fn lasts() -> Duration {
    let given = std::env::var("GOSSIP_SIEGE_SECONDS").ok().and_then(|s| s.parse().ok());
    Duration::from_secs(given.unwrap_or(5))
}

fn memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = status.lines().find(|l| l.starts_with("VmRSS:")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() << 10
}

/// What the hostile ones do, and what is heard of it.
struct Siege {
    token: String,
    address: String,
    over: AtomicBool,
    calls: AtomicU64,
    refused: AtomicU64,
    cut: AtomicU64,
}

impl Siege {
    async fn enter(&self) -> Option<Session> {
        let session = Session::connect(&self.address, Some(&self.token)).await;
        if session.is_err() {
            self.cut.fetch_add(1, Relaxed);
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        session.ok()
    }

    /// Makes one call after the other until the end, over a new connection whenever the last was closed.
    async fn call(&self, method: &str, params: impl Fn(u64) -> Json) {
        let mut n = 0;
        while !self.over.load(Relaxed) {
            let Some(mut session) = self.enter().await else { continue };
            while !self.over.load(Relaxed) {
                n += 1;
                self.calls.fetch_add(1, Relaxed);
                match tokio::time::timeout(PATIENCE, session.call(method, params(n))).await.expect("an answer") {
                    Ok(_) => {}
                    Err(gossip_client::ClientError::Refused(_)) => drop(self.refused.fetch_add(1, Relaxed)),
                    Err(_) => break,
                }
            }
        }
    }

    /// Subscribes to everything and never reads.
    async fn never_read(&self) {
        while !self.over.load(Relaxed) {
            let Some(mut session) = self.enter().await else { continue };
            for i in 0..50 {
                let query = format!("SELECT * FROM calls WHERE id > {i}");
                if session.send_named("subscribe", json!({"query": query})).await.is_err() {
                    break;
                }
            }
            tokio::time::sleep(Duration::from_secs(1)).await;
        }
    }

    /// Opens sockets, says this and then nothing.
    async fn knock(&self, said: &[u8]) {
        while !self.over.load(Relaxed) {
            let mut held = Vec::new();
            for _ in 0..100 {
                let Ok(mut tcp) = TcpStream::connect(&self.address).await else { break };
                let _ = tcp.write_all(said).await;
                held.push(tcp);
            }
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }

    /// Says what is not a call.
    async fn babble(&self) {
        let long = json!({"jsonrpc": "2.0", "id": "x".repeat(1_000), "method": "subscribe"}).to_string();
        let texts = ["[]".into(), "{".into(), "[".repeat(200_000), long, "\"".repeat(1_000), "9".repeat(10_000)];
        while !self.over.load(Relaxed) {
            let Some(mut session) = self.enter().await else { continue };
            for text in texts.iter().cycle().take(200) {
                if session.send_raw(text.clone()).await.is_err() {
                    break;
                }
            }
        }
    }
}

fn rules() -> Vec<RuleText> {
    let publish = |topic| RuleText { may: May { read: true, publish: true }, ..rule("agent", topic, None, &[]) };
    let presence = RuleText { table: TableName::system("presence"), ..publish("") };
    vec![rule("agent", "calls", None, &[]), publish("vhf"), presence]
}

fn attacks(siege: &Arc<Siege>) -> Vec<tokio::task::JoinHandle<()>> {
    let query = |text: String| json!({"query": text});
    let deep = "SELECT id FROM calls WHERE id IS NULL".to_string() + &" IS NULL".repeat(4_000);
    let pattern = format!("SELECT id FROM calls WHERE agency LIKE '{}'", "%a".repeat(500));
    let list = |n: u64| (0..9_000).map(|i| (i * n).to_string()).collect::<Vec<_>>().join(",");
    let mut tasks = Vec::new();
    macro_rules! attack {
        ($siege:ident => $what:expr) => {{
            let $siege = siege.clone();
            tasks.push(tokio::spawn(async move { $what.await }));
        }};
    }
    attack!(s => s.call("subscribe", move |_| query(deep.clone())));
    attack!(s => s.call("subscribe", move |_| query(pattern.clone())));
    attack!(s => s.call("subscribe", move |n| query(format!("SELECT id FROM calls WHERE id IN ({})", list(n)))));
    // Conditions that no index leads to, each another one; and results of 2,000 rows, each another one.
    attack!(s => s.call("subscribe", move |n| query(format!("SELECT id FROM calls WHERE agency LIKE '%{n}%'"))));
    attack!(s => s.call("subscribe", move |n| query(format!("SELECT * FROM calls WHERE id > -{n}"))));
    attack!(s => s.call("join", |n| json!({"place": format!("place {n}"), "data": "x".repeat(4_000)})));
    attack!(s => s.call("publish", |n| json!({"topic": "vhf", "id": n.to_string(), "data": {"text": "x".repeat(200_000)}})));
    attack!(s => s.call("explain", |_| json!({"query": "SELECT * FROM calls"})));
    attack!(s => s.never_read());
    attack!(s => s.babble());
    attack!(s => s.knock(b""));
    attack!(s => s.knock(b"POST /v1/events HTTP/1.1\r\nHost: x\r\nContent-Length: 200000\r\n\r\n{"));
    tasks
}

/// Where the hostile ones go and with what, for their process.
const ADDRESS: &str = "GOSSIP_SIEGE_ADDRESS";
const TOKEN: &str = "GOSSIP_SIEGE_TOKEN";

/// The process of the hostile ones. It ends when nothing can be read from it any more, and says what it heard.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
#[ignore = "run by the test of the one that behaves"]
async fn hostile_ones() {
    let (Ok(address), Ok(token)) = (std::env::var(ADDRESS), std::env::var(TOKEN)) else { return };
    let _ = rustls::crypto::ring::default_provider().install_default();
    let siege = Arc::new(Siege {
        token,
        address,
        over: AtomicBool::new(false),
        calls: AtomicU64::new(0),
        refused: AtomicU64::new(0),
        cut: AtomicU64::new(0),
    });
    let tasks = attacks(&siege);
    // To the end of what is said to it: nothing is said.
    tokio::task::spawn_blocking(|| std::io::stdin().read_to_end(&mut Vec::new())).await.unwrap().unwrap();
    siege.over.store(true, Relaxed);
    for task in tasks {
        tokio::time::timeout(PATIENCE, task).await.expect("every attacker is answered or cut off").unwrap();
    }
    let [calls, refused, cut] = [&siege.calls, &siege.refused, &siege.cut].map(|n| n.load(Relaxed));
    let held = format!("{calls} hostile calls, {refused} refused, {cut} not let in");
    std::io::stderr().write_all(held.as_bytes()).unwrap();
}

fn begin_siege(address: &str, token: &str) -> Child {
    let mut hostile = Command::new(std::env::current_exe().unwrap());
    hostile.args(["--ignored", "--exact", "besieged::hostile_ones", "--nocapture"]);
    hostile.env(ADDRESS, address).env(TOKEN, token);
    hostile.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped()).spawn().unwrap()
}

/// Ends the siege; what the hostile ones heard.
fn end_siege(mut hostile: Child) -> String {
    drop(hostile.stdin.take());
    let ended = hostile.wait_with_output().unwrap();
    let said = String::from_utf8_lossy(&ended.stderr).into_owned();
    assert!(ended.status.success(), "{said}");
    said
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn hostile_clients_do_not_keep_others_waiting() {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let vhf = topics("[topic.vhf]\nkeep = 100\ncolumns = { text = \"text\" }");
    let c = Cluster::with_topics(SCHEMA, &["calls"], rules(), QueueLimits::default(), vhf).await;
    let mut well = c.connect(0, &["agent"], json!({"sub": "ada"})).await;
    let mut live = ResultSet::new(well.subscribe("SELECT id, at FROM calls WHERE id = 1").await.unwrap());
    let before = memory();
    let hostile = begin_siege(&c.url(0), &c.token(&["agent"], json!({"sub": "eve"})));
    let over = Arc::new(AtomicBool::new(false));
    let (path, ends) = (c.path(), over.clone());
    let writer = tokio::task::spawn_blocking(move || {
        let db = rusqlite::Connection::open(path).unwrap();
        db.busy_timeout(PATIENCE).unwrap();
        let mut last = 0;
        while !ends.load(Relaxed) {
            last = gossip_server::now();
            db.execute("UPDATE calls SET at = ?1 WHERE id = 1", [last]).unwrap();
            std::thread::sleep(EVERY);
        }
        last
    });
    let (begun, mut waited, mut peak) = (Instant::now(), Vec::new(), before);
    let mut last = None;
    let (mut writer, mut at) = (Some(writer), 0);
    // To the last change: nothing is lost to them.
    while last.is_none_or(|last| at < last) {
        if begun.elapsed() > lasts()
            && let Some(writer) = writer.take()
        {
            over.store(true, Relaxed);
            last = Some(writer.await.unwrap());
            continue;
        }
        let next = tokio::time::timeout(PATIENCE, well.next()).await.expect("it is not kept waiting");
        let Incoming::Notification(told) = next.expect("its connection holds").0 else { continue };
        live.apply(&told).unwrap();
        let now_at = live.rows["[1]"]["at"].as_i64().unwrap();
        if now_at > at {
            at = now_at;
            waited.push(gossip_server::now() - at);
            peak = peak.max(memory());
        }
    }
    let heard = tokio::task::spawn_blocking(|| end_siege(hostile)).await.unwrap();
    waited.sort_unstable();
    let of = |share: f64| waited[((waited.len() - 1) as f64 * share) as usize] as f64 / 1_000.0;
    let held = format!(
        "{} changes heard: half within {:.1} ms, 99 % within {:.1} ms, all within {:.1} ms; {heard}; memory grew by {} MiB at \
         most\n",
        waited.len(),
        of(0.5),
        of(0.99),
        of(1.0),
        peak.saturating_sub(before) >> 20
    );
    std::io::stderr().write_all(held.as_bytes()).unwrap();
    assert!(peak - before < GROWTH, "memory grew by {} MiB", (peak - before) >> 20);
    let health = reqwest::get(format!("http://{}/healthz", c.url(0))).await.unwrap().status();
    assert_eq!(health.as_u16(), 200);
    let mut new = c.connect(0, &["agent"], json!({"sub": "bo"})).await;
    assert_eq!(new.subscribe("SELECT id FROM calls").await.unwrap().rows.len(), 2_000);
    c.stop().await;
}
