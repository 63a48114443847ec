//! The program itself, from the command line, with clients and writers that are not ours.
#![allow(clippy::unwrap_used)]

use std::collections::VecDeque;
use std::io::{BufRead, BufReader, Write};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};
use std::time::{Duration, Instant};

use testbed::{Process, require_python, run, sqlite3, wait_for};

const GOSSIP: &str = env!("CARGO_BIN_EXE_gossip");
const SECRET: (&str, &str) = ("HARBOUR_SECRET", "a secret for the tests, long enough");

/// A client in another language with another library. Prints each message as a line.
const PYTHON: &str = r#"
import asyncio, json, sys, websockets
async def main(url, token, query):
    headers = {"Authorization": "Bearer " + token}
    async with websockets.connect(url, extra_headers=headers, subprotocols=["gossip.v1"]) as ws:
        assert ws.subprotocol == "gossip.v1"
        await ws.send(json.dumps({"jsonrpc": "2.0", "id": "a", "method": "subscribe", "params": {"query": query}}))
        async for message in ws:
            if '"method":"current"' not in message:
                print(message, flush=True)
asyncio.run(main(*sys.argv[1:]))
"#;

fn gossip(dir: &Path, args: &[&str]) -> (i32, String, String) {
    let o = run(Path::new(GOSSIP), args, dir, &[SECRET, ("GOSSIP_LOG", "off")]);
    let text = |b: &[u8]| String::from_utf8_lossy(b).into_owned();
    (o.status.code().unwrap_or(-1), text(&o.stdout), text(&o.stderr))
}

/// The shipped scenario in a directory of its own, on a free port.
fn scenario() -> (tempfile::TempDir, PathBuf) {
    let dir = tempfile::tempdir().unwrap();
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    let config = std::fs::read_to_string(demo.join("gossip.toml")).unwrap();
    let port = testbed::free_port();
    std::fs::write(dir.path().join("gossip.toml"), config.replace("127.0.0.1:4750", &format!("127.0.0.1:{port}")))
        .unwrap();
    let db = dir.path().join("harbour.db");
    let made = sqlite3(&db, &std::fs::read_to_string(demo.join("harbour.sql")).unwrap()).0.wait().unwrap();
    assert!(made.success());
    (dir, db)
}

/// A child whose lines are read as they come.
struct Lines {
    _child: Process,
    lines: std::sync::mpsc::Receiver<String>,
    seen: Vec<String>,
}

impl Lines {
    fn start(command: &mut Command) -> Lines {
        let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
        let out = BufReader::new(child.stdout.take().unwrap());
        let (send, lines) = std::sync::mpsc::channel();
        std::thread::spawn(move || out.lines().map_while(Result::ok).try_for_each(|l| send.send(l)));
        Lines { _child: Process(child), lines, seen: vec![] }
    }

    fn wait(&mut self, text: &str) -> String {
        let mut found = self.seen.iter().find(|l| l.contains(text)).cloned();
        while found.is_none() {
            match self.lines.recv_timeout(testbed::PATIENCE) {
                Ok(line) => {
                    found = Some(line.clone()).filter(|l| l.contains(text));
                    self.seen.push(line);
                }
                Err(_) => panic!("waited for {text:?} among {:#?}", self.seen),
            }
        }
        found.unwrap_or_default()
    }
}

