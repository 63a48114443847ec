//! The browser's client (`clients/web`): its own tests under Node, and two people with it in Chromium, at real instances.

use std::collections::HashMap;
use std::io::{BufRead as _, BufReader};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::time::{Duration, Instant};

use axum::Router;
use axum::body::Bytes;
use axum::extract::{Path as Asked, Query};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use axum::routing::{get, post};
use gossip_core::rule::{May, RuleText};
use gossip_core::schema::TableName;
use gossip_core::send_queue::QueueLimits;
use gossip_server::auth::Tokens;
use gossip_server::instance::Instance;
use serde_json::{Map, Value as Json, json};
use testbed::{PATIENCE, Process};
use tokio::sync::mpsc;

use crate::common::{Cluster, rule};
use crate::topics::topics;

const SCHEMA: &str = "CREATE TABLE calls (id INTEGER PRIMARY KEY, agency TEXT, status TEXT);
  INSERT INTO calls VALUES (1, 'tove', 'expected'), (2, 'tove', 'expected'), (3, 'tove', 'expected'), (4, 'imre', 'inbound')";

const PEOPLE: [&str; 2] = ["tove", "imre"];

/// Seconds for which a token is good.
const TOKEN: i64 = 5;

fn clients() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../clients")
}

#[test]
fn its_own_tests_pass_under_node() {
    testbed::require("node", "nodejs");
    let tests = ["--test", "tests/vectors.test.js", "tests/client.test.js"];
    let output = testbed::run(Path::new("node"), &tests, &clients().join("web"), &[]);
    let said = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
    eprintln!("{}", said.lines().find(|line| line.contains("compressed")).unwrap_or_default());
}

fn vectors() -> Vec<Json> {
    let files = clients().join("vectors").read_dir().unwrap().map(|file| file.unwrap().path());
    files.flat_map(|path| serde_json::from_slice::<Vec<Json>>(&std::fs::read(path).unwrap()).unwrap()).collect()
}

fn token(tokens: &Tokens, who: &str) -> String {
    let claims = Map::from_iter([("agency".to_string(), json!(who))]);
    tokens.mint_for(who, &["agent".to_string()], &claims, gossip_server::now() / 1_000_000, TOKEN).unwrap()
}

/// What the page tells, and how often it asked for a token.
struct Page {
    said: mpsc::UnboundedReceiver<Json>,
    /// What it told last: of what, and about whom.
    last: HashMap<(String, String), Json>,
    asked: Arc<AtomicUsize>,
    url: String,
}

/// Serves the page and what it asks for.
async fn serve(scene: Json, tokens: Arc<Tokens>) -> Page {
    let (say, said) = mpsc::unbounded_channel();
    let asked = Arc::new(AtomicUsize::new(0));
    let count = asked.clone();
    let file = |Asked(name): Asked<String>| async move {
        let ty = if name.ends_with(".js") { "text/javascript" } else { "text/html" };
        match tokio::fs::read(clients().join("web").join(&name)).await {
            Ok(bytes) => ([(header::CONTENT_TYPE, ty)], bytes).into_response(),
            Err(_) => StatusCode::NOT_FOUND.into_response(),
        }
    };
    let fetch_token = move |Query(query): Query<HashMap<String, String>>| async move {
        count.fetch_add(1, Relaxed);
        token(&tokens, &query["who"])
    };
    let take = move |body: Bytes| async move {
        let _ = say.send(serde_json::from_slice(&body).unwrap_or_default());
    };
    let router = Router::new()
        .route("/scene", get(move || async move { scene.to_string() }))
        .route("/token", get(fetch_token))
        .route("/said", post(take))
        .route("/web/{*name}", get(file));
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}/web/tests/page.html", listener.local_addr().unwrap());
    tokio::spawn(async move { axum::serve(listener, router).await });
    Page { said, last: HashMap::new(), asked, url }
}

impl Page {
    async fn read(&mut self) {
        let said = tokio::time::timeout(PATIENCE, self.said.recv()).await;
        let said = said.unwrap_or_else(|_| panic!("silence; last {:?}", self.last)).expect("the page");
        assert_ne!(said["what"], "error", "{said}");
        let text = |name: &str| said[name].as_str().unwrap_or_default().to_string();
        let last = self.last.entry((text("what"), text("who"))).or_default();
        if said["number"].as_u64() > last["number"].as_u64() {
            *last = said;
        }
    }

    /// Waits until this is what both people were told last.
    async fn both(&mut self, what: &str, is_it: impl Fn(&Json) -> bool) {
        let start = Instant::now();
        while !PEOPLE.iter().all(|who| self.last.get(&(what.into(), (*who).into())).is_some_and(&is_it)) {
            assert!(start.elapsed() < PATIENCE, "{what}: {:?}", self.last);
            self.read().await;
        }
    }

    async fn vectors(&mut self) -> Json {
        loop {
            if let Some(said) = self.last.get(&("vectors".into(), String::new())) {
                return said.clone();
            }
            self.read().await;
        }
    }
}

fn chromium(url: &str, profile: &Path) -> Process {
    testbed::require("chromium", "chromium");
    let child = Command::new("chromium")
        .args(["--headless=new", "--no-sandbox", "--disable-gpu", "--disable-dev-shm-usage", "--no-first-run"])
        .arg(format!("--user-data-dir={}", profile.display()))
        // A port nobody asks: otherwise it ends as soon as the page is there.
        .arg("--remote-debugging-port=0")
        .arg(url)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    Process(child.unwrap())
}

