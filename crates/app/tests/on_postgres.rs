//! The program on a real PostgreSQL server: as the manual tells it, with a million rows, and the demo.
#![allow(clippy::unwrap_used)]

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering::Relaxed};
use std::time::Duration;

use gossip_client::{Incoming, Session};
use gossip_protocol::{ChangeEntry, Notification};
use postgres::{Client, NoTls};
use serde_json::Value as Json;
use testbed::{Postgres, Process, Tmux, free_port, run, wait_for};

const GOSSIP: &str = env!("CARGO_BIN_EXE_gossip");

/// A server with a table, and a configuration for it in a directory of its own.
struct Place {
    server: Postgres,
    db: Client,
    dir: tempfile::TempDir,
    port: u16,
}

impl Place {
    fn new(schema: &str, config: &str) -> Place {
        let server = Postgres::start();
        let mut db = Client::connect(&server.url(), NoTls).unwrap();
        db.batch_execute(schema).unwrap();
        let (dir, port) = (tempfile::tempdir().unwrap(), free_port());
        let head = format!("[instance]\nlisten = \"127.0.0.1:{port}\"\n[source.harbour]\nurl = \"{}\"\n", server.url());
        std::fs::write(dir.path().join("gossip.toml"), head + config).unwrap();
        Place { server, db, dir, port }
    }

    fn gossip(&self, args: &[&str]) -> (i32, String) {
        let o = run(Path::new(GOSSIP), args, self.dir.path(), &[("GOSSIP_LOG", "off")]);
        let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
        (o.status.code().unwrap_or(-1), text(&o.stdout) + &text(&o.stderr))
    }

    fn url(&self) -> String {
        format!("127.0.0.1:{}", self.port)
    }

    fn serve(&self) -> Process {
        let mut serve = Command::new(GOSSIP);
        serve.arg("serve").current_dir(self.dir.path()).env("GOSSIP_LOG", "off").stdout(Stdio::piped());
        let mut child = Process(serve.spawn().unwrap());
        let mut line = String::new();
        BufReader::new(child.0.stdout.take().unwrap()).read_line(&mut line).unwrap();
        assert!(line.contains("is listening on"), "{line}");
        child
    }

    fn psql(&self, sql: &str) {
        testbed::require("psql", "postgresql-client");
        let o = run(Path::new("psql"), &["-v", "ON_ERROR_STOP=1", "-c", sql, &self.server.url()], self.dir.path(), &[]);
        assert!(o.status.success(), "{sql}: {}", String::from_utf8_lossy(&o.stderr));
    }
}

#[test]
fn from_an_empty_configuration_to_a_live_query_as_the_manual_tells_it() {
    let place = Place::new(
        "CREATE TABLE calls (id bigint PRIMARY KEY, vessel text NOT NULL, status text NOT NULL, eta timestamptz);
         INSERT INTO calls VALUES (1, 'Ardent Tern', 'expected', '2031-05-11 06:00+00')",
        "tables = [\"calls\"]\nold_values = [\"calls\"]\n[[rule]]\nrole = \"anonymous\"\ntable = \"public.calls\"\n\
         may = [\"read\"]\nrows = \"status <> 'departed'\"\n",
    );
    let (code, text) = place.gossip(&["check"]);
    assert!(code == 1 && text.contains("slot gossip does not exist") && text.contains("old values are not"), "{text}");
    let (code, text) = place.gossip(&["serve"]);
    assert!(code == 2 && text.contains("is not prepared; run gossip prepare first"), "{text}");
    let (_, planned) = place.gossip(&["prepare", "--dry-run"]);
    assert!(planned.contains("REPLICA IDENTITY FULL;") && planned.contains("CREATE PUBLICATION"), "{planned}");
    assert_eq!(place.gossip(&["prepare"]).0, 0);
    assert_eq!(place.gossip(&["prepare"]), (0, "nothing to do\n".into()));
    let (code, text) = place.gossip(&["check"]);
    assert!(code == 0 && text.lines().count() == 3 && text.contains("max_slot_wal_keep_size"), "{text}");

    let mut serve = place.serve();
    let watch = |count: &'static str, url: String, dir: std::path::PathBuf| {
        let (tell, told) = std::sync::mpsc::channel();
        std::thread::spawn(move || {
            let args = ["watch", "--count", count, &url, "SELECT vessel, status, eta FROM public.calls"];
            let mut child = Command::new(GOSSIP).args(args).current_dir(dir).stdout(Stdio::piped()).spawn().unwrap();
            for line in BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok) {
                let _ = tell.send(line);
            }
            child.wait().unwrap();
        });
        told
    };
    let lines = watch("3", place.url(), place.dir.path().into());
    let next = || lines.recv_timeout(testbed::PATIENCE).unwrap();
    assert!(next().contains("\"eta\":\"2031-05-11T06:00:00.000000Z\""));
    place.psql("UPDATE calls SET status = 'inbound' WHERE id = 1");
    let line = next();
    assert!(line.contains("\"replace\"") && line.contains("\"changed\":[\"status\"]"), "{line}");
    place.psql("UPDATE calls SET status = 'departed', vessel = 'nobody sees this' WHERE id = 1");
    let line = next();
    assert!(line.contains("\"remove\"") && !line.contains("nobody"), "{line}");

    // Killed, and what happens meanwhile is there when it is back.
    serve.0.kill().unwrap();
    serve.0.wait().unwrap();
    place.psql("INSERT INTO calls VALUES (2, 'Blue Heather', 'expected', NULL)");
    drop(serve);
    let again = place.serve();
    let lines = watch("1", place.url(), place.dir.path().into());
    let first = lines.recv_timeout(testbed::PATIENCE).unwrap();
    assert!(first.contains("Blue Heather") && !first.contains("Ardent"), "{first}");
    drop(again);
    let removed = || Some(place.gossip(&["prepare", "--remove"])).filter(|(code, _)| *code == 0);
    wait_for(|| "the slot to be free".into(), removed);
    assert_eq!(place.gossip(&["prepare", "--remove"]).1.lines().last(), Some("nothing to do"));
    place.psql("DROP TABLE calls");
}

