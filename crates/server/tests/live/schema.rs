//! What operators do to tables while they stream, in every way and beside everything: afterwards each result is right
//! again, or its subscription is closed with the reason. Never anything else, and never a value of a withheld column.
//!
//! Each change is carried out on a table of its own, for each replica identity and in each of three ways: in one
//! transaction, in several, and right behind a transaction of 10,000 changes, whose parts are still on their way.

use std::collections::BTreeMap;
use std::io::Write;
use std::sync::Arc;
use std::time::{Duration, Instant};

use gossip_client::result_set::Applied;
use gossip_client::{Incoming, ResultSet, Session};
use postgres::{Client, NoTls, SimpleQueryMessage};
use serde_json::json;
use testbed::Postgres;

use crate::common::{prepared, rule, run, start};

/// Rows by their key, each as text.
type Rows = Vec<(String, Option<String>)>;

/// Rows of each table, and how often each is changed in the transaction before, where there is one.
const ROWS: usize = 2_500;
const TIMES: usize = 4;

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Identity {
    Full,
    Default,
    /// A table without a primary key, of which only inserts stream.
    Keyless,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Timing {
    Together,
    OneByOne,
    BehindMany,
}

/// The changes, as statements on `T`; `OTHER` is a table like it that does not stream. The row under 1 is changed in each.
fn changes() -> Vec<(&'static str, Vec<&'static str>)> {
    let all = "UPDATE T SET v = 'u' || id WHERE id < 4";
    vec![
        (
            "a column comes and goes",
            vec![
                "ALTER TABLE T ADD COLUMN n int",
                "UPDATE T SET n = 1, v = 'x' WHERE id < 4",
                "ALTER TABLE T DROP COLUMN n",
            ],
        ),
        (
            "renamed and back",
            vec!["ALTER TABLE T RENAME v TO w", "UPDATE T SET w = 'x' WHERE id < 4", "ALTER TABLE T RENAME w TO v"],
        ),
        (
            "another column under the name",
            vec!["ALTER TABLE T DROP COLUMN v", "ALTER TABLE T ADD COLUMN v text DEFAULT 'd'"],
        ),
        (
            "another column under the name, written",
            vec!["ALTER TABLE T DROP COLUMN v", "ALTER TABLE T ADD COLUMN v text", all],
        ),
        ("the column before it goes", vec!["ALTER TABLE T DROP COLUMN pad", all]),
        ("the withheld column goes", vec!["ALTER TABLE T DROP COLUMN secret", all]),
        (
            "the shown column goes",
            vec!["ALTER TABLE T DROP COLUMN v", "UPDATE T SET secret = 'SECRET:again' WHERE id < 4"],
        ),
        (
            "names change places",
            vec![
                "UPDATE T SET secret = 'public'",
                "ALTER TABLE T RENAME v TO w",
                "ALTER TABLE T RENAME secret TO v",
                "ALTER TABLE T RENAME w TO secret",
                "UPDATE T SET secret = 'SECRET:now'",
            ],
        ),
        (
            "dropped and made again",
            vec!["DROP TABLE T", "CREATE TABLE T (LIKE OTHER INCLUDING ALL)", "INSERT INTO T SELECT * FROM OTHER", all],
        ),
        ("swapped with another", vec!["ALTER TABLE T RENAME TO T_old", "ALTER TABLE OTHER RENAME TO T", all]),
        (
            "swapped and back",
            vec![
                "ALTER TABLE T RENAME TO T_old",
                "UPDATE T_old SET v = 'x' WHERE id = 1",
                "ALTER TABLE T_old RENAME TO T",
            ],
        ),
        ("unpublished", vec!["ALTER PUBLICATION PUB DROP TABLE T", all]),
        (
            "unpublished for a while",
            vec!["ALTER PUBLICATION PUB DROP TABLE T", all, "ALTER PUBLICATION PUB ADD TABLE T"],
        ),
        (
            "published in part",
            vec!["ALTER PUBLICATION PUB DROP TABLE T", "ALTER PUBLICATION PUB ADD TABLE T WHERE (id < 2)", all],
        ),
        (
            "published in part for a while",
            vec![
                "ALTER PUBLICATION PUB DROP TABLE T",
                "ALTER PUBLICATION PUB ADD TABLE T WHERE (id < 2)",
                all,
                "ALTER PUBLICATION PUB DROP TABLE T",
                "ALTER PUBLICATION PUB ADD TABLE T",
            ],
        ),
        ("columns left out", vec!["ALTER PUBLICATION PUB DROP TABLE T", "ALTER PUBLICATION PUB ADD TABLE T (id)"]),
        ("another type", vec!["ALTER TABLE T ALTER COLUMN v TYPE varchar(50)", all]),
        (
            "another type and back",
            vec![
                "ALTER TABLE T ALTER COLUMN v TYPE int USING length(v)",
                "UPDATE T SET v = 7 WHERE id < 4",
                "ALTER TABLE T ALTER COLUMN v TYPE text",
            ],
        ),
        (
            "old values for a while not told",
            vec!["ALTER TABLE T REPLICA IDENTITY DEFAULT", all, "ALTER TABLE T REPLICA IDENTITY FULL"],
        ),
        ("emptied", vec!["TRUNCATE T", "INSERT INTO T (id, v, secret) VALUES (1, 'new', 'SECRET:new')"]),
        (
            "emptied and filled as before",
            vec!["CREATE TABLE T_copy AS SELECT * FROM T", "TRUNCATE T", "INSERT INTO T SELECT * FROM T_copy"],
        ),
        ("moved to another schema", vec!["ALTER TABLE T SET SCHEMA away", "UPDATE away.T SET v = 'x' WHERE id < 4"]),
        (
            "moved and back",
            vec![
                "ALTER TABLE T SET SCHEMA away",
                "UPDATE away.T SET v = 'x' WHERE id < 4",
                "ALTER TABLE away.T SET SCHEMA public",
            ],
        ),
        ("rewritten", vec!["ALTER TABLE T ADD COLUMN r double precision DEFAULT random()", all]),
        (
            "not logged for a while",
            vec![
                "ALTER PUBLICATION PUB DROP TABLE T",
                "ALTER TABLE T SET UNLOGGED",
                all,
                "ALTER TABLE T SET LOGGED",
                "ALTER PUBLICATION PUB ADD TABLE T",
            ],
        ),
        (
            "another key",
            vec![
                "ALTER TABLE T DROP CONSTRAINT IF EXISTS T_pkey",
                "ALTER TABLE T ADD CONSTRAINT T_pkey PRIMARY KEY (id, v)",
                all,
            ],
        ),
        ("gone", vec![all, "DROP TABLE T"]),
        (
            "a view in its place",
            vec![
                "ALTER TABLE T RENAME TO T_old",
                "CREATE VIEW T AS SELECT * FROM T_old",
                "UPDATE T_old SET v = 'x' WHERE id < 4",
            ],
        ),
        (
            "part of a larger one",
            vec![
                "CREATE TABLE T_all (LIKE T INCLUDING DEFAULTS) PARTITION BY RANGE (id)",
                "ALTER TABLE T_all ATTACH PARTITION T FOR VALUES FROM (0) TO (100000)",
                "UPDATE T_all SET v = 'x' WHERE id < 4",
            ],
        ),
    ]
}

struct Case {
    what: &'static str,
    identity: Identity,
    timing: Timing,
    table: String,
    statements: Vec<String>,
}

impl Case {
    fn keyed(&self) -> bool {
        self.identity != Identity::Keyless
    }

    /// Makes the table, and the one like it.
    fn create(&self, db: &mut Client) {
        let (t, key) = (&self.table, if self.keyed() { "PRIMARY KEY" } else { "" });
        let rows = if self.timing == Timing::BehindMany { ROWS } else { 10 };
        for name in [t.clone(), format!("{t}_other")] {
            db.batch_execute(&format!(
                "CREATE TABLE {name} (id int {key}, pad text, v text, secret text);
                 INSERT INTO {name} SELECT i, 'p', 'v' || i, 'SECRET:' || i FROM generate_series(1, {rows}) i"
            ))
            .unwrap();
            if self.identity == Identity::Full {
                db.batch_execute(&format!("ALTER TABLE {name} REPLICA IDENTITY FULL")).unwrap();
            }
        }
    }

    /// Carries the change out. What the server refuses has not happened; the rest goes on.
    fn carry_out(&self, db: &mut Client) {
        match self.timing {
            Timing::Together => {
                let all = self.statements.join(";\n");
                let _ = db.batch_execute(&format!("BEGIN;\n{all};\nCOMMIT"));
                let _ = db.batch_execute("ROLLBACK");
            }
            Timing::OneByOne => self.statements.iter().for_each(|s| drop(db.batch_execute(s))),
            Timing::BehindMany => {
                let times: Vec<String> =
                    (0..TIMES).map(|n| format!("UPDATE {} SET v = 'many' || {n}", self.table)).collect();
                let many = if self.keyed() {
                    times.join(";\n")
                } else {
                    format!("INSERT INTO {0} SELECT id + 10000, pad, v, secret FROM {0}", self.table)
                };
                db.batch_execute(&format!("BEGIN;\n{many};\nCOMMIT")).unwrap();
                self.statements.iter().for_each(|s| drop(db.batch_execute(s)));
            }
        }
    }

    /// What the table has now, as somebody sees it who sees `id` and `v`; `None` if there is no such thing.
    fn truth(&self, db: &mut Client) -> Option<Rows> {
        let rows = db.simple_query(&format!("SELECT id, v FROM public.{} ORDER BY id", self.table)).ok()?;
        let cells = |m: SimpleQueryMessage| match m {
            SimpleQueryMessage::Row(r) => Some((r.get(0)?.to_string(), r.get(1).map(String::from))),
            _ => None,
        };
        let mut rows: Vec<_> = rows.into_iter().filter_map(cells).collect();
        rows.sort();
        Some(rows)
    }
}

/// Somebody's result, and how it ended if it did.
struct Shown {
    live: ResultSet,
    closed: Option<String>,
}

impl Shown {
    fn rows(&self) -> Rows {
        let text = |v: &serde_json::Value| match v {
            serde_json::Value::Null => None,
            serde_json::Value::String(s) => Some(s.clone()),
            other => Some(other.to_string()),
        };
        let all = self.live.rows.values().chain(&self.live.stream);
        let mut rows: Vec<_> =
            all.map(|r| (r.get("id").and_then(text).unwrap_or_default(), r.get("v").and_then(text))).collect();
        rows.sort();
        rows
    }

    /// Whether it shows what the table has. Of a table without a key changes of rows cannot be told: what was added is there.
    fn is_right(&self, case: &Case, truth: Option<&Rows>) -> bool {
        let Some(truth) = truth else { return false };
        let rows = self.rows();
        if case.keyed() && self.live.stream.is_empty() {
            return rows == *truth;
        }
        let ids = |rows: &[(String, Option<String>)]| rows.iter().map(|(id, _)| id.clone()).collect::<Vec<_>>();
        let (shown, there) = (ids(&rows), ids(truth));
        there.iter().all(|id| shown.contains(id))
    }
}

fn cases() -> Vec<Case> {
    let mut cases = Vec::new();
    for identity in [Identity::Full, Identity::Default, Identity::Keyless] {
        for timing in [Timing::Together, Timing::OneByOne, Timing::BehindMany] {
            for (i, (what, statements)) in changes().into_iter().enumerate() {
                let table = format!("{identity:?}_{timing:?}_{i}").to_lowercase();
                let publication = if identity == Identity::Keyless { "gossip_keyless" } else { "gossip" };
                let own = |s: &str| {
                    // The words stand for names, whatever they stand beside.
                    let other =
                        s.replace("OTHER", &format!("{table}_other")).replace("PUB ", &format!("{publication} "));
                    let words =
                        other.replace(" T ", &format!(" {table} ")).replace("away.T ", &format!("away.{table} "));
                    let words = words.replace(" T_", &format!(" {table}_"));
                    if words.ends_with(" T") { format!("{}{table}", &words[..words.len() - 1]) } else { words }
                };
                let statements = statements.into_iter().map(own).collect();
                cases.push(Case { what, identity, timing, table, statements });
            }
        }
    }
    cases
}

#[tokio::test(flavor = "multi_thread")]
async fn every_change_of_a_table_ends_right_or_closed() {
    let server = Postgres::start();
    let url = server.url();
    let cases = Arc::new(cases());
    let (to_create, of) = (cases.clone(), url.clone());
    let create = move || {
        let mut db = Client::connect(&of, NoTls).unwrap();
        db.batch_execute("CREATE SCHEMA away").unwrap();
        to_create.iter().for_each(|c| c.create(&mut db));
    };
    tokio::task::spawn_blocking(create).await.unwrap();
    let tables: Vec<&str> = cases.iter().map(|c| &*c.table).collect();
    let source = prepared(&url, &tables, false).await;
    let rules = cases.iter().map(|c| rule("anonymous", &c.table, None, &["id", "v"])).collect();
    let instance = start(source, rules).await;
    let mut session = Session::connect(&instance.address().to_string(), None).await.unwrap();
    let mut shown: BTreeMap<u64, (usize, Shown)> = BTreeMap::new();
    for (i, case) in cases.iter().enumerate() {
        let query = format!("SELECT * FROM {}", case.table);
        let answer = session.subscribe(&query).await.unwrap();
        shown.insert(answer.subscription, (i, Shown { live: ResultSet::new(answer), closed: None }));
    }
    // The changes, side by side where they do not depend on each other.
    let work: Vec<_> = (0..6)
        .map(|n| {
            let (cases, url) = (cases.clone(), url.clone());
            tokio::task::spawn_blocking(move || {
                let mut db = Client::connect(&url, NoTls).unwrap();
                cases.iter().skip(n).step_by(6).for_each(|c| c.carry_out(&mut db));
            })
        })
        .collect();
    let mut done = false;
    let mut truths: Vec<Option<Rows>> = Vec::new();
    let mut work = std::pin::pin!(async {
        for w in work {
            w.await.unwrap();
        }
    });
    let mut begun = Instant::now();
    loop {
        tokio::select! {
            () = &mut work, if !done => {
                done = true;
                let (cases, url) = (cases.clone(), url.clone());
                let all = move || {
                    let mut db = Client::connect(&url, NoTls).unwrap();
                    cases.iter().map(|c| c.truth(&mut db)).collect()
                };
                truths = tokio::task::spawn_blocking(all).await.unwrap();
                begun = Instant::now();
            }
            told = session.next() => {
                let (told, text) = told.unwrap();
                assert!(!text.contains("SECRET:"), "a withheld value: {text:.200}");
                let Incoming::Notification(told) = told else { continue };
                for (i, s) in shown.values_mut() {
                    let case = &cases[*i];
                    match s.live.apply(&told).unwrap_or_else(|e| panic!("{} ({:?}, {:?}): {e}", case.what, case.identity, case.timing)) {
                        Applied::Closed(why) => s.closed = Some(why),
                        Applied::NotMine => continue,
                        _ => {}
                    }
                    // As long as results come, it goes on: how fast is the machine's affair.
                    begun = Instant::now();
                    break;
                }
            }
            () = tokio::time::sleep(Duration::from_millis(300)) => {}
        }
        if !done {
            continue;
        }
        let open = |(i, s): &&(usize, Shown)| s.closed.is_none() && !s.is_right(&cases[*i], truths[*i].as_ref());
        if shown.values().all(|s| !open(&s)) {
            break;
        }
        if begun.elapsed() > testbed::PATIENCE {
            let wrong: Vec<String> = shown
                .values()
                .filter(open)
                .map(|(i, s)| {
                    let c = &cases[*i];
                    let (rows, truth) = (s.rows(), truths[*i].clone().unwrap_or_default());
                    let differ: Vec<_> = truth.iter().filter(|r| !rows.contains(r)).take(3).collect();
                    format!(
                        "{} ({:?}, {:?}): {} rows, {} there, {differ:?}",
                        c.what,
                        c.identity,
                        c.timing,
                        rows.len(),
                        truth.len()
                    )
                })
                .collect();
            panic!("{:?}: neither right nor closed: {wrong:#?}", instance.state().await);
        }
    }
    let closed = shown.values().filter(|(_, s)| s.closed.is_some()).count();
    let right = cases.len() - closed;
    let held = format!("{} changes of tables: {right} right, {closed} closed with the reason\n", cases.len());
    std::io::stderr().write_all(held.as_bytes()).unwrap();
    for (_, s) in shown.values() {
        if let Some(why) = &s.closed {
            assert!(why.contains("schema-changed") || why.contains("rights-changed"), "{why}");
        }
    }
    instance.stop().await;
}

/// A publication that brings less for a while: nothing of what it left out is missing afterwards, also where it is as it
/// was before when it is looked at.
#[tokio::test(flavor = "multi_thread")]
async fn a_publication_that_brings_less_is_noticed() {
    let server = Postgres::start();
    let url = server.url();
    let run = |sql: &'static str| run(&url, sql);
    run("CREATE TABLE t (id int PRIMARY KEY, v text); INSERT INTO t VALUES (1, 'a'), (2, 'b')").await;
    let source = prepared(&url, &["t"], false).await;
    let instance = start(source, vec![rule("anonymous", "t", None, &[])]).await;
    let url = instance.address().to_string();
    let mut session = Session::connect(&url, None).await.unwrap();
    let mut live = ResultSet::new(session.subscribe("SELECT * FROM t").await.unwrap());
    run("ALTER PUBLICATION gossip SET (publish = 'insert'); UPDATE t SET v = 'x'; DELETE FROM t WHERE id = 2; \
         ALTER PUBLICATION gossip SET (publish = 'insert, update, delete, truncate')")
    .await;
    let mut expect = async |live: &mut ResultSet, rows: serde_json::Value| {
        while json!(live.rows.values().collect::<Vec<_>>()) != rows {
            if let Incoming::Notification(told) = session.next().await.unwrap().0 {
                assert!(!matches!(live.apply(&told).unwrap(), Applied::Closed(_)));
            }
        }
    };
    let within = testbed::PATIENCE;
    tokio::time::timeout(within, expect(&mut live, json!([{"id": 1, "v": "x"}]))).await.expect("what was left out");
    // For good: it is said, and what it brings again counts again.
    run("ALTER PUBLICATION gossip SET (publish = 'insert')").await;
    let closed = async {
        loop {
            if let Incoming::Notification(told) = session.next().await.unwrap().0
                && let Applied::Closed(why) = live.apply(&told).unwrap()
            {
                return why;
            }
        }
    };
    let why = tokio::time::timeout(within, closed).await.expect("closed");
    assert!(why.contains("does not stream"), "{why}");
    run("ALTER PUBLICATION gossip SET (publish = 'insert, update, delete, truncate')").await;
    let again = async {
        loop {
            if let Ok(answer) = session.subscribe("SELECT * FROM t").await {
                return ResultSet::new(answer);
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    };
    let live = tokio::time::timeout(within, again).await.expect("it streams again");
    assert_eq!(live.rows.len(), 1);
    instance.stop().await;
}
