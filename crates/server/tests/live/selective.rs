//! What subscribing costs a large PostgreSQL table with an index: many equal queries one read, selective ones and windows a look-up
//! each. Its database is not in the C locale.
//!
//! Minutes long: `cargo test --workspace --test live selective -- --ignored --nocapture`; `GOSSIP_ROWS=n` sets the
//! rows.

use std::time::{Duration, Instant};

use futures_util::StreamExt as _;
use gossip_client::{ResultSet, Session};
use gossip_server::instance::Instance;
use postgres::{Client, NoTls};
use testbed::Postgres;

use crate::common::{prepared, rule, run, start};

const SESSIONS: u64 = 10;
const EACH: u64 = 100;

fn rows() -> u64 {
    std::env::var("GOSSIP_ROWS").ok().and_then(|n| n.parse().ok()).unwrap_or(10_000_000)
}

/// How often the table was read through its indices and from one end to the other, and blocks of it that were looked at.
async fn reads(url: &str) -> [i64; 3] {
    let url = url.to_string();
    let read = move || {
        let mut db = Client::connect(&url, NoTls).unwrap();
        let sql = "SELECT t.idx_scan, t.seq_scan, (i.heap_blks_hit + i.heap_blks_read + i.idx_blks_hit + i.idx_blks_read)::int8 \
                   FROM pg_stat_user_tables t JOIN pg_statio_user_tables i USING (relid) WHERE t.relname = 'orders'";
        // Sessions report what they did when they have been idle for ten seconds.
        std::thread::sleep(Duration::from_secs(12));
        let row = db.query_one(sql, &[]).unwrap();
        [0, 1, 2].map(|i| row.get::<_, i64>(i))
    };
    tokio::task::spawn_blocking(read).await.unwrap()
}

/// Has every session subscribe to so many queries, one after the other, and all sessions at once or not; returns how long each took,
/// in milliseconds.
async fn subscribe(instance: &Instance, query: impl Fn(u64) -> String, holds: usize, at_once: bool) -> Vec<f64> {
    let url = instance.address().to_string();
    let one = async |session: u64| {
        let mut s = Session::connect(&url, None).await.unwrap();
        let mut took = Vec::new();
        for n in 0..EACH {
            let begun = Instant::now();
            let live = ResultSet::new(s.subscribe(&query(session * EACH + n)).await.unwrap());
            took.push(begun.elapsed().as_secs_f64() * 1e3);
            assert_eq!(live.rows.len(), holds);
        }
        took
    };
    let sessions = futures_util::stream::iter((0..SESSIONS).map(one));
    let together = if at_once { SESSIONS as usize } else { 1 };
    let mut took: Vec<f64> = sessions.buffer_unordered(together).collect::<Vec<_>>().await.concat();
    took.sort_by(f64::total_cmp);
    took
}

#[tokio::test(flavor = "multi_thread")]
#[ignore = "minutes long, and a gigabyte"]
async fn subscribing_costs_a_look_up() {
    let server = Postgres::start();
    let create = "CREATE DATABASE big TEMPLATE template0 LOCALE_PROVIDER icu ICU_LOCALE 'en-US' LOCALE 'C'";
    let url = server.url();
    let big = url.replace("/postgres", "/big");
    let made = tokio::task::spawn_blocking(move || Client::connect(&url, NoTls).unwrap().batch_execute(create));
    made.await.unwrap().unwrap();
    let (rows, of_each) = (rows(), 20);
    run(
        &big,
        format!(
            "CREATE TABLE orders (id int8 PRIMARY KEY, customer text NOT NULL, region text NOT NULL, total int8 NOT NULL);
             INSERT INTO orders SELECT n, 'Customer-' || n / {of_each}, CASE WHEN n % 10 = 0 THEN 'closed' ELSE 'open' END,
               n * 7919 % 100003 FROM generate_series(0::int8, {rows} - 1) n;
             CREATE INDEX ON orders (customer, total, id)"
        ),
    )
    .await;
    run(&big, "ANALYZE orders").await;
    let source = prepared(&big, &["orders"], true).await;
    let instance = start(source, vec![rule("anonymous", "orders", Some("region <> 'closed'"), &[])]).await;
    while instance.state().await.reading != "reading" {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let customers = rows / of_each;
    let customer = move |n: u64| format!("Customer-{}", n * 7_919 % customers);
    let told = |what: &str, took: &[f64], before: [i64; 3], now: [i64; 3]| {
        let [index, whole, blocks] = [0, 1, 2].map(|i| now[i] - before[i]);
        let (half, most) = (took[took.len() / 2], took[took.len() * 99 / 100]);
        eprintln!(
            "{what}: median {half:.1} ms, 99 % {most:.1} ms; {index} look-ups and {whole} reads of the whole table, {blocks} blocks"
        );
        [index, whole]
    };
    let plain = "SELECT * FROM orders WHERE customer = '{}'";
    let window = "SELECT id, total FROM orders WHERE customer = '{}' ORDER BY total LIMIT 10";
    // Equal ones are read once for all.
    for (what, query, equal, most) in [
        ("1,000 equal ones, all sessions at once", plain, true, 1),
        ("1,000 equal windows, at once", window, true, 1),
        ("1,000 different ones, one after the other", plain, false, 1_000),
        ("1,000 different ones, at once", plain, false, 1_000),
        ("1,000 different windows, one after the other", window, false, 1_000),
    ] {
        let before = reads(&big).await;
        let holds = if query.contains("LIMIT") { 10 } else { of_each - of_each / 10 };
        let asked = |n: u64| query.replace("{}", &customer(if equal { 0 } else { n + 1 }));
        let took = subscribe(&instance, asked, holds as usize, what.ends_with("at once")).await;
        let [index, whole] = told(what, &took, before, reads(&big).await);
        // Some feeds are audited meanwhile.
        assert!(index <= most + 10 && whole == 0, "{what}: {index} look-ups, {whole} of the whole table");
    }
    instance.stop().await;
}
