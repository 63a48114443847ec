//! From a commit in PostgreSQL to a client's socket: a whole instance, beside a bare replication client, and beside a
//! trigger that notifies one listener, all on one server that is started here, in turn.
//!
//! - Delay from the writer's acknowledgement to the change at the other end, at 100 and at 1,000 commits a second.
//! - Commits per second of eight writers at full speed, and how many of them the other end keeps up with.
//! - Rows per second of one large transaction.
//!
//! `cargo bench --bench postgres`
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpStream};
use std::path::Path;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering::Relaxed};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use fallible_iterator::FallibleIterator;
use gossip_core::rule::RuleText;
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_relay::inproc::InProcess;
use gossip_server::instance::{Instance, Options};
use gossip_source::Settings;
use gossip_source::postgres::address::Address;
use gossip_source::postgres::stream::{Event, Stream};
use postgres::{Client, NoTls};
use testbed::Postgres;

const ROUNDS: usize = 3;
const LARGE: u64 = 200_000;
const WRITERS: u64 = 8;

/// What was seen at the other end: by number, when.
type Seen = Arc<Mutex<Vec<(u64, Instant)>>>;

/// Somebody at the other end, on a thread of its own.
struct Watcher {
    seen: Seen,
    count: Arc<AtomicU64>,
    stopped: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
}

