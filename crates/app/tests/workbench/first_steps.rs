//! Somebody's own database: the first steps.

use std::cell::Cell;
use std::sync::{Mutex, PoisonError};

use testbed::Tmux;

/// Keys that it takes, every typed letter counted.
const KEYS: usize = 78;

/// The file that the first steps write names a port: one test at a time.
static PORT: Mutex<()> = Mutex::new(());

/// The workbench, and how many keys were pressed.
struct Counted {
    t: Tmux,
    keys: Cell<usize>,
}

impl Counted {
    fn start(program: &str) -> Counted {
        Counted { t: Tmux::start(160, 47, program), keys: Cell::new(0) }
    }

    fn key(&self, key: &str) {
        self.keys.set(self.keys.get() + 1);
        self.t.key(key);
    }

    fn text(&self, text: &str) {
        self.keys.set(self.keys.get() + text.len());
        self.t.type_text(text);
    }
}

/// From a folder with nothing but somebody's database to a second persona who does not hear a change, and why.
#[test]
fn a_new_user_comes_from_a_database_of_their_own_to_the_reason_why_somebody_did_not_hear() {
    let _alone = PORT.lock().unwrap_or_else(PoisonError::into_inner);
    let dir = tempfile::tempdir().unwrap();
    let schema = "CREATE TABLE orchards (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
      CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER REFERENCES orchards(id), fruit TEXT, kilos REAL);
      CREATE TABLE weather (day TEXT, note TEXT);
      INSERT INTO orchards VALUES (1, 'Upper Row'), (2, 'Millside');
      INSERT INTO crates VALUES ('A-1', 1, 'pear', 12.5), ('A-2', 1, 'plum', 8), ('B-1', 2, 'apple', 15);";
    assert!(testbed::sqlite3(&dir.path().join("harvest.db"), schema).0.wait().unwrap().success());
    let program = format!("cd {} && {} open", dir.path().display(), env!("CARGO_BIN_EXE_gossip"));
    let counted = Counted::start(&program);
    let t = &counted.t;
    t.wait_text("▸ harvest.db");
    counted.key("Enter");
    from_tables_to_the_reason(&counted, || {
        // Offered, and not needed: it is not counted.
        t.wait_text("□ WAL mode   recommended: press w");
        t.key("w");
        t.wait_text("■ WAL mode");
    });
    // The README says how many.
    assert_eq!(counted.keys.get(), KEYS, "keys from nothing to the reason");
    let file = rusqlite::Connection::open(dir.path().join("harvest.db")).unwrap();
    let mode: String = file.query_row("PRAGMA journal_mode", [], |r| r.get(0)).unwrap();
    assert_eq!(mode, "wal");

    // Earshot, and the journey, for a page.
    for open in [None, Some("Enter")] {
        open.into_iter().for_each(|k| t.key(k));
        t.key("x");
        let name = if open.is_some() { "gossip-journey-" } else { "gossip-earshot-" };
        t.wait("the files are written", |s| s.contains(&format!("written: {name}")));
        let written: Vec<_> = std::fs::read_dir(dir.path()).unwrap().map(|e| e.unwrap().path()).collect();
        let read = |ending: &str| {
            let of = |p: &&std::path::PathBuf| {
                p.to_string_lossy().contains(name) && p.extension().is_some_and(|e| e == ending)
            };
            std::fs::read(written.iter().find(of).unwrap_or_else(|| panic!("{ending} of {written:?}"))).unwrap()
        };
        assert!(String::from_utf8(read("svg")).unwrap().contains(&"fruit pear → plum".replace(' ', "\u{a0}")));
        assert!(String::from_utf8(read("txt")).unwrap().contains("withheld by rule"));
        assert!(read("pdf").starts_with(b"%PDF-"));
    }
    t.key("Escape");
    t.key("q");
    t.wait_text("[exit 0]");

    // What was made is in the file, with its comments, and opens again as it was.
    let file = std::fs::read_to_string(dir.path().join("gossip.toml")).unwrap();
    for part in ["# Where row changes are read.", "rows = \"orchard = claim.orchard\"", "[persona.Ben]", "[[watcher]]"]
    {
        assert!(file.contains(part), "{part}: {file}");
    }
    let t = Tmux::start(160, 47, &program);
    t.wait("both listen again", |s| s.contains("Ada") && s.contains("Ben") && s.contains("1 instance · reader one"));
    t.key("q");
    t.wait_text("[exit 0]");
}