#[test]
fn two_instances_another_librarys_clients_and_another_program_as_the_writer() {
    let (dir, db) = scenario();
    let (code, sql, _) = gossip(dir.path(), &["prepare", "--dry-run"]);
    assert!(code == 0 && sql.contains("CREATE TRIGGER") && sql.contains("-- calls: every row"), "{sql}");
    assert_eq!(gossip(dir.path(), &["check"]).0, 1, "not prepared yet");
    assert_eq!(gossip(dir.path(), &["serve"]).0, 2, "not prepared yet");
    assert_eq!(gossip(dir.path(), &["prepare"]).0, 0);
    let (code, out, err) = gossip(dir.path(), &["check"]);
    assert_eq!(code, 0, "{out}{err}");

    let mut serve = Command::new(GOSSIP);
    serve.args(["serve", "--instances", "2"]).current_dir(dir.path()).env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off");
    let mut serve = Lines::start(&mut serve);
    let url = |line: &str| line.split_whitespace().last().unwrap().to_string();
    let north = url(&serve.wait("north is listening on"));
    let south = url(&serve.wait("north-2 is listening on"));
    let token = |claims: &str| gossip(dir.path(), &["token", "--claims", claims]).1.trim().to_string();
    let listen = |url: &str, token: &str, query: &str| {
        Lines::start(Command::new("/usr/bin/python3").args(["-c", PYTHON, url, token, query]))
    };
    let brightwater = token(r#"{"sub":"tove","roles":["agent"],"agency":"Brightwater"}"#);
    let northlight = token(r#"{"sub":"oyelaran","roles":"agent","agency":"Northlight"}"#);
    let ops = token(r#"{"sub":"ops","roles":["harbour-ops"]}"#);
    let query = "SELECT * FROM calls";
    let mut both = [listen(&north, &brightwater, query), listen(&south, &brightwater, query)];
    let mut other = listen(&south, &northlight, query);
    let mut operator = listen(&north, &ops, "SELECT position, changes FROM gossip.changes");
    both.iter_mut().chain([&mut other, &mut operator]).for_each(|l| drop(l.wait("\"result\"")));

    let insert = "INSERT INTO calls (vessel, agency, status, eta) VALUES";
    let write = |values: &str| assert!(sqlite3(&db, &format!("{insert} {values};")).0.wait().unwrap().success());
    write("('Ardent Tern', 'Brightwater', 'expected', '2031')");
    for l in &mut both {
        assert!(l.wait("\"delta\"").contains("Ardent Tern"));
    }
    write("('Cinder Fell', 'Northlight', 'expected', '2031')");
    assert!(other.wait("\"delta\"").contains("Cinder Fell"));
    assert!(!other.seen.iter().any(|l| l.contains("Ardent")), "the other agency's call was not heard");

    let delta: serde_json::Value = serde_json::from_str(&operator.wait("Ardent")).unwrap();
    let position = delta["params"]["changes"][0]["row"]["position"].as_str().unwrap().to_string();
    let runtime = tokio::runtime::Runtime::new().unwrap();
    let steps = runtime.block_on(async {
        let mut s = gossip_client::Session::connect(&north, Some(&ops)).await.unwrap();
        let ask = serde_json::json!({"position": position, "query": query, "roles": ["agent"], "claims": {"agency": "Northlight"}});
        s.call("explain", ask).await.unwrap()["steps"].to_string()
    });
    assert!(steps.contains("agency = claim.agency") && steps.contains("'Brightwater' = 'Northlight'"), "{steps}");

    std::fs::write(dir.path().join("token"), &brightwater).unwrap();
    let (code, out, err) = gossip(
        dir.path(),
        &[
            "watch",
            &north,
            "SELECT id FROM calls WHERE vessel = :v",
            "--param",
            "v=Ardent Tern",
            "--token-file",
            "token",
            "--count",
            "1",
        ],
    );
    assert!(code == 0 && out.contains("\"rows\":[{"), "{out}{err}");
    // One result by HTTP, and the workbench on these instances from elsewhere.
    let get = |path: &str| {
        let program = "import sys, urllib.request as u, urllib.error as e
r = u.Request(sys.argv[1], headers={'Authorization': 'Bearer ' + sys.argv[2]})
try: print(u.urlopen(r).read().decode())
except e.HTTPError as x: print(x.code, x.headers['content-type'], x.read().decode())";
        let url = north.replace("ws://", "http://").replace("/v1/socket", path);
        let o = run(Path::new("/usr/bin/python3"), &["-c", program, &url, &northlight], dir.path(), &[]);
        String::from_utf8_lossy(&o.stdout).into_owned()
    };
    let rows = get("/v1/rows?query=SELECT%20vessel%20FROM%20calls");
    assert!(rows.contains("Cinder Fell") && !rows.contains("Ardent"), "{rows}");
    let refused = get("/v1/rows?query=SELECT%20security_note%20FROM%20calls");
    assert!(refused.starts_with("404 application/problem+json") && refused.contains("not known or not permitted"));
    assert!(get("/readyz").contains("\"ready\":true"));
    std::fs::write(dir.path().join("ops"), &ops).unwrap();
    let attach = format!("{GOSSIP} attach {north} {south} --token-file {}", dir.path().join("ops").display());
    let t = testbed::Tmux::start(120, 40, &attach);
    let screen = t.wait("what has changed", |s| s.contains("2 instances") && s.contains("Ardent Tern"));
    assert!(!screen.contains("make a change"), "there is no database on this side: {screen}");
    t.key("q");
    t.wait_text("[exit 0]");
    assert_eq!(gossip(dir.path(), &["prepare", "--remove"]).0, 0);
}

#[test]
fn bad_usage_and_configuration_say_what_where_and_what_to_do() {
    let (dir, db) = scenario();
    assert_eq!(gossip(dir.path(), &["prepare"]).0, 0);
    let good = std::fs::read_to_string(dir.path().join("gossip.toml")).unwrap();
    let with = |from: &str, to: &str| {
        assert!(good.contains(from), "{from}");
        std::fs::write(dir.path().join("gossip.toml"), good.replacen(from, to, 1)).unwrap();
    };
    let fails = |args: &[&str], code: i32, words: &[&str]| {
        let (found, _, err) = gossip(dir.path(), args);
        assert_eq!(found, code, "{args:?}: {err}");
        words.iter().for_each(|w| assert!(err.contains(w), "{args:?}: expected {w:?} in {err}"));
    };
    with("tables = [", "tabels = [");
    fails(&["serve"], 2, &["gossip.toml:", "source.harbour.tabels: is not known; did you mean tables?"]);
    with("rows = \"agency = claim.agency\"", "rows = \"agencie = claim.agency\"");
    fails(&["serve"], 2, &["gossip.toml:", "column agencie is not known", "did you mean agency?"]);
    with("columns = [\"vessel\", \"berth\", \"eta\"]", "columns = [\"vessels\"]");
    fails(&["serve"], 2, &["has no column vessels; did you mean vessel?"]);
    with("sqlite:harbour.db", "sqlite:nowhere.db");
    fails(&["serve"], 3, &["nowhere.db", "there is no such file"]);
    with("sqlite:harbour.db", "sqlite:gossip.toml");
    fails(&["check"], 3, &["is it an SQLite database?"]);
    with("secret_env = \"HARBOUR_SECRET\"", "secret_env = \"OTHER_SECRET\"");
    fails(&["serve"], 2, &["the environment variable OTHER_SECRET is not set"]);
    fails(&["serve", "-c", "none.toml"], 2, &["none.toml", "give the file with -c"]);
    with("[instance]", "[instance]\n# as it was");
    fails(&["token", "--claims", "{"], 2, &["expected a JSON object"]);
    fails(&["watch", "127.0.0.1:1", "SELECT 1"], 3, &["cannot connect to 127.0.0.1:1"]);
    fails(&["watch", "http://u:secret@h", "SELECT 1"], 2, &["expected ws://host:port"]);

    // A database that somebody has locked is waited for, and is served when it is free again.
    let lock = sqlite3(&db, "BEGIN EXCLUSIVE; SELECT 1;\n.shell sleep 2\nCOMMIT;");
    let mut serve = Command::new(GOSSIP);
    serve.arg("serve").current_dir(dir.path()).env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off");
    let mut serve = Lines::start(&mut serve);
    let url = serve.wait("is listening on").split_whitespace().last().unwrap().to_string();
    drop(lock);
    let ready = || {
        run(
            Path::new("/usr/bin/python3"),
            &[
                "-c",
                "import urllib.request as u, sys; print(u.urlopen(sys.argv[1]).read())",
                &url.replace("ws", "http").replace("/v1/socket", "/readyz"),
            ],
            dir.path(),
            &[],
        )
    };
    wait_for(|| "readyz".into(), || Some(ready()).filter(|o| o.status.success()));
}

/// Processes of their own, which know of each other only through a broker; the one that reads is killed.
#[test]
fn processes_of_their_own_hear_of_each_other_over_a_broker() {
    let broker = testbed::Broker::start(testbed::Kind::Nats);
    let (dir, db) = scenario();
    let path = |name: &str| dir.path().join(name);
    let config = std::fs::read_to_string(path("gossip.toml")).unwrap();
    let listen = config.lines().find(|l| l.starts_with("listen")).unwrap().to_string();
    for name in ["east", "west"] {
        let config = config
            .replace("\"inproc:\"", &format!("\"{}\"", broker.url()))
            .replace("name = \"north\"", &format!("name = \"{name}\""))
            .replace(&listen, "listen = \"127.0.0.1:0\"");
        std::fs::write(path(&format!("{name}.toml")), config).unwrap();
    }
    assert_eq!(gossip(dir.path(), &["prepare", "-c", "east.toml"]).0, 0);
    let serve = |name: &str| {
        let mut command = Command::new(GOSSIP);
        command.args(["serve", "-c", &format!("{name}.toml")]).current_dir(dir.path());
        let mut lines = Lines::start(command.env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off"));
        let url = lines.wait(&format!("{name} is listening on")).split_whitespace().last().unwrap().to_string();
        (lines, url)
    };
    let ((mut east, at_east), (mut west, at_west)) = (serve("east"), serve("west"));
    let token =
        gossip(dir.path(), &["token", "-c", "east.toml", "--claims", r#"{"sub":"imre","roles":["control"]}"#]).1;
    let ops =
        gossip(dir.path(), &["token", "-c", "east.toml", "--claims", r#"{"sub":"op","roles":["harbour-ops"]}"#]).1;
    let query = "SELECT vessel FROM calls";
    require_python("websockets", "python3-websockets");
    let listen = |url: &str| {
        let mut lines = Lines::start(Command::new("/usr/bin/python3").args(["-c", PYTHON, url, token.trim(), query]));
        lines.wait("\"result\"");
        lines
    };
    let (mut by_east, mut by_west) = (listen(&at_east), listen(&at_west));
    let write = |vessel: &str| {
        let sql =
            format!("INSERT INTO calls (vessel, agency, status, eta) VALUES ('{vessel}', 'x', 'expected', '2031');");
        assert!(sqlite3(&db, &sql).0.wait().unwrap().success());
    };
    write("Ardent Tern the Second");
    by_east.wait("Ardent Tern the Second");
    by_west.wait("Ardent Tern the Second");
    // Only one of them reads; whichever it is, the other one goes on without it.
    let reads = |url: &str| {
        let address = url.trim_start_matches("ws://").trim_end_matches("/v1/socket");
        let (url, as_operator) = (format!("http://{address}/readyz"), format!("Authorization: Bearer {}", ops.trim()));
        let answer = Command::new("curl").args(["-s", "-H", &as_operator, &url]).output().unwrap();
        String::from_utf8_lossy(&answer.stdout).contains("\"reading\":\"reading\"")
    };
    let east_reads = reads(&at_east);
    assert!(east_reads != reads(&at_west), "one reader");
    let (reader, other) = if east_reads { (&mut east, &mut by_west) } else { (&mut west, &mut by_east) };
    reader._child.0.kill().unwrap();
    reader._child.0.wait().unwrap();
    write("Cinder Fell the Second");
    other.wait("Cinder Fell the Second");
}

/// Another language's program reads row changes from the broker, and publishes an event there.
#[test]
fn another_language_reads_from_the_broker_and_publishes_there() {
    require_python("paho.mqtt", "python3-paho-mqtt");
    let broker = testbed::Broker::start(testbed::Kind::Mosquitto);
    let (dir, db) = scenario();
    let path = dir.path().join("gossip.toml");
    let relay = format!("url = \"{}\"\nprefix = \"saltmarsh\"", broker.url());
    std::fs::write(&path, std::fs::read_to_string(&path).unwrap().replace("url = \"inproc:\"", &relay)).unwrap();
    assert_eq!(gossip(dir.path(), &["prepare"]).0, 0);
    let mut serve = Command::new(GOSSIP);
    serve.arg("serve").current_dir(dir.path()).env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off");
    let mut serve = Lines::start(&mut serve);
    let url = serve.wait("is listening on").split_whitespace().last().unwrap().to_string();
    let mut board = Lines::start(Command::new(GOSSIP).args(["watch", &url, "SELECT gauge, level_m FROM tide"]));
    board.wait("\"result\"");
    let example = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/harbour_watch.py");
    let port = broker.port().to_string();
    let tide = r#"{"gauge": "example", "level_m": 2.5}"#;
    let mut example = Lines::start(Command::new("/usr/bin/python3").arg(example).args([
        &port,
        "saltmarsh",
        "harbour",
        "2",
        "tide",
        tide,
    ]));
    example.wait("listening");
    let told = board.wait("example");
    assert!(told.contains("\"level_m\":2.5"), "{told}");
    let sql = "INSERT INTO berths (id, name, quay, max_length_m, state) VALUES (91, 'Ninety-one', 'East', 50, 'free');
        UPDATE berths SET state = 'held' WHERE id = 91;";
    for statement in sql.split(';').filter(|s| !s.trim().is_empty()) {
        assert!(sqlite3(&db, &format!("{statement};")).0.wait().unwrap().success());
    }
    let change: serde_json::Value = serde_json::from_str(&example.wait("held")).unwrap();
    assert_eq!((&change["table"], &change["new"]["state"]), (&"berths".into(), &"held".into()));
}

/// The examples of docs/clients.md in other languages, and `gossip watch`, each with a change and with the instance gone for a
/// while; and `curl`.
#[test]
fn clients_in_other_languages_and_watch_go_on_after_a_restart() {
    require_python("websockets", "python3-websockets");
    testbed::require("node", "nodejs");
    testbed::require("curl", "curl");
    let (dir, db) = scenario();
    assert_eq!(gossip(dir.path(), &["prepare"]).0, 0);
    let serve = || {
        let mut serve = Command::new(GOSSIP);
        serve.arg("serve").current_dir(dir.path()).env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off");
        let mut serve = Lines::start(&mut serve);
        let url = serve.wait("is listening on").split_whitespace().last().unwrap().to_string();
        (serve, url.split('/').nth(2).unwrap().to_string())
    };
    let (served, address) = serve();
    let claims = r#"{"sub":"imre","roles":["control"]}"#;
    let token = gossip(dir.path(), &["token", "--claims", claims]).1.trim().to_string();
    let examples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples");
    let query = "SELECT id, name FROM berths ORDER BY id LIMIT 2";
    let start = |program: &str, file: &str| {
        let mut command = Command::new(program);
        Lines::start(command.arg(examples.join(file)).args([&address, query, &token]).stderr(Stdio::null()))
    };
    std::fs::write(dir.path().join("imre.token"), &token).unwrap();
    // By the address in the folder's configuration.
    let watch = |args: &[&str]| {
        let mut command = Command::new(GOSSIP);
        let token = ["watch", "--token-file", "imre.token"];
        Lines::start(command.args(token).args(args).arg(query).current_dir(dir.path()).stderr(Stdio::null()))
    };
    let examples = [start("/usr/bin/python3", "watch.py"), start("node", "watch.mjs")];
    let mut clients = [examples, [watch(&[]), watch(&["--table"])]].into_iter().flatten().collect::<Vec<_>>();
    clients.iter_mut().for_each(|client| drop(client.wait("name")));
    let write = |name: &str| {
        assert!(sqlite3(&db, &format!("UPDATE berths SET name = '{name}' WHERE id = 1;")).0.wait().unwrap().success());
    };
    write("Elsewhere");
    clients.iter_mut().for_each(|client| drop(client.wait("Elsewhere")));
    drop(served);
    write("While nobody looked");
    let (_served, address) = serve();
    clients.iter_mut().for_each(|client| drop(client.wait("While nobody looked")));
    let bearer = format!("Authorization: Bearer {token}");
    let curl = |args: &[&str]| run(Path::new("curl"), &[&["-s", "-H", &bearer], args].concat(), dir.path(), &[]).stdout;
    let query = format!("query={query}");
    let rows = curl(&["-G", &format!("{address}/v1/rows"), "--data-urlencode", &query]);
    assert!(String::from_utf8_lossy(&rows).contains("While nobody looked"));
    let live = format!("{address}/v1/live");
    let mut stream = Command::new("curl");
    stream.args(["-s", "-H", &bearer, "-NG", &live, "--data-urlencode", &query]);
    Lines::start(&mut stream).wait("event: rows");
    let event = r#"{"specversion": "1.0", "type": "vhf", "source": "/quay", "id": "1", "data": {"channel": 12, "text": "hello"}}"#;
    let kind = "Content-Type: application/cloudevents+json";
    let answer = curl(&[&format!("{address}/v1/events"), "-H", kind, "-d", event]);
    assert!(String::from_utf8_lossy(&answer).contains("positions"), "{}", String::from_utf8_lossy(&answer));
}

/// Somebody opens as many connections as they get and says nothing, or half of something; the process has few descriptors.
/// Everybody else is served, and they too once they have something to say.
#[test]
fn silent_connections_keep_nobody_out_where_descriptors_are_few() {
    testbed::require("curl", "curl");
    let (dir, _) = scenario();
    assert_eq!(gossip(dir.path(), &["prepare", "-c", "gossip.toml"]).0, 0);
    let mut few = Command::new("sh");
    few.args(["-c", "ulimit -n 256; exec \"$0\" serve -c gossip.toml", GOSSIP]).current_dir(dir.path());
    let mut served = Lines::start(few.env(SECRET.0, SECRET.1).env("GOSSIP_LOG", "off"));
    let url = served.wait("is listening on").split_whitespace().last().unwrap().to_string();
    let address = url.split('/').nth(2).unwrap().to_string();
    let over = Arc::new(AtomicBool::new(false));
    let ends = over.clone();
    let to = address.clone();
    let silent = std::thread::spawn(move || {
        let mut held = VecDeque::new();
        while !ends.load(Relaxed) {
            // Also those that were closed: whoever does this comes again.
            if let Ok(mut tcp) = TcpStream::connect(&to) {
                let half: [&[u8]; 3] =
                    [b"", b"GET /healthz HTTP/1.1\r\nHost:", b"POST /v1/events HTTP/1.1\r\nContent-Length: 9\r\n\r\n{"];
                let _ = tcp.write_all(half[held.len() % 3]);
                held.push_back(tcp);
            }
            if held.len() > 300 {
                held.pop_front();
                std::thread::sleep(Duration::from_millis(2));
            }
        }
    });
    let ask = |from: &str| {
        let mut curl = Command::new("curl");
        curl.args(["-s", "-m", "20", "-o", "/dev/null", "-w", "%{http_code}", "--interface", from]);
        let out = curl.arg(format!("http://{address}/healthz")).output().unwrap();
        String::from_utf8_lossy(&out.stdout).into_owned()
    };
    // From when its share is taken, until long after the first of them have been closed.
    let begun = Instant::now();
    while begun.elapsed() < Duration::from_secs(13) {
        assert_eq!(ask("127.0.0.2"), "200");
        std::thread::sleep(Duration::from_millis(200));
    }
    over.store(true, Relaxed);
    silent.join().unwrap();
    wait_for(|| "a seat".into(), || (ask("127.0.0.1") == "200").then_some(()));
}

/// A broker on which nobody is known is a finding, also where it cannot be reached; one with a secret is none.
#[test]
fn check_says_that_anybody_on_the_broker_can_speak_as_an_instance() {
    let (dir, _) = scenario();
    let check = |relay: &str| {
        let config = format!(
            "[source.harbour]\nurl = \"sqlite:harbour.db\"\ntables = [\"vessels\"]\n\
             [relay]\nurl = \"nats://127.0.0.1:{}\"\n{relay}\n\
             [[rule]]\nrole = \"anonymous\"\ntable = \"vessels\"\nmay = [\"read\"]\n",
            testbed::free_port()
        );
        std::fs::write(dir.path().join("open.toml"), config).unwrap();
        gossip(dir.path(), &["check", "-c", "open.toml"])
    };
    let (code, out, err) = check("");
    assert!(code == 1 && out.contains("can impersonate an instance") && out.contains("relay.secret_env"), "{out}{err}");
    let (_, out, _) = check("secret_env = \"HARBOUR_SECRET\"");
    assert!(!out.contains("impersonate an instance"), "{out}");
    let (code, out, _) = check("secret_env = \"NOT_SET_ANYWHERE\"");
    assert!(
        code == 1 && out.contains("relay.secret_env: the environment variable NOT_SET_ANYWHERE is not set"),
        "{out}"
    );
}

/// `cargo run` works while there is one program to choose.
#[test]
fn cargo_run_means_gossip() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let metadata = ["metadata", "--no-deps", "--offline", "--format-version", "1"];
    let said = Command::new(env!("CARGO")).args(metadata).current_dir(root).output().unwrap();
    let said: serde_json::Value = serde_json::from_slice(&said.stdout).unwrap();
    let default = said["workspace_default_members"].as_array().unwrap();
    let packages = said["packages"].as_array().unwrap().iter().filter(|p| default.contains(&p["id"]));
    let targets = packages.flat_map(|p| p["targets"].as_array().unwrap());
    let programs: Vec<_> = targets.filter(|t| t["kind"][0] == "bin").map(|t| t["name"].as_str().unwrap()).collect();
    assert_eq!(programs, ["gossip"]);
}

/// The README's first command; `scripts/test` builds what it builds.
#[test]
fn cargo_knows_the_demo() {
    let root = concat!(env!("CARGO_MANIFEST_DIR"), "/../..");
    let said = Command::new(env!("CARGO")).arg("--list").current_dir(root).output().unwrap();
    let said = String::from_utf8(said.stdout).unwrap();
    let alias = said.lines().find(|line| line.trim_start().starts_with("demo ")).unwrap_or_default();
    assert!(alias.contains("run --profile quick --no-default-features --package gossip -- demo"), "{alias}");
}

#[test]
fn a_filter_of_the_log_that_is_none_is_an_error() {
    let dir = tempfile::tempdir().unwrap();
    let o = run(Path::new(GOSSIP), &["check"], dir.path(), &[("GOSSIP_LOG", "gossip=loudly")]);
    let err = String::from_utf8_lossy(&o.stderr).into_owned();
    assert!(o.status.code() == Some(2) && err.contains("GOSSIP_LOG") && err.contains("expected a level"), "{err}");
}
