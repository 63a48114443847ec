//! A database that answers nothing any more, over connections that stand: it is said that nothing is current, nobody waits
//! for ever, and soon after the network is well again everything is right again.

use std::io::Write;
use std::time::{Duration, Instant};

use gossip_client::{Incoming, ResultSet, Session};
use postgres::{Client, NoTls};
use serde_json::json;
use testbed::{PATIENCE, Postgres, Proxy};

use crate::common::{prepared, rule, run, start};

/// The longest that somebody may have to wait for being told that a source cannot be read.
const TOLD: Duration = Duration::from_secs(120);

#[tokio::test(flavor = "multi_thread")]
async fn a_database_that_hangs_is_noticed_and_gone_on_with() {
    let server = Postgres::start();
    let direct = server.url();
    let port = server.port();
    let proxy = Proxy::to(port);
    let through = direct.replace(&port.to_string(), &proxy.port().to_string());
    let schema = "CREATE TABLE t (id int PRIMARY KEY, n int); INSERT INTO t SELECT i, 0 FROM generate_series(1, 10) i";
    run(&direct, schema).await;
    let source = prepared(&through, &["t"], false).await;
    let instance = start(source, vec![rule("anonymous", "t", None, &[])]).await;
    let url = instance.address().to_string();
    let mut session = Session::connect(&url, None).await.unwrap();
    let mut live = ResultSet::new(session.subscribe("SELECT * FROM t").await.unwrap());
    for _ in 0..2 {
        proxy.freeze();
        run(&direct, "UPDATE t SET n = n + 1").await;
        // More than there are places: each has a snapshot of its own, which hangs.
        let mut waiting = Vec::new();
        for i in 0..6 {
            let url = url.clone();
            waiting.push(tokio::spawn(async move {
                let mut session = Session::connect(&url, None).await.unwrap();
                let query = format!("SELECT * FROM t WHERE id > {i}");
                session.subscribe(&query).await.map(|answer| answer.rows.len())
            }));
        }
        let noticed = async {
            while instance.state().await.reading == "reading" {
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        };
        let begun = Instant::now();
        tokio::time::timeout(PATIENCE, noticed).await.expect("that it does not read");
        let noticed = begun.elapsed();
        assert!(!instance.state().await.ready, "it does not claim to be current");
        proxy.restore();
        let begun = Instant::now();
        run(&direct, "UPDATE t SET n = n + 1").await;
        let truth = tokio::task::spawn_blocking({
            let url = direct.clone();
            move || {
                Client::connect(&url, NoTls).unwrap().query_one("SELECT max(n) FROM t", &[]).unwrap().get::<_, i32>(0)
            }
        });
        let truth = truth.await.unwrap();
        let right = async {
            while live.rows.values().any(|row| row["n"] != json!(truth)) {
                if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                    live.apply(&told).unwrap();
                }
            }
            while !instance.state().await.ready {
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        };
        tokio::time::timeout(PATIENCE, right).await.expect("what happened meanwhile");
        let again = begun.elapsed();
        let mut new = Session::connect(&url, None).await.unwrap();
        let answer = tokio::time::timeout(PATIENCE, async {
            loop {
                match new.subscribe("SELECT * FROM t WHERE id > 0").await {
                    Ok(answer) => return answer,
                    Err(_) => tokio::time::sleep(Duration::from_millis(100)).await,
                }
            }
        });
        assert_eq!(answer.await.expect("a place for a snapshot").rows.len(), 10);
        for (i, who) in waiting.into_iter().enumerate() {
            // An answer, or the reason why there is none.
            if let Ok(rows) = tokio::time::timeout(TOLD, who).await.expect("nobody waits for ever").unwrap() {
                assert_eq!(rows, 10 - i);
            }
        }
        let held = format!("noticed after {noticed:.1?}, right again {again:.1?} after the network\n");
        std::io::stderr().write_all(held.as_bytes()).unwrap();
    }
    instance.stop().await;
}