fn rules() -> Vec<RuleText> {
    let may_publish = May { read: false, publish: true };
    let mut present = rule("agent", "", None, &[]);
    present.table = TableName::system("presence");
    vec![
        rule("agent", "calls", Some("agency = claim.agency OR status = 'inbound'"), &[]),
        rule("agent", "vhf", None, &[]),
        RuleText { may: may_publish, ..rule("agent", "vhf", None, &[]) },
        present.clone(),
        RuleText { may: may_publish, ..present },
    ]
}

#[tokio::test(flavor = "multi_thread")]
async fn two_people_in_a_browser_see_what_each_may_whatever_becomes_of_instances_and_tokens() {
    let vhf = topics("[topic.vhf]\nkeep = 10\ncolumns = { text = \"text\" }");
    let mut c = Cluster::with_topics(SCHEMA, &["calls"], rules(), QueueLimits::default(), vhf).await;
    let urls = [format!("ws://{}", c.url(0)), format!("http://{}/v1/socket", c.url(1))];
    let scene = json!({"vectors": vectors(), "urls": urls, "people": PEOPLE});
    let mut page = serve(scene, c.tokens.clone()).await;
    let profile = tempfile::tempdir().unwrap();
    let _chromium = chromium(&page.url, profile.path());
    let said = page.vectors().await;
    assert!(said["count"].as_u64() > Some(60) && said["failures"] == json!([]), "{said}");
    let of_first = |said: &Json| match said["who"].as_str() {
        Some("tove") => said["rows"] == json!([{"id": 1, "status": "expected"}, {"id": 2, "status": "expected"}]),
        _ => said["rows"] == json!([{"id": 4, "status": "inbound"}]),
    };
    page.both("window", of_first).await;
    page.both("vhf", |said| said["rows"].as_array().is_some_and(|rows| rows.len() == 2)).await;
    page.both("present", |said| said["rows"].as_array().is_some_and(|rows| rows.len() == 2)).await;
    // A row comes in front of the others and one goes, for both.
    c.db.execute_batch("UPDATE calls SET status = 'inbound' WHERE id = 1; DELETE FROM calls WHERE id = 4").unwrap();
    page.both("window", |said| said["rows"][0] == json!({"id": 1, "status": "inbound"})).await;
    let asked = page.asked.load(Relaxed);
    // Their instance is gone; they go on at the other one, and hear what happened meanwhile.
    c.instances[0].take().unwrap().stop().await;
    c.db.execute_batch("INSERT INTO calls VALUES (0, 'imre', 'inbound')").unwrap();
    page.both("window", |said| said["rows"][0] == json!({"id": 0, "status": "inbound"})).await;
    page.both("state", |said| said["status"] == "open" && said["url"].as_str() == Some(&socket(&c, 1))).await;
    // Each token is renewed before it ends, more than once, and rows go on coming.
    let renewed = async {
        while page.asked.load(Relaxed) < asked + 2 * (1 + 3) {
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
    };
    tokio::time::timeout(PATIENCE, renewed).await.expect("tokens to be renewed");
    c.instances[0] = Some(Instance::start(c.options[0].clone()).await.unwrap());
    c.instances[1].take().unwrap().stop().await;
    c.db.execute_batch("UPDATE calls SET status = 'berthed', agency = 'nobody' WHERE id = 0").unwrap();
    page.both("window", |said| said["rows"][0]["id"] == 1).await;
    c.stop().await;
}

/// Where no WebSocket can be opened, with instances that come and go.
#[tokio::test(flavor = "multi_thread")]
async fn it_follows_a_query_as_server_sent_events() {
    testbed::require("node", "nodejs");
    let vhf = topics("[topic.vhf]\nkeep = 10\ncolumns = { text = \"text\" }");
    let mut c = Cluster::with_topics(SCHEMA, &["calls"], rules(), QueueLimits::default(), vhf).await;
    let mut node = Command::new("node")
        .arg(clients().join("web/tests/stream.js"))
        .args([&format!("http://{}", c.url(0)), &c.token(&["agent"], json!({"agency": "tove"}))])
        .args(["SELECT id FROM calls ORDER BY id DESC LIMIT 2", "vhf", r#"{"text": "hello"}"#])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let lines = BufReader::new(node.stdout.take().unwrap()).lines();
    let _node = Process(node);
    let (say, mut said) = mpsc::unbounded_channel::<Json>();
    std::thread::spawn(move || {
        lines.map_while(Result::ok).try_for_each(|line| say.send(serde_json::from_str(&line).unwrap()))
    });
    let mut until = async |what: &str, is_it: &dyn Fn(&Json) -> bool| {
        let mut last = Json::Null;
        while !is_it(&last) {
            let next = tokio::time::timeout(PATIENCE, said.recv()).await;
            last = next.unwrap_or_else(|_| panic!("{what} in time; last {last}")).expect(what);
        }
    };
    let shows = |said: &Json, ids: [u64; 2]| said["rows"] == json!([{"id": ids[0]}, {"id": ids[1]}]);
    let published = std::cell::Cell::new(false);
    let first = |said: &Json| {
        published.set(published.get() || said["position"].is_string());
        shows(said, [4, 3])
    };
    until("the first rows", &first).await;
    if !published.get() {
        until("the event's position", &|said| said["position"].is_string()).await;
    }
    c.db.execute_batch("DELETE FROM calls WHERE id = 4").unwrap();
    until("a change", &|said| shows(said, [3, 2])).await;
    c.instances[0].take().unwrap().stop().await;
    c.db.execute_batch("DELETE FROM calls WHERE id = 3").unwrap();
    c.instances[0] = Some(Instance::start(c.options[0].clone()).await.unwrap());
    until("what happened while it was away", &|said| shows(said, [2, 1])).await;
    c.stop().await;
}

fn socket(c: &Cluster, i: usize) -> String {
    format!("ws://{}/v1/socket", c.url(i))
}
