//! Events of a topic, from another program on the broker to 200 subscribers with filters, beside the bare broker that
//! brings the same events to as many subscribers of its own. 5,000 events a second, ten subscribers for each.
//!
//! Prints the rate, the delay from publishing to the other end of a socket, and the processor time of this process for
//! each delivery, which holds the instance and all the subscribers.
#![allow(clippy::unwrap_used, clippy::print_stdout)]

use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use futures_util::StreamExt;
use gossip_client::{Incoming, Session};
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_protocol::{CloudEvent, Notification};
use gossip_relay::Settings;
use gossip_server::config::Config;
use gossip_server::instance::{Instance, Options};
use gossip_server::now;
use gossip_source::sqlite::{SqliteSource, triggers};
use hdrhistogram::Histogram;
use parking_lot::Mutex;
use serde_json::json;
use testbed::{Broker, Kind};

const SUBSCRIBERS: usize = 200;
const SHARDS: usize = 20;
const PER_SECOND: u64 = 5_000;
const SECONDS: u64 = 5;
const ROUNDS: usize = 3;

/// What arrived, and how late.
struct Arrived {
    count: AtomicU64,
    delay: Mutex<Histogram<u64>>,
}

impl Arrived {
    fn new() -> Arc<Arrived> {
        Arc::new(Arrived {
            count: AtomicU64::new(0),
            delay: Mutex::new(Histogram::new_with_bounds(1, 600_000_000, 3).unwrap()),
        })
    }

    fn one(&self, sent: i64) {
        self.count.fetch_add(1, Relaxed);
        self.delay.lock().saturating_record((now() - sent).max(1).unsigned_abs());
    }
}

/// Processor time of this process so far, user and system.
fn processor() -> Duration {
    let stat = std::fs::read_to_string("/proc/self/stat").unwrap();
    let fields: Vec<&str> = stat.rsplit(')').next().unwrap().split_whitespace().collect();
    let ticks: u64 = fields[11].parse::<u64>().unwrap() + fields[12].parse::<u64>().unwrap();
    Duration::from_millis(ticks * 10)
}

fn event(n: u64) -> Vec<u8> {
    let sent = now();
    let data = json!({"shard": n % SHARDS as u64, "sent": sent, "text": "a reading of some gauge in the harbour"});
    CloudEvent::new("ticks", "/bench", n.to_string(), gossip_protocol::timestamp::rfc3339(sent), data).to_bytes()
}

/// Publishes at the pace and waits until everything has arrived: deliveries per second, and processor time for each.
async fn publish(
    client: &async_nats::Client,
    subject: impl Fn(u64) -> String,
    first: u64,
    arrived: &Arrived,
) -> (f64, f64) {
    let (begun, before) = (Instant::now(), processor());
    for n in 0..PER_SECOND * SECONDS {
        let due = begun + Duration::from_micros(n * 1_000_000 / PER_SECOND);
        if n % 10 == 0 {
            tokio::time::sleep_until(due.into()).await;
        }
        client.publish(subject(n), event(first + n).into()).await.unwrap();
    }
    client.flush().await.unwrap();
    let all = PER_SECOND * SECONDS * (SUBSCRIBERS / SHARDS) as u64;
    let deadline = Instant::now() + testbed::PATIENCE;
    while arrived.count.load(Relaxed) < all && Instant::now() < deadline {
        tokio::time::sleep(Duration::from_millis(2)).await;
    }
    let count = arrived.count.load(Relaxed);
    let rate = count as f64 / begun.elapsed().as_secs_f64();
    (rate, (processor() - before).as_secs_f64() * 1e6 / count as f64)
}

async fn bare(broker: &Broker) -> (Arc<Arrived>, f64, f64) {
    let arrived = Arrived::new();
    let mut listening = Vec::new();
    for i in 0..SUBSCRIBERS {
        let client = async_nats::connect(broker.url()).await.unwrap();
        let mut heard = client.subscribe(format!("bare.{}", i % SHARDS)).await.unwrap();
        client.flush().await.unwrap();
        let arrived = arrived.clone();
        listening.push(tokio::spawn(async move {
            let _client = client;
            while let Some(m) = heard.next().await {
                let event: CloudEvent = serde_json::from_slice(&m.payload).unwrap();
                arrived.one(event.data["sent"].as_i64().unwrap());
            }
        }));
    }
    let client = async_nats::connect(broker.url()).await.unwrap();
    let (rate, cost) = publish(&client, |n| format!("bare.{}", n % SHARDS as u64), 0, &arrived).await;
    listening.iter().for_each(|l| l.abort());
    (arrived, rate, cost)
}