/// The most memory that a process has had, in MiB.
fn peak(child: &Process) -> u64 {
    let status = std::fs::read_to_string(format!("/proc/{}/status", child.0.id())).unwrap();
    let line = status.lines().find(|l| l.starts_with("VmHWM")).unwrap();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1_024
}

#[tokio::test(flavor = "multi_thread")]
async fn a_million_rows_in_a_snapshot_and_in_a_transaction_stay_within_bounds() {
    const ROWS: usize = 1_000_000;
    let place = tokio::task::spawn_blocking(|| {
        let place = Place::new(
            &format!(
                "CREATE TABLE big (id bigint PRIMARY KEY, owner text NOT NULL, n int NOT NULL, note text);
                 INSERT INTO big SELECT i, 'Brightwater', 1, 'a note' FROM generate_series(1, {ROWS}) i"
            ),
            "tables = [\"big\"]\nold_values = [\"big\"]\n[[rule]]\nrole = \"anonymous\"\ntable = \"big\"\n\
             may = [\"read\"]\nrows = \"owner = 'Brightwater'\"\n",
        );
        assert_eq!(place.gossip(&["prepare"]).0, 0);
        place
    });
    let place = place.await.unwrap();
    let serve = place.serve();
    // Somebody else, who is answered all the time.
    let answered = Arc::new(AtomicU64::new(0));
    let mut other = Session::connect(&place.url(), None).await.unwrap();
    let counted = answered.clone();
    let asking = tokio::spawn(async move {
        loop {
            let refused = other.subscribe("SELECT nothing FROM big").await;
            assert!(matches!(refused, Err(gossip_client::ClientError::Refused(_))), "{refused:?}");
            counted.fetch_add(1, Relaxed);
            tokio::time::sleep(Duration::from_millis(5)).await;
        }
    });
    let mut session = Session::connect(&place.url(), None).await.unwrap();
    let first = session.subscribe("SELECT id, n FROM big").await.unwrap();
    // A slow client: the database must not wait for it.
    wait_for(
        || "the snapshot's transaction to end".into(),
        || {
            let busy =
                "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'gossip' AND state LIKE 'idle in%'";
            let url = place.server.url();
            let count = std::thread::spawn(move || {
                let mut db = Client::connect(&url, NoTls).unwrap();
                db.query_one(busy, &[]).unwrap().get::<_, i64>(0)
            });
            (count.join().unwrap() == 0).then_some(())
        },
    );
    let (mut rows, mut more, mut parts) = (first.rows.len(), first.more, 1);
    while more {
        if let (Incoming::Notification(Notification::Rows { rows: part, more: further, .. }), _) =
            session.next().await.unwrap()
        {
            (rows, more, parts) = (rows + part.len(), further, parts + 1);
        }
    }
    assert!(rows == ROWS && parts > 100, "{rows} rows in {parts} parts");
    let (after_snapshot, before) = (peak(&serve), answered.load(Relaxed));
    assert!(before > 0);

    // One transaction that changes every row, and in its end takes all of them away from this client.
    let url = place.server.url();
    let writer = std::thread::spawn(move || {
        let mut db = Client::connect(&url, NoTls).unwrap();
        db.batch_execute("BEGIN; UPDATE big SET n = -777; UPDATE big SET owner = 'Northlight' WHERE id > 1; COMMIT")
            .unwrap();
    });
    let (mut removed, mut replaced, mut shown, mut whole) = (0, 0, 0, false);
    loop {
        let (incoming, text) = session.next().await.unwrap();
        let Incoming::Notification(told) = incoming else { continue };
        match told {
            Notification::Delta { changes, more, .. } => {
                removed += changes.iter().filter(|c| matches!(c, ChangeEntry::Remove { .. })).count();
                replaced += changes.iter().filter(|c| matches!(c, ChangeEntry::Replace { .. })).count();
                shown += text.matches("-777").count();
                assert!(shown <= 1, "withheld, and yet in a frame: {}", &text[..text.len().min(300)]);
                if !more && !whole {
                    assert_eq!((removed, replaced), (ROWS - 1, 1));
                    break;
                }
            }
            // Too slow for all of it: the newest state, which is one row.
            Notification::Snapshot { rows, .. } => {
                assert_eq!(rows.len(), 1, "{}", &text[..text.len().min(300)]);
                whole = true;
                break;
            }
            _ => {}
        }
    }
    writer.join().unwrap();
    let peak = peak(&serve);
    eprintln!("peak {after_snapshot} MiB after the snapshot, {peak} MiB after the transaction; caught up: {whole}");
    // Twice the snapshot, if it had to be taken again, and what a transaction needs that is in a file.
    assert!(peak < 700, "{peak} MiB");
    assert!(answered.load(Relaxed) > before, "nobody else was answered meanwhile");
    asking.abort();
    drop(serve);
    tokio::task::spawn_blocking(move || drop(place)).await.unwrap();
}

