//! Deliveries per second to 1,000 clients of one feed: a whole instance over real sockets, beside raw writes of as many
//! bytes to as many sockets in the same pattern, in turn in the same run.
//!
//! `cargo bench --bench fanout` (a number after `--` sets the clients).
#![allow(clippy::unwrap_used, clippy::print_stdout, missing_docs)]

use std::io::{Read, Write};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::{Duration, Instant};

use gossip_core::position::{CommitTime, Interval, Old, Position, RowChange, Transaction};
use gossip_core::rule::RuleText;
use gossip_core::schema::{Identified, Row, TableName};
use gossip_core::send_queue::QueueLimits;
use gossip_core::value::Value;
use gossip_relay::Relay;
use gossip_relay::inproc::InProcess;
use gossip_server::admission::Admission;
use gossip_server::instance::{Instance, Options};
use gossip_source::sqlite::{SqliteSource, leadership, triggers};
use tokio::io::AsyncReadExt;

const ROUNDS: usize = 25;
const BACKLOG: usize = 10;

/// Counts frames of deltas: those with a 16-bit length.
#[derive(Default)]
struct Frames {
    head: Vec<u8>,
    rest: usize,
}

impl Frames {
    fn count(&mut self, mut bytes: &[u8]) -> u64 {
        let mut deltas = 0;
        while !bytes.is_empty() {
            if self.rest > 0 {
                let n = self.rest.min(bytes.len());
                self.rest -= n;
                bytes = &bytes[n..];
                continue;
            }
            self.head.push(bytes[0]);
            bytes = &bytes[1..];
            let length = match self.head.as_slice() {
                [_, l] if *l < 126 => Some(*l as usize),
                [_, 126, a, b] => {
                    deltas += 1;
                    Some(usize::from(u16::from_be_bytes([*a, *b])))
                }
                _ => None,
            };
            if let Some(length) = length {
                self.rest = length;
                self.head.clear();
            }
        }
        deltas
    }
}

/// Reads all sockets on a thread of its own and counts what arrives.
fn read_all(sockets: Vec<TcpStream>) -> Arc<AtomicU64> {
    let arrived = Arc::new(AtomicU64::new(0));
    let counted = arrived.clone();
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
        runtime.block_on(async move {
            let mut tasks = Vec::new();
            for s in sockets {
                s.set_nonblocking(true).unwrap();
                let mut s = tokio::net::TcpStream::from_std(s).unwrap();
                let counted = counted.clone();
                tasks.push(tokio::spawn(async move {
                    let (mut frames, mut buffer) = (Frames::default(), vec![0; 16 * 1024]);
                    while let Ok(n @ 1..) = s.read(&mut buffer).await {
                        counted.fetch_add(frames.count(&buffer[..n]), Relaxed);
                    }
                }));
            }
            for t in tasks {
                let _ = t.await;
            }
        });
    });
    arrived
}

fn wait_until(arrived: &AtomicU64, goal: u64) {
    let start = Instant::now();
    while arrived.load(Relaxed) < goal {
        assert!(start.elapsed() < Duration::from_secs(30), "{} of {goal} arrived", arrived.load(Relaxed));
        std::thread::sleep(Duration::from_micros(20));
    }
}

/// A WebSocket client by hand: upgrade and one subscription, then only reading.
fn subscribe(address: SocketAddr) -> TcpStream {
    let mut s = TcpStream::connect(address).unwrap();
    s.set_nodelay(true).unwrap();
    let head = format!(
        "GET /v1/socket HTTP/1.1\r\nHost: {address}\r\nUpgrade: websocket\r\nConnection: Upgrade\r\n\
         Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\nSec-WebSocket-Version: 13\r\nSec-WebSocket-Protocol: gossip.v1\r\n\r\n"
    );
    s.write_all(head.as_bytes()).unwrap();
    let mut answer = Vec::new();
    let mut byte = [0];
    while !answer.ends_with(b"\r\n\r\n") {
        s.read_exact(&mut byte).unwrap();
        answer.push(byte[0]);
    }
    let call = br#"{"jsonrpc":"2.0","id":1,"method":"subscribe","params":{"query":"SELECT id, status FROM calls"}}"#;
    // Masked with zeros, which leaves the text as it is.
    let mut frame = vec![0x81, 0x80 | call.len() as u8, 0, 0, 0, 0];
    frame.extend_from_slice(call);
    s.write_all(&frame).unwrap();
    loop {
        let text = next_text(&mut s);
        // It may be told how current the instance is before its answer comes.
        if !text.contains("\"current\"") {
            assert!(text.contains("\"result\""), "{text}");
            return s;
        }
    }
}

fn next_text(s: &mut TcpStream) -> String {
    let mut length = [0; 2];
    s.read_exact(&mut length).unwrap();
    let n = match length[1] {
        126 => {
            let mut l = [0; 2];
            s.read_exact(&mut l).unwrap();
            usize::from(u16::from_be_bytes(l))
        }
        n => usize::from(n),
    };
    let mut body = vec![0; n];
    s.read_exact(&mut body).unwrap();
    assert_eq!(length[0], 0x81, "expected a text, found {length:?} {body:?}");
    String::from_utf8(body).unwrap()
}