async fn ours(broker: &Broker, round: usize) -> (Arc<Arrived>, f64, f64) {
    let dir = tempfile::tempdir().unwrap();
    rusqlite::Connection::open(dir.path().join("t.db"))
        .unwrap()
        .execute_batch("CREATE TABLE t (id INTEGER PRIMARY KEY)")
        .unwrap();
    let source = SqliteSource::new("s", "sqlite:t.db", vec!["t".into()], dir.path()).unwrap();
    let mut own = source.connect().unwrap();
    let plan = triggers::plan(&own, &source).unwrap();
    triggers::carry_out(&mut own, &plan.statements).unwrap();
    let text =
        "[source.s]\nurl = 'sqlite:t.db'\n[topic.ticks]\ncolumns = { shard = 'int8', sent = 'int8', text = 'text' }";
    let config = Config::parse(&dir.path().join("gossip.toml"), text).unwrap();
    let prefix = format!("bench{round}");
    let relay =
        gossip_relay::connect(&Settings { url: broker.url(), prefix: prefix.clone(), ..Settings::default() }, "one")
            .await
            .unwrap();
    let instance = Instance::start(Options {
        name: "one".into(),
        listen: ([127, 0, 0, 1], 0).into(),
        source: Arc::new(source),
        topics: config.topics.into_values().collect(),
        rules: vec![RuleText { role: "anonymous".into(), table: TableName::plain("ticks"), ..RuleText::default() }],
        queries: Default::default(),
        tokens: None,
        secret: vec![0; 32],
        relay,
        queue: QueueLimits::default(),
        admission: Default::default(),
        decisions: None,
        on_failure: Default::default(),
    });
    let instance = instance.await.unwrap();
    let arrived = Arrived::new();
    let mut listening = Vec::new();
    for i in 0..SUBSCRIBERS {
        let mut session = Session::connect(&instance.address().to_string(), None).await.unwrap();
        let query = format!("SELECT sent, text FROM ticks WHERE shard = {}", i % SHARDS);
        session.subscribe(&query).await.unwrap();
        let arrived = arrived.clone();
        listening.push(tokio::spawn(async move {
            while let Ok((incoming, _)) = session.next().await {
                let Incoming::Notification(Notification::Delta { changes, .. }) = incoming else { continue };
                for change in changes {
                    if let gossip_protocol::ChangeEntry::Add { row, .. } = change {
                        arrived.one(row["sent"].as_i64().unwrap());
                    }
                }
            }
        }));
    }
    let client = async_nats::connect(broker.url()).await.unwrap();
    let (rate, cost) = publish(&client, |_| format!("{prefix}.flow.topic.ticks"), 0, &arrived).await;
    listening.iter().for_each(|l| l.abort());
    instance.stop().await;
    (arrived, rate, cost)
}

fn main() {
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let broker = Broker::start(Kind::Nats);
    println!("{PER_SECOND} events a second for {SECONDS} s, {SUBSCRIBERS} subscribers, ten for each event");
    println!(
        "{:<10}{:>14}{:>10}{:>10}{:>10}{:>18}",
        "", "deliveries/s", "p50 ms", "p99 ms", "max ms", "µs CPU/delivery"
    );
    for round in 0..ROUNDS {
        for (name, (arrived, rate, cost)) in
            [("bare", runtime.block_on(bare(&broker))), ("gossip", runtime.block_on(ours(&broker, round)))]
        {
            let delay = arrived.delay.lock();
            let ms = |q| delay.value_at_quantile(q) as f64 / 1_000.0;
            println!(
                "{name:<10}{rate:>14.0}{:>10.2}{:>10.2}{:>10.1}{cost:>18.1}",
                ms(0.5),
                ms(0.99),
                delay.max() as f64 / 1e3
            );
        }
    }
    // What the words cost on the way: an event as it stands on a broker, written and read.
    let begun = Instant::now();
    let n = 20_000;
    let bytes: usize = (0..n).map(event).map(|e| CloudEvent::read(&e).unwrap().to_bytes().len()).sum();
    let each = begun.elapsed().as_secs_f64() * 1e6 / n as f64;
    println!("an event of {} bytes is written, read and written in {each:.1} µs", bytes / n as usize);
}