/// From the list of tables to the reason why a second persona did not hear a change.
fn from_tables_to_the_reason(counted: &Counted, at_the_plan: impl Fn()) {
    let t = &counted.t;
    let (key, text) = (|k: &str| counted.key(k), |text: &str| counted.text(text));
    t.wait("a table without a key is told so", |s| s.contains("■ crates") && s.contains("╳ weather"));
    key("Enter");
    t.wait_text("gossip prepare --remove undoes it");
    at_the_plan();
    key("Enter");
    // The workbench, at the fourth step.
    t.wait_text("▸ rules");
    key("Enter");
    t.wait_text("Nothing is readable without one");
    key("Tab");
    key("Tab");
    text("orchard = claim.orchard");
    key("Enter");
    t.wait_text("▸ persona");
    key("Enter");
    t.wait_text("claims as JSON");
    key("Tab");
    key("Tab");
    text("{\"orchard\":1}");
    key("Enter");
    t.wait_text("▸ watcher");
    key("Enter");
    t.wait_text("New watcher");
    key("Enter");
    t.wait_text("▸ first change");
    // Somebody else, of another orchard.
    key("P");
    t.wait_text("Ben");
    key("Tab");
    key("Tab");
    text("{\"orchard\":2}");
    key("Enter");
    key("n");
    t.wait_text("‹ Ben ›");
    key("Enter");
    t.wait_text("2 watchers listen");
    // A change, by choosing: the first crate's first column, with a value that is there.
    key("Enter");
    t.wait("rows to choose from", |s| s.contains("‹ number = 'A-1' ›"));
    for _ in 0..3 {
        key("Tab");
    }
    key("Right");
    key("Tab");
    key("PageDown");
    t.wait_text("SET fruit = 'plum' WHERE number = 'A-1'");
    key("Enter");
    key("1");
    t.wait("Ada hears it, Ben does not", |s| {
        s.lines().any(|l| l.contains("fruit pear → plum  (yours)") && l.contains('●') && l.contains('◆'))
    });
    key("w");
    t.wait("the reason, with both values", |s| {
        s.contains("why Ben did not hear") && s.contains("orchard = claim.orchard") && s.contains("1 = 2")
    });
}

/// The same on PostgreSQL: the address is typed, and the rest is as easy.
#[test]
fn a_new_user_comes_from_postgresql_to_the_reason_as_well() {
    let _alone = PORT.lock().unwrap_or_else(PoisonError::into_inner);
    let server = testbed::Postgres::start();
    let mut db = postgres::Client::connect(&server.url(), postgres::NoTls).unwrap();
    db.batch_execute(
        "CREATE TABLE orchards (id int PRIMARY KEY, name text NOT NULL);
         CREATE TABLE crates (number text PRIMARY KEY, orchard int REFERENCES orchards(id), fruit text, kilos real);
         CREATE TABLE weather (day text, note text);
         INSERT INTO orchards VALUES (1, 'Upper Row'), (2, 'Millside');
         INSERT INTO crates VALUES ('A-1', 1, 'pear', 12.5), ('A-2', 1, 'plum', 8), ('B-1', 2, 'apple', 15)",
    )
    .unwrap();
    let dir = tempfile::tempdir().unwrap();
    let program = format!("cd {} && GOSSIP_LOG=off {} open", dir.path().display(), env!("CARGO_BIN_EXE_gossip"));
    let begun = std::time::Instant::now();
    let counted = Counted::start(&program);
    let (t, typed) = (&counted.t, server.url());
    t.wait_text("the address of a PostgreSQL database");
    // A password would stand in the file.
    t.type_text(&typed.replace("test@", "test:geheim@"));
    t.key("Enter");
    t.wait_text("leave the password out");
    t.key("C-u");
    counted.text(&typed);
    counted.key("Enter");
    t.wait_text("it has no primary key");
    from_tables_to_the_reason(&counted, || assert!(!t.screen().contains("WAL mode")));
    let keys = counted.keys.get();
    eprintln!(
        "PostgreSQL: {} keys beside the address of {}, in {} s",
        keys - typed.len(),
        typed.len(),
        begun.elapsed().as_secs()
    );
    assert_eq!(keys - typed.len(), KEYS, "as many as on SQLite");
    let file = std::fs::read_to_string(dir.path().join("gossip.toml")).unwrap();
    assert!(file.contains("old_values = [") && !file.contains("geheim"), "{file}");
    t.key("q");
    t.wait_text("[exit 0]");
}