#[test]
fn the_demo_runs_on_postgresql_and_leaves_nothing_behind() {
    let mut place = Place::new("CREATE TABLE mine (id int PRIMARY KEY)", "");
    let url = place.server.url();
    let mut demo = Command::new(GOSSIP);
    demo.args(["demo", "--headless", "--seconds", "4", "--json", "--source", &url]).env("GOSSIP_LOG", "off");
    let mut demo = Process(demo.stdout(Stdio::piped()).spawn().unwrap());
    let streams =
        "SELECT count(*) FROM pg_publication_tables WHERE pubname = 'gossip_demo' AND schemaname = 'gossip_demo'";
    let mut there = || Some(place.db.query_one(streams, &[]).unwrap().get::<_, i64>(0)).filter(|n| *n == 4);
    wait_for(|| "the demo's tables to stream".into(), &mut there);
    let mut text = String::new();
    std::io::Read::read_to_string(&mut demo.0.stdout.take().unwrap(), &mut text).unwrap();
    assert!(demo.0.wait().unwrap().success(), "{text}");
    let summary: Json = serde_json::from_str(&text).unwrap();
    assert_eq!((&summary["missed_deltas"], &summary["wrong_rows"]), (&0.into(), &0.into()), "{text}");
    assert!(summary["transactions"].as_u64().unwrap() > 50, "{text}");
    let left = "SELECT (SELECT count(*) FROM pg_namespace WHERE nspname = 'gossip_demo') \
                + (SELECT count(*) FROM pg_replication_slots) + (SELECT count(*) FROM pg_publication)";
    assert_eq!(place.db.query_one(left, &[]).unwrap().get::<_, i64>(0), 0);
    // Nor does it where its terminal is closed.
    let t = Tmux::start(160, 47, &format!("GOSSIP_LOG=off {GOSSIP} demo --source {url}"));
    t.wait("changes that were heard", |s| s.contains('●'));
    drop(t);
    let mut there = || place.db.query_one(left, &[]).unwrap().get::<_, i64>(0);
    wait_for(|| "the demo to be taken away".into(), || (there() == 0).then_some(()));
    let secret = url.replace("test@", "test:geheim@");
    let (code, text) = place.gossip(&["demo", "--headless", "--source", &secret]);
    assert!(code == 2 && text.contains("PGPASSWORD") && !text.contains("geheim"), "{text}");
}

#[test]
fn a_finding_is_mended_from_the_screen() {
    let mut place = Place::new(
        "CREATE TABLE calls (id bigint PRIMARY KEY, vessel text); CREATE TABLE log (line text)",
        "tables = [\"calls\", \"log\"]\n[auth]\nsecret_env = \"HARBOUR_SECRET\"\noperators = \"ops\"\n\
         [[rule]]\nrole = \"anonymous\"\ntable = \"calls\"\nmay = [\"read\"]\nrows = \"vessel <> 'x'\"\n",
    );
    assert_eq!(place.gossip(&["prepare"]).0, 0);
    let dir = place.dir.path().display();
    let command =
        format!("cd {dir} && HARBOUR_SECRET='a secret for the tests, long enough' GOSSIP_LOG=off {GOSSIP} open");
    let t = Tmux::start(160, 47, &command);
    t.wait_text("who heard what");
    t.key("3");
    t.wait_text("max_slot_wal_keep_size is not set");
    t.wait_text("inserts");
    // The findings of the chosen table: the second one, and its SQL is shown first.
    t.wait_text("has a condition on vessel");
    t.key("Tab");
    t.key("f");
    t.wait_text("ALTER TABLE \"public\".\"calls\" REPLICA IDENTITY FULL");
    t.key("Enter");
    t.wait("the finding to be gone", |s| !s.contains("has a condition on vessel") && s.contains("known"));
    t.key("Down");
    t.wait_text("has no key by which the log tells its rows apart");
    let sql = "SELECT relreplident = 'f' FROM pg_class WHERE relname = 'calls'";
    assert!(place.db.query_one(sql, &[]).unwrap().get::<_, bool>(0));
    // A change can be made here, on this database.
    t.key("1");
    t.key("m");
    t.wait_text("Make a change");
    t.key("Escape");
    t.key("q");
}