/// One interval of so many transactions, each changing one row of the feed.
fn interval(db: &rusqlite::Connection, table: &Identified, at: &mut u64, transactions: usize) -> Arc<Interval> {
    let from = Position::at(*at);
    let transactions = (0..transactions)
        .map(|_| {
            let state = |at: u64| -> Row { [Value::Int(1), Value::text(format!("state {at:09}"))].into() };
            let old = Old::Known(Some(state(*at)));
            *at += 1;
            // What is told is what the database has, or the audit would find that it is not.
            db.execute("UPDATE calls SET status = ?1", [format!("state {at:09}")]).unwrap();
            let changes = vec![RowChange::of(table, [Value::Int(1)].into(), old, Some(state(*at)))];
            Arc::new(Transaction {
                position: Position::at(*at),
                committed: CommitTime::default(),
                number: 0,
                inexact_after: None,
                changes,
            })
        })
        .collect();
    Arc::new(Interval {
        source: "s".into(),
        epoch: 9,
        from,
        to: Position::at(*at),
        transactions,
        resets: vec![],
        settled: Position::default(),
        timeline: 0,
        mark: 0,
        reader: "bench".into(),
        read_at: gossip_server::now(),
    })
}

/// How often a pattern is sent in one measurement.
fn times(each: usize) -> u64 {
    if each == 1 { 60 } else { 30 }
}

fn rate(arrived: &AtomicU64, clients: usize, each: usize, mut send: impl FnMut()) -> f64 {
    let base = arrived.load(Relaxed);
    let per_round = (clients * each) as u64;
    let start = Instant::now();
    for i in 1..=times(each) {
        send();
        wait_until(arrived, base + per_round * i);
    }
    (per_round * times(each)) as f64 / start.elapsed().as_secs_f64()
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

fn main() {
    let clients: usize = std::env::args().skip(1).find_map(|a| a.parse().ok()).unwrap_or(1_000);
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    let dir = tempfile::tempdir().unwrap();
    let db = rusqlite::Connection::open(dir.path().join("t.db")).unwrap();
    db.execute_batch("PRAGMA journal_mode = WAL; CREATE TABLE calls (id INTEGER PRIMARY KEY, status TEXT)").unwrap();
    db.execute_batch("INSERT INTO calls VALUES (1, 'before')").unwrap();
    let source = SqliteSource::new("s", "sqlite:t.db", vec!["calls".into()], dir.path()).unwrap();
    let mut own = source.connect().unwrap();
    let plan = triggers::plan(&own, &source).unwrap();
    triggers::carry_out(&mut own, &plan.statements).unwrap();
    let described = gossip_source::Source::describe(&source).unwrap().remove(0);
    let table = Identified::new(described);
    // The bench is the reader: what is measured begins at the relay.
    let _office = leadership::try_lock(&source).unwrap().unwrap();
    let relay = Arc::new(InProcess::default());
    let options = Options {
        name: "one".into(),
        listen: SocketAddr::from(([127, 0, 0, 1], 0)),
        source: Arc::new(source),
        rules: vec![RuleText { role: "anonymous".into(), table: TableName::plain("calls"), ..RuleText::default() }],
        queries: Default::default(),
        tokens: None,
        secret: vec![7; 32],
        relay: relay.clone(),
        queue: QueueLimits::default(),
        // The clients here only read: they do not answer pings.
        admission: Admission { silence: Duration::from_secs(3_600), ..Admission::default() },
        topics: vec![],
        decisions: None,
        on_failure: Default::default(),
    };
    let instance = runtime.block_on(Instance::start(options)).unwrap();
    // Positions go on from the database's own, so that snapshots can be joined.
    let mut at: u64 = db.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get::<_, i64>(0)).unwrap() as u64;
    let publish = |i: Arc<Interval>| runtime.block_on(relay.publish(i)).unwrap();
    db.execute("UPDATE calls SET status = ?1", [format!("state {:09}", at + 1)]).unwrap();
    at += 1;
    publish(interval(&db, &table, &mut at, 0));
    let sockets: Vec<TcpStream> = (0..clients).map(|_| subscribe(instance.address())).collect();
    let arrived = read_all(sockets);

    // The floor: as many bytes, a frame made beforehand, to as many sockets, one write each.
    let delta_bytes = 330;
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let mut raw = Vec::new();
    let mut raw_readers = Vec::new();
    for _ in 0..clients {
        raw_readers.push(TcpStream::connect(listener.local_addr().unwrap()).unwrap());
        let s = listener.accept().unwrap().0;
        s.set_nodelay(true).unwrap();
        raw.push(s);
    }
    let raw_arrived = read_all(raw_readers);
    let mut frame = vec![0x81, 126];
    frame.extend_from_slice(&(delta_bytes as u16).to_be_bytes());
    frame.resize(4 + delta_bytes, b'x');

    println!("deliveries per second to {clients} clients, median of {ROUNDS} rounds in turn");
    println!("{:<28} {:>12} {:>12} {:>8}", "", "gossip", "raw writes", "ratio");
    for (name, each) in [("one delta at a time", 1), ("ten deltas joined", BACKLOG)] {
        let bytes = frame.repeat(each);
        let (mut ours, mut floor) = (vec![], vec![]);
        for _ in 0..ROUNDS {
            let all: Vec<_> = (0..times(each)).map(|_| interval(&db, &table, &mut at, each)).collect();
            let mut all = all.into_iter();
            ours.push(rate(&arrived, clients, each, || all.next().into_iter().for_each(publish)));
            floor.push(rate(&raw_arrived, clients, each, || raw.iter_mut().for_each(|s| s.write_all(&bytes).unwrap())));
        }
        // Of the two that were measured next to each other: the machine's other work changes over the run.
        let ratio = median(ours.iter().zip(&floor).map(|(o, f)| o / f).collect());
        println!("{name:<28} {:>12.0} {:>12.0} {ratio:>8.2}", median(ours), median(floor));
    }
    runtime.block_on(instance.stop());
}
