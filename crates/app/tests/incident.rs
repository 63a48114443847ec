//! An incident that is recorded while it happens, and found out about later from the recording alone: a rule that compares
//! wrongly, a broker that is cut off, a client that reads nothing.
#![allow(clippy::unwrap_used)]

use std::io::{BufRead as _, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use gossip_client::Session;
use gossip_protocol::call::Subscribe;
use testbed::{Broker, Kind, Process, Proxy, Tmux, free_port, run, sqlite3, wait_for};

const GOSSIP: &str = env!("CARGO_BIN_EXE_gossip");

const SECRET: (&str, &str) = ("HARVEST_SECRET", "a secret of at least thirty-two bytes");

/// A folder with a database, and two instances that relay to each other over a broker; the first one's way to it can be cut.
struct Scene {
    dir: tempfile::TempDir,
    ports: [u16; 2],
    proxy: Proxy,
    _broker: Broker,
}

impl Scene {
    fn new() -> Scene {
        let broker = Broker::start(Kind::Redis);
        let proxy = Proxy::to(broker.port());
        let dir = tempfile::tempdir().unwrap();
        let scene = Scene { dir, ports: [free_port(), free_port()], proxy, _broker: broker };
        scene.write(
            "PRAGMA journal_mode = WAL;
             CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER, note TEXT);
             INSERT INTO crates VALUES ('A-1', 1, ''), ('B-1', 2, '');",
        );
        for (i, name) in ["north", "south"].into_iter().enumerate() {
            let relay = if i == 0 { scene.proxy.port() } else { scene._broker.port() };
            let config = format!(
                "[instance]\nname = '{name}'\nlisten = '127.0.0.1:{}'\n[source.harvest]\nurl = 'sqlite:harvest.db'\n\
                 tables = ['crates']\n[relay]\nurl = 'redis://127.0.0.1:{relay}'\n\
                 [auth]\nsecret_env = '{}'\noperators = 'ops'\n\
                 [[rule]]\nrole = 'reader'\ntable = 'crates'\nmay = ['read']\nrows = 'orchard < claim.orchard'\n\
                 [[rule]]\nrole = 'board'\ntable = 'crates'\nmay = ['read']\n",
                scene.ports[i], SECRET.0
            );
            std::fs::write(scene.dir.path().join(format!("{name}.toml")), config).unwrap();
        }
        assert!(scene.gossip(&["prepare", "-c", "north.toml"]).0);
        for (file, claims) in [
            ("ops", r#"{"sub":"ops","roles":["ops"]}"#),
            ("ada", r#"{"sub":"ada","roles":["reader"],"orchard":1}"#),
            ("ben", r#"{"sub":"ben","roles":["board"]}"#),
        ] {
            let (_, token) = scene.gossip(&["token", "-c", "north.toml", "--claims", claims]);
            std::fs::write(scene.dir.path().join(file), token.trim()).unwrap();
        }
        scene
    }

    fn path(&self, file: &str) -> std::path::PathBuf {
        self.dir.path().join(file)
    }

    fn token(&self, file: &str) -> String {
        std::fs::read_to_string(self.path(file)).unwrap()
    }

    fn write(&self, sql: &str) {
        assert!(sqlite3(&self.path("harvest.db"), sql).0.wait().unwrap().success());
    }

    fn gossip(&self, args: &[&str]) -> (bool, String) {
        let o = run(Path::new(GOSSIP), args, self.dir.path(), &[SECRET, ("GOSSIP_LOG", "off")]);
        let text = String::from_utf8_lossy(&o.stdout).into_owned() + &String::from_utf8_lossy(&o.stderr);
        (o.status.success(), text)
    }

    fn start(&self, args: &[&str]) -> Process {
        let mut c = Command::new(GOSSIP);
        c.args(args).current_dir(self.dir.path()).env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off");
        Process(c.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap())
    }

    async fn operator(&self) -> Session {
        Session::connect(&format!("127.0.0.1:{}", self.ports[0]), Some(&self.token("ops"))).await.unwrap()
    }
}

/// Waits until a query of an operator has rows that say this.
async fn until(scene: &Scene, query: &str, what: impl Fn(&str) -> bool) {
    let start = std::time::Instant::now();
    loop {
        let mut operator = scene.operator().await;
        let told = format!("{:?}", operator.subscribe(query).await.unwrap().rows);
        if what(&told) {
            return;
        }
        assert!(start.elapsed() < testbed::PATIENCE, "{query}: {told}");
        tokio::time::sleep(Duration::from_millis(100)).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn what_was_recorded_tells_the_cause_of_each_trouble() {
    let scene = Scene::new();
    let _instances = ["north.toml", "south.toml"].map(|config| {
        let mut instance = scene.start(&["serve", "-c", config]);
        let mut line = String::new();
        BufReader::new(instance.0.stdout.take().unwrap()).read_line(&mut line).unwrap();
        assert!(line.contains("is listening on"), "{line}");
        instance
    });
    until(&scene, "SELECT name FROM gossip.instances", |told| told.contains("south")).await;
    let url = format!("127.0.0.1:{}", scene.ports[0]);
    let mut recorder = scene.start(&["record", &url, "-o", "incident.jsonl", "--token-file", "ops"]);
    let mut said = String::new();
    BufReader::new(recorder.0.stderr.take().unwrap()).read_line(&mut said).unwrap();
    assert!(said.contains("recording into"), "{said}");

    // A rule with < where = was meant: Ada hears nothing of her own orchard.
    let mut ada = Session::connect(&url, Some(&scene.token("ada"))).await.unwrap();
    let observed =
        Subscribe { observed: Some("ada-1".into()), ..Subscribe::from("SELECT number, orchard FROM crates") };
    ada.subscribe(observed).await.unwrap();
    let heard = tokio::spawn(async move { while ada.next().await.is_ok() {} });
    scene.write("UPDATE crates SET orchard = 1, note = 'ripe' WHERE number = 'A-1'");

    // The broker is cut off from one of the instances, and comes back.
    scene.proxy.cut();
    until(&scene, "SELECT connected FROM gossip.links WHERE instance = 'north'", |told| told.contains("false")).await;
    scene.proxy.restore();
    until(&scene, "SELECT connected FROM gossip.links WHERE instance = 'north'", |told| told.contains("true")).await;

    // A client that asks and reads nothing, until more has happened than is kept for it.
    let mut ben = Session::connect(&url, Some(&scene.token("ben"))).await.unwrap();
    ben.subscribe("SELECT * FROM crates").await.unwrap();
    let slow = "SELECT caught_up FROM gossip.clients WHERE subject = 'ben'";
    let begun = std::time::Instant::now();
    loop {
        let change = "UPDATE crates SET note = hex(randomblob(100000)) WHERE number = 'B-1';";
        scene.write(&change.repeat(10));
        let mut operator = scene.operator().await;
        let rows = operator.subscribe(slow).await.unwrap().rows;
        if rows.iter().any(|entry| entry.row["caught_up"].as_u64() > Some(0)) {
            break;
        }
        assert!(begun.elapsed() < testbed::PATIENCE, "it reads, or nothing waits for it: {rows:?}");
    }
    // What was withheld has been explained by then, and how clients stand is told once a second.
    wait_for(
        || "all of it to be in the recording".into(),
        || {
            let text = std::fs::read_to_string(scene.path("incident.jsonl")).unwrap_or_default();
            let slow = |line: &str| {
                line.contains("\"subject\":\"ben\"")
                    && line.contains("\"caught_up\":")
                    && !line.contains("\"caught_up\":0")
            };
            (text.contains("gossip.explanations") && text.lines().any(slow)).then_some(())
        },
    );
    let pid = recorder.0.id().to_string();
    assert!(Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
    assert!(recorder.0.wait().unwrap().success());
    heard.abort();
    drop(ben);

    tokio::task::spawn_blocking(move || {
        let (ok, text) = scene.gossip(&["draw", "report", "incident.jsonl", "-o", "report.txt"]);
        assert!(ok, "{text}");
        let report = std::fs::read_to_string(scene.path("report.txt")).unwrap();
        for cause in [
            "withheld from ada (reader): ",
            "orchard < claim.orchard",
            "north was cut off from the relay",
            "its connection to the relay (redis) was lost",
            "ben, client ",
            "read slowly",
            "more waited for it than is kept",
        ] {
            assert!(report.contains(cause), "{cause}\n{report}");
        }
        assert!(scene.gossip(&["draw", "report", "incident.jsonl", "-o", "report.pdf"]).0);
        let pdf = std::fs::read(scene.path("report.pdf")).unwrap();
        assert!(pdf.starts_with(b"%PDF-1.7"));
        let pages = pdf.windows(11).filter(|w| w == b"/Type /Page").count() - 1;
        assert!(pages >= 4, "{pages} pages");
        let (ok, text) = scene.gossip(&["draw", "charts", "incident.jsonl", "-o", "charts.svg"]);
        assert!(ok, "{text}");
        if let Some(dir) = std::env::var_os("GOSSIP_PICTURES") {
            std::fs::copy(scene.path("report.pdf"), Path::new(&dir).join("report.pdf")).unwrap();
            std::fs::copy(scene.path("incident.jsonl"), Path::new(&dir).join("incident.jsonl")).unwrap();
        }
        let (ok, text) = scene.gossip(&["draw", "report", "incident.jsonl", "-o", "report.svg"]);
        assert!(!ok && text.contains("ends in .pdf or .txt"), "{text}");

        // The same on the screen: why she did not hear, by the recorded steps.
        let t = Tmux::start(
            160,
            47,
            &format!("cd {} && {GOSSIP} open --recording incident.jsonl", scene.dir.path().display()),
        );
        t.wait("Ada's column", |s| s.contains("ada") && s.contains('◆'));
        t.key("/");
        t.type_text("ripe");
        t.key("Enter");
        t.wait_text("with “ripe”");
        t.key("w");
        t.wait_text("orchard < claim.orchard");
        t.key("Escape");
        t.key("6");
        t.wait("who was there", |s| s.contains("ben") && s.contains("came and went"));
        t.key("7");
        t.wait("how much there was", |s| s.contains("from commit to socket") && s.contains("changes and deltas"));
        t.key("q");
        t.wait_text("[exit 0]");
    })
    .await
    .unwrap();
}
