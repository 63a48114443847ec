//! An instance in another process: attached to, recorded, killed.

use std::net::TcpStream;
use std::path::PathBuf;
use std::process::{Command, Stdio};

use testbed::{Process, Tmux, free_port, sqlite3, wait_for};

/// A folder with a database of two crates, a configuration that lets readers read those of their orchard, and tokens of
/// an operator and of two readers, Ada of the first orchard and Ben of the second.
struct Elsewhere {
    dir: tempfile::TempDir,
    port: u16,
}

impl Elsewhere {
    fn new() -> Elsewhere {
        let port = free_port();
        let here = Elsewhere { dir: tempfile::tempdir().unwrap(), port };
        here.write(
            "CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER, fruit TEXT);
             INSERT INTO crates VALUES ('A-1', 1, 'pear'), ('B-1', 2, 'apple');",
        );
        let config = format!(
            "[instance]\nlisten = '127.0.0.1:{port}'\n[source.harvest]\nurl = 'sqlite:harvest.db'\ntables = ['crates']\n\
             [auth]\nsecret_env = 'HARVEST_SECRET'\noperators = 'ops'\n\
             [[rule]]\nrole = 'reader'\ntable = 'crates'\nmay = ['read']\nrows = 'orchard = claim.orchard'\n"
        );
        std::fs::write(here.path("gossip.toml"), config).unwrap();
        assert!(here.gossip(&["prepare"]).output().unwrap().status.success());
        for (file, claims) in [
            ("ops", r#"{"sub":"ops","roles":["ops"]}"#),
            ("ada", r#"{"sub":"ada","roles":["reader"],"orchard":1}"#),
            ("ben", r#"{"sub":"ben","roles":["reader"],"orchard":2}"#),
        ] {
            let token = here.gossip(&["token", "--claims", claims]).output().unwrap();
            std::fs::write(here.path(file), token.stdout).unwrap();
        }
        here
    }

    fn path(&self, file: &str) -> PathBuf {
        self.dir.path().join(file)
    }

    fn url(&self) -> String {
        format!("localhost:{}", self.port)
    }

    fn write(&self, sql: &str) {
        assert!(sqlite3(&self.path("harvest.db"), sql).0.wait().unwrap().success());
    }

    fn gossip(&self, args: &[&str]) -> Command {
        let mut c = Command::new(env!("CARGO_BIN_EXE_gossip"));
        c.args(args).current_dir(self.dir.path()).env("HARVEST_SECRET", "a secret of at least thirty-two bytes");
        c.stdout(Stdio::piped()).stderr(Stdio::piped());
        c
    }

    fn serve(&self) -> Process {
        let instance = self.gossip(&["serve"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        wait_for(|| "the instance".into(), || TcpStream::connect(("127.0.0.1", self.port)).ok());
        Process(instance)
    }

    fn screen(&self, args: &str) -> Tmux {
        let program = format!("cd {} && {} {args}", self.dir.path().display(), env!("CARGO_BIN_EXE_gossip"));
        Tmux::start(160, 47, &program)
    }

    /// The workbench attached as the operator, with everybody's token, and these watching all crates.
    fn attached(&self, watchers: &[&str]) -> Tmux {
        let t = self.screen(&format!("attach {} --token-file ops --persona Ada=ada --persona Ben=ben", self.url()));
        t.wait_text("1 instance · reader one");
        for who in watchers {
            t.key("n");
            t.wait_text("New watcher");
            while !t.screen().contains(&format!("‹ {who} ›")) {
                let before = t.screen();
                t.key("Right");
                t.wait("another persona", |s| s != before);
            }
            t.key("Tab");
            t.key("C-u");
            t.type_text("SELECT * FROM crates");
            t.key("Enter");
            t.wait("a column", |s| s.lines().nth(3).is_some_and(|l| l.contains(who)));
        }
        t.wait("all listen", |s| s.lines().nth(5).is_some_and(|l| l.matches("one").count() == watchers.len()));
        t
    }
}

fn has(screen: &str, text: &str, marks: &[char]) -> bool {
    screen.lines().any(|l| l.contains(text) && marks.iter().all(|m| l.contains(*m)))
}

/// The workbench on an instance in another process, which is killed and comes back.
#[test]
fn attached_to_another_process_it_does_what_needs_no_file_and_survives_the_instance() {
    let e = Elsewhere::new();
    let mut instance = e.serve();
    let t = e.attached(&["Ada", "Ben"]);
    // Nothing that needs a database or a file is offered.
    let foot = |s: &str| s.lines().last().unwrap_or_default().to_string();
    let screen = t.wait("what can be done", |s| foot(s).contains("instances") && foot(s).contains("new watcher"));
    assert!(!foot(&screen).contains("make a change"), "{screen}");
    e.write("UPDATE crates SET fruit = 'plum' WHERE number = 'A-1';");
    t.wait("one hears", |s| has(s, "pear → plum", &['●', '◆']));
    t.key("3");
    t.wait("Tables, without what only the file knows", |s| {
        s.contains("● yes") && s.contains("is not reachable from here")
    });
    t.key("2");
    t.type_text("SELECT * FROM crates");
    t.key("Enter");
    t.wait("Ada's row, and why there is none without a rule", |s| s.contains("plum") && s.contains("refused"));

    instance.0.kill().unwrap();
    instance.0.wait().unwrap();
    t.wait("it says since when", |s| s.contains("0 of 1 instances") && s.contains("out of touch for"));
    e.write("UPDATE crates SET fruit = 'quince' WHERE number = 'A-1';");
    let instance = e.serve();
    t.wait("Ask is right again", |s| s.contains("quince") && s.contains("1 instance · reader one"));
    t.key("Escape");
    t.key("1");
    t.wait("so are the watchers", |s| s.lines().nth(5).is_some_and(|l| l.matches("one").count() == 2));
    e.write("UPDATE crates SET fruit = 'medlar' WHERE number = 'A-1';");
    t.wait("and hear", |s| has(s, "quince → medlar", &['●', '◆']));
    // What can be done to an instance of another process is to let it go.
    t.key("i");
    t.wait("only that is offered", |s| s.contains("d drains it") && !s.contains("e ends or starts it"));
    t.key("d");
    t.wait_text("one is draining: its clients are asked");
    assert!(instance.wait().success());
    t.key("Escape");
    t.key("q");
    t.wait_text("[exit 0]");
}

/// Two recordings of an instance in another process, one with a masked column, looked at afterwards.
#[test]
fn what_was_recorded_is_looked_at_later_and_masks_hold() {
    let e = Elsewhere::new();
    let _instance = e.serve();
    // A watcher, of whom the recording tells as well.
    let live = e.attached(&["Ada"]);
    // One after the other: what is committed between two reads arrives as one.
    e.write("UPDATE crates SET fruit = 'quince' WHERE number = 'A-1';");
    live.wait_text("→ quince");
    e.write("UPDATE crates SET fruit = 'medlar' WHERE number = 'B-1';");
    live.wait("one is heard and one withheld", |s| has(s, "medlar", &['◆']) && has(s, "quince", &['●']));
    // Who is connected is sampled once a second.
    wait_for(
        || "the instance to tell of her".into(),
        || {
            let query = "SELECT subject, subscriptions FROM gossip.clients WHERE subject = 'ada'";
            let args = ["watch", &e.url(), query, "--token-file", "ops", "--count", "1"];
            let told = e.gossip(&args).output().unwrap();
            String::from_utf8_lossy(&told.stdout).contains("SELECT * FROM crates").then_some(())
        },
    );
    for (file, mask) in [("plain.jsonl", ""), ("masked.jsonl", "crates.fruit")] {
        let args = ["record", &e.url(), "-o", file, "--token-file", "ops", "--mask", mask];
        let mut recorder = Process(e.gossip(&args).spawn().unwrap());
        // It begins with what its instance remembers, and says so when it has that.
        let mut said = String::new();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(recorder.0.stderr.take().unwrap()), &mut said)
            .unwrap();
        assert!(said.contains("recording into"), "{said}");
        let pid = recorder.0.id().to_string();
        assert!(Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
        assert!(recorder.0.wait().unwrap().code().is_some_and(|c| c == 0));
    }
    live.key("q");
    live.wait_text("[exit 0]");
    let read = |file: &str| std::fs::read_to_string(e.path(file)).unwrap();
    assert!(read("plain.jsonl").contains("quince"));
    for secret in ["quince", "medlar", "pear", "apple"] {
        assert!(!read("masked.jsonl").contains(secret), "{secret} in the masked recording");
    }
    for (file, shown) in [("plain.jsonl", "fruit apple → medlar"), ("masked.jsonl", "crates B-1")] {
        let t = e.screen(&format!("open --recording {file}"));
        let screen = t.wait("what happened, and to whom", |s| {
            s.contains("ada") && has(s, shown, &['◆']) && has(s, "crates A-1", &['●'])
        });
        assert!(file == "plain.jsonl" || !screen.contains("medlar"), "{screen}");
        // What happened to this key.
        t.key("/");
        t.type_text("A-1");
        t.key("Enter");
        t.wait("only its lines", |s| s.contains("crates A-1") && !s.contains("crates B-1"));
        t.key("w");
        t.wait_text("the recording does not have the steps");
        t.key("Escape");
        t.key("3");
        t.wait("its tables", |s| s.contains("● yes"));
        t.key("q");
        t.wait_text("[exit 0]");
    }
    let bad = e.gossip(&["open", "--recording", "gossip.toml"]).output().unwrap();
    let text = String::from_utf8_lossy(&bad.stderr).to_string();
    assert!(bad.status.code() == Some(2) && text.contains("gossip.toml:1: not JSON"), "{text}");
}