impl Watcher {
    fn start(watch: impl FnOnce(&dyn Fn(u64), &AtomicBool) + Send + 'static) -> Watcher {
        let (seen, count, stopped) = (Seen::default(), Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
        let (noted, counted, stop) = (seen.clone(), count.clone(), stopped.clone());
        let thread = std::thread::spawn(move || {
            let note = move |n| {
                noted.lock().unwrap().push((n, Instant::now()));
                counted.fetch_add(1, Relaxed);
            };
            watch(&note, &stop);
        });
        Watcher { seen, count, stopped, thread: Some(thread) }
    }

    fn wait_for(&self, count: u64) {
        let begun = Instant::now();
        while self.count.load(Relaxed) < count {
            assert!(begun.elapsed() < Duration::from_secs(60), "{} of {count} seen", self.count.load(Relaxed));
            std::thread::sleep(Duration::from_millis(1));
        }
    }
}

impl Drop for Watcher {
    fn drop(&mut self) {
        self.stopped.store(true, Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// A replication client that does nothing but find the number in each inserted row.
fn bare(url: &str) -> Watcher {
    let mut stream = Stream::connect(&Address::parse(url, Path::new("/")).unwrap()).unwrap();
    Watcher::start(move |note, stopped| {
        stream.start("bare", &["gossip"]).unwrap().unwrap();
        let mut at = 0;
        let mut told = Instant::now();
        while !stopped.load(Relaxed) {
            match stream.next(Duration::from_millis(100)).unwrap() {
                Some(Event::Data(bytes)) => match bytes[0] {
                    // Insert: relation, 'N', number of columns, 't', length, text.
                    b'I' => {
                        let length = u32::from_be_bytes(bytes[9..13].try_into().unwrap()) as usize;
                        note(std::str::from_utf8(&bytes[13..13 + length]).unwrap().parse().unwrap());
                    }
                    b'C' => at = u64::from_be_bytes(bytes[10..18].try_into().unwrap()),
                    _ => {}
                },
                Some(Event::Keepalive { .. }) | None => {}
            }
            if told.elapsed() > Duration::from_millis(500) {
                told = Instant::now();
                stream.status(at, false).unwrap();
            }
        }
    })
}

/// A listener for what a trigger notifies.
fn notified(url: &str) -> Watcher {
    let mut db = Client::connect(url, NoTls).unwrap();
    db.batch_execute("LISTEN came").unwrap();
    Watcher::start(move |note, stopped| {
        while !stopped.load(Relaxed) {
            let mut notifications = db.notifications();
            let mut waiting = notifications.timeout_iter(Duration::from_millis(100));
            while let Some(n) = waiting.next().unwrap() {
                note(n.payload().parse().unwrap());
            }
        }
    })
}

/// A WebSocket client by hand that finds the numbers in the frames of deltas.
fn client(address: SocketAddr, query: &str) -> Watcher {
    let mut s = TcpStream::connect(address).unwrap();
    s.set_nodelay(true).unwrap();
    let head = format!(
        "GET /v1/socket HTTP/1.1\r\nHost: {address}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\
         Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Protocol: gossip.v1\r\n\r\n"
    );
    s.write_all(head.as_bytes()).unwrap();
    let call = format!(r#"{{"jsonrpc":"2.0","id":1,"method":"subscribe","params":{{"query":"{query}"}}}}"#);
    // Masked with zeros, which leaves the text as it is.
    let mut asked = vec![0x81, 0x80 | 126];
    asked.extend((call.len() as u16).to_be_bytes());
    asked.extend([0, 0, 0, 0]);
    asked.extend(call.as_bytes());
    s.write_all(&asked).unwrap();
    s.set_read_timeout(Some(Duration::from_millis(100))).unwrap();
    let ready = Arc::new(AtomicBool::new(false));
    let is_ready = ready.clone();
    let watcher = Watcher::start(move |note, stopped| {
        let (mut buffer, mut chunk) = (Vec::new(), vec![0; 256 << 10]);
        let mut upgraded = false;
        while !stopped.load(Relaxed) {
            match s.read(&mut chunk) {
                Ok(0) => panic!("the instance has closed the connection"),
                Ok(n) => buffer.extend_from_slice(&chunk[..n]),
                Err(_) => continue,
            }
            if !upgraded {
                let Some(end) = buffer.windows(4).position(|w| w == b"\r\n\r\n") else { continue };
                buffer.drain(..end + 4);
                upgraded = true;
            }
            let mut used = 0;
            while let Some((frame, length)) = frame(&buffer[used..]) {
                used += length;
                if find(frame, b"\"delta\"").is_some() {
                    numbers(frame, note);
                } else if find(frame, b"\"result\"").is_some() {
                    is_ready.store(true, Relaxed);
                } else if find(frame, b"\"error\"").is_some() {
                    panic!("{}", String::from_utf8_lossy(frame));
                }
            }
            buffer.drain(..used);
        }
    });
    let begun = Instant::now();
    while !ready.load(Relaxed) {
        assert!(begun.elapsed() < Duration::from_secs(30), "no answer to the subscription");
        std::thread::sleep(Duration::from_millis(5));
    }
    watcher
}

/// A whole frame at the front, without its head, and the length of both.
fn frame(bytes: &[u8]) -> Option<(&[u8], usize)> {
    let (head, length) = match *bytes.get(1)? {
        126 => (4, u16::from_be_bytes(bytes.get(2..4)?.try_into().ok()?) as usize),
        127 => (10, u64::from_be_bytes(bytes.get(2..10)?.try_into().ok()?) as usize),
        n => (2, n as usize),
    };
    Some((bytes.get(head..head + length)?, head + length))
}

fn find(text: &[u8], wanted: &[u8]) -> Option<usize> {
    text.windows(wanted.len()).position(|w| w == wanted)
}

fn numbers(mut frame: &[u8], note: &dyn Fn(u64)) {
    const BEFORE: &[u8] = b"\"row\":{\"id\":";
    while let Some(quote) = frame.iter().position(|b| *b == b'"') {
        frame = &frame[quote..];
        match frame.strip_prefix(BEFORE) {
            Some(digits) => {
                let end = digits.iter().position(|b| !b.is_ascii_digit()).unwrap_or(digits.len());
                note(std::str::from_utf8(&digits[..end]).unwrap().parse().unwrap());
                frame = &digits[end..];
            }
            None => frame = &frame[1..],
        }
    }
}

/// Commits one row at a time at a pace, and returns when each was acknowledged.
fn write_at(url: &str, table: &str, first: u64, count: u64, per_second: u64) -> Vec<(u64, Instant)> {
    let mut db = Client::connect(url, NoTls).unwrap();
    let insert = db.prepare(&format!("INSERT INTO {table} VALUES ($1, 'some text of a row')")).unwrap();
    let begun = Instant::now();
    (0..count)
        .map(|i| {
            let due = begun + Duration::from_secs_f64(i as f64 / per_second as f64);
            std::thread::sleep(due.saturating_duration_since(Instant::now()));
            db.execute(&insert, &[&((first + i) as i64)]).unwrap();
            (first + i, Instant::now())
        })
        .collect()
}

/// Eight writers at full speed; commits per second.
fn write_fast(url: &str, table: &'static str, first: u64, each: u64) -> f64 {
    let begun = Instant::now();
    let writer = |w: u64| {
        let url = url.to_string();
        std::thread::spawn(move || {
            let mut db = Client::connect(&url, NoTls).unwrap();
            let insert = db.prepare(&format!("INSERT INTO {table} VALUES ($1, 'some text of a row')")).unwrap();
            for i in 0..each {
                db.execute(&insert, &[&((first + w * each + i) as i64)]).unwrap();
            }
        })
    };
    let writers: Vec<_> = (0..WRITERS).map(writer).collect();
    writers.into_iter().for_each(|w| w.join().unwrap());
    (WRITERS * each) as f64 / begun.elapsed().as_secs_f64()
}

/// Delays in microseconds, sorted; one that was seen before it was acknowledged counts as it is.
fn delays(written: &[(u64, Instant)], watcher: &Watcher) -> Vec<i64> {
    let seen: std::collections::HashMap<u64, Instant> = watcher.seen.lock().unwrap().iter().copied().collect();
    let delay = |(n, acknowledged): &(u64, Instant)| match seen[n].checked_duration_since(*acknowledged) {
        Some(d) => d.as_micros() as i64,
        None => -(acknowledged.duration_since(seen[n]).as_micros() as i64),
    };
    let mut all: Vec<i64> = written.iter().map(delay).collect();
    all.sort_unstable();
    all
}

fn at(sorted: &[i64], quantile: f64) -> f64 {
    sorted[((sorted.len() - 1) as f64 * quantile) as usize] as f64 / 1_000.0
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

struct Bench {
    url: String,
    address: SocketAddr,
    next: u64,
}

impl Bench {
    fn watcher(&self, who: &str) -> Watcher {
        let watcher = match who {
            "gossip" => client(self.address, "SELECT * FROM t"),
            "bare client" => bare(&self.url),
            _ => notified(&self.url),
        };
        // What was emptied before this round is noticed within a second.
        std::thread::sleep(Duration::from_millis(1_500));
        // So is what was written while somebody else was measured.
        let mut before = None;
        while before != Some(watcher.count.load(Relaxed)) {
            before = Some(watcher.count.load(Relaxed));
            std::thread::sleep(Duration::from_millis(500));
        }
        watcher
    }

    fn numbers(&mut self, count: u64) -> u64 {
        self.next += count;
        self.next - count
    }
}

const WHO: [(&str, &str); 3] = [("gossip", "t"), ("bare client", "t"), ("trigger and NOTIFY", "n")];

fn main() {
    // What goes wrong is said.
    tracing_subscriber::fmt()
        .with_max_level(tracing_subscriber::filter::LevelFilter::INFO)
        .with_writer(std::io::stderr)
        .init();
    let server = Postgres::start();
    let url = server.url();
    let mut db = Client::connect(&url, NoTls).unwrap();
    db.batch_execute(
        "CREATE TABLE t (id bigint PRIMARY KEY, v text); CREATE TABLE n (LIKE t INCLUDING ALL);
         CREATE FUNCTION tell() RETURNS trigger LANGUAGE plpgsql AS
           'BEGIN PERFORM pg_notify(''came'', NEW.id::text); RETURN NEW; END';
         CREATE TRIGGER tell AFTER INSERT ON n FOR EACH ROW EXECUTE FUNCTION tell()",
    )
    .unwrap();
    let settings = Settings {
        name: "s".into(),
        url: url.clone(),
        tables: vec!["t".into()],
        options: [("old_values".to_string(), serde_json::json!(["t"]))].into(),
    };
    let source = gossip_source::from_settings(&settings, Path::new("/")).unwrap();
    source.carry_out(&source.plan().unwrap().statements).unwrap();
    db.batch_execute("SELECT pg_create_logical_replication_slot('bare', 'pgoutput')").unwrap();
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let rule = RuleText { role: "anonymous".into(), table: TableName::plain("t"), ..RuleText::default() };
    let options = Options {
        name: "one".into(),
        listen: SocketAddr::from(([127, 0, 0, 1], 0)),
        source,
        rules: vec![rule],
        queries: Default::default(),
        tokens: None,
        secret: vec![7; 32],
        relay: Arc::new(InProcess::default()),
        queue: QueueLimits { deltas: 100_000, bytes: 256 << 20 },
        admission: Default::default(),
        topics: vec![],
        decisions: None,
        on_failure: Default::default(),
    };
    let start = || runtime.block_on(Instance::start(options.clone())).unwrap();
    let mut b = Bench { url, address: SocketAddr::from(([127, 0, 0, 1], 0)), next: 1 };
    // Only what is measured runs: an instance reads its slot whether or not anybody listens.
    let measured = |b: &mut Bench, who: &str, measure: &mut dyn FnMut(&mut Bench, &Watcher)| {
        let instance = (who == "gossip").then(start);
        b.address = instance.as_ref().map_or(b.address, Instance::address);
        let watcher = b.watcher(who);
        measure(b, &watcher);
        drop(watcher);
        if let Some(instance) = instance {
            runtime.block_on(instance.stop());
        }
        // The next round's results begin empty.
        Client::connect(&b.url, NoTls).unwrap().batch_execute("TRUNCATE t, n").unwrap();
    };

    println!("delay from acknowledgement to the other end, in ms: median of {ROUNDS} rounds in turn");
    println!("{:<22} {:>10} {:>10} {:>10} {:>10}", "", "100/s p50", "p99", "1,000/s p50", "p99");
    let mut lines: Vec<[Vec<f64>; 4]> = vec![Default::default(); WHO.len()];
    for _ in 0..ROUNDS {
        for ((who, table), line) in WHO.iter().zip(&mut lines) {
            measured(&mut b, who, &mut |b, watcher| {
                for (per_second, count) in [(100, 400), (1_000, 3_000)] {
                    let before = watcher.count.load(Relaxed);
                    let first = b.numbers(count);
                    let written = write_at(&b.url, table, first, count, per_second);
                    watcher.wait_for(before + count);
                    let sorted = delays(&written, watcher);
                    let first = if per_second == 100 { 0 } else { 2 };
                    line[first].push(at(&sorted, 0.5));
                    line[first + 1].push(at(&sorted, 0.99));
                }
            });
        }
    }
    for ((who, _), [a, b, c, d]) in WHO.iter().zip(lines) {
        println!("{who:<22} {:>10.3} {:>10.3} {:>10.3} {:>10.3}", median(a), median(b), median(c), median(d));
    }

    println!("\neight writers at full speed: commits per second, and as many as had been seen when the last one was");
    let mut lines: Vec<(Vec<f64>, Vec<f64>)> = vec![Default::default(); WHO.len() + 1];
    for _ in 0..ROUNDS {
        let each = 3_000;
        for ((who, table), line) in WHO.iter().zip(&mut lines) {
            measured(&mut b, who, &mut |b, watcher| {
                let (first, before) = (b.numbers(WRITERS * each), watcher.count.load(Relaxed));
                let begun = Instant::now();
                line.0.push(write_fast(&b.url, table, first, each));
                watcher.wait_for(before + WRITERS * each);
                line.1.push((WRITERS * each) as f64 / begun.elapsed().as_secs_f64());
            });
        }
        let first = b.numbers(WRITERS * each);
        lines[WHO.len()].0.push(write_fast(&b.url, "t", first, each));
        db.batch_execute("TRUNCATE t").unwrap();
    }
    println!("{:<22} {:>12} {:>12}", "", "committed/s", "seen/s");
    let seen: Vec<f64> = lines.iter().take(2).map(|l| median(l.1.clone())).collect();
    for ((who, _), (committed, seen)) in WHO.iter().zip(&lines) {
        println!("{who:<22} {:>12.0} {:>12.0}", median(committed.clone()), median(seen.clone()));
    }
    println!("{:<22} {:>12.0}", "nobody", median(lines[WHO.len()].0.clone()));
    println!("gossip / bare client: {:.2}", seen[0] / seen[1]);

    println!("\nrows per second of one transaction with {LARGE} rows, from its acknowledgement");
    let mut rates: Vec<Vec<f64>> = vec![vec![]; 2];
    for _ in 0..ROUNDS {
        for ((who, _), rates) in WHO.iter().take(2).zip(&mut rates) {
            measured(&mut b, who, &mut |b, watcher| {
                let (first, before) = (b.numbers(LARGE), watcher.count.load(Relaxed));
                let mut writer = Client::connect(&b.url, NoTls).unwrap();
                let sql = format!(
                    "INSERT INTO t SELECT i, 'some text of a row' FROM generate_series({first}, {}) i",
                    first + LARGE - 1
                );
                writer.batch_execute(&sql).unwrap();
                let begun = Instant::now();
                watcher.wait_for(before + LARGE);
                rates.push(LARGE as f64 / begun.elapsed().as_secs_f64());
            });
        }
    }
    let (ours, floor) = (median(rates[0].clone()), median(rates[1].clone()));
    println!(
        "{:<22} {ours:>12.0}\n{:<22} {floor:>12.0}\ngossip / bare client: {:.2}",
        WHO[0].0,
        WHO[1].0,
        ours / floor
    );
}
