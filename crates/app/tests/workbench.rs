//! The real workbench in a real terminal, driven by keys.
#![allow(clippy::unwrap_used)]

use crossterm::event::KeyCode;
use gossip::workbench::actions::{ACTIONS, Action, Entry};
use gossip::workbench::rail::View;
use testbed::Tmux;

fn demo(pace: &str) -> Tmux {
    let t = Tmux::start(160, 47, &format!("{} demo --pace {pace}", env!("CARGO_BIN_EXE_gossip")));
    // The newest line is one that all watchers were listening to.
    t.wait("changes that were heard", |s| {
        let newest = s.lines().nth(7).unwrap_or_default();
        s.contains("2 instances · reader") && newest.contains("calls") && newest.contains('●') && !newest.contains('?')
    });
    t
}

#[test]
fn a_session_with_the_demo() {
    let t = demo("5");
    // Hold, choose, ask why.
    t.key("Space");
    t.wait_text("held");
    t.key("Tab");
    t.key("w");
    let why = t.wait("an explanation", |s| s.contains("✓ stream"));
    assert!(why.contains("why Tove"), "{why}");
    t.key("Escape");
    t.key("Space");

    // Filter.
    t.key("/");
    t.type_text("withheld");
    t.key("Enter");
    t.wait_text("with “withheld”");
    t.key("Escape");
    t.wait("no filter", |s| !s.contains("with “withheld”"));

    // A new watcher hears.
    t.key("n");
    t.wait_text("New watcher");
    t.key("Right");
    t.key("Tab");
    t.key("C-u");
    t.type_text("SELECT * FROM berths WHERE state = 'free'");
    t.key("Enter");
    t.wait("a sixth column", |s| s.lines().nth(3).is_some_and(|l| l.matches("Imre").count() == 2));

    // One whose query is refused says so.
    t.key("n");
    t.wait_text("New watcher");
    t.key("Tab");
    t.key("C-u");
    t.type_text("SELECT * FROM nothing WHERE 1 = 1");
    t.key("Enter");
    t.wait_text("refused");
    t.key("d");
    t.wait("it is gone", |s| !s.contains("refused"));

    // A change that is heard.
    t.key("m");
    t.wait_text("Make a change");
    t.key("Left");
    t.key("Tab");
    t.key("C-u");
    t.type_text("UPDATE berths SET quay = 'Here' WHERE id = 3");
    t.key("Enter");
    t.wait("it is in the stream", |s| s.lines().any(|l| l.contains("Here") && l.contains("(yours)")));

    // One that nobody can hear, and one that fails.
    for (sql, words) in [
        ("INSERT INTO dues (vessel, amount) VALUES ('Ardent Tern', 12)", "never comes: 1 row of dues changed"),
        ("UPDATE calls SET nothing = 1", "never comes: rolled back"),
    ] {
        t.key("m");
        t.wait_text("Make a change");
        t.key("Left");
        t.key("Tab");
        t.key("C-u");
        t.type_text(sql);
        t.key("Enter");
        t.wait_text(words);
    }

    // All frames, both ways, searched.
    t.key("F");
    t.wait("both directions", |s| s.contains("→ sent") && s.contains("← received"));
    t.key("/");
    t.type_text("subscribe");
    t.key("Enter");
    t.wait("the call that was found, on several lines", |s| {
        s.contains("with “subscribe”") && s.contains("\"method\": \"subscribe\"")
    });
    t.key("y");
    t.wait_text("copied:");
    t.key("Escape");

    // The journey, with a frame.
    t.key("Down");
    t.key("Down");
    t.key("Down");
    t.key("Enter");
    t.wait_text("relayed to");
    t.key("f");
    t.wait("a frame or the word that there is none", |s| s.contains("frame to") || s.contains("received no frame"));
    t.key("Escape");
    t.wait_text("who heard what");
    t.key("?");
    t.wait_text("Keys and marks");
    t.key("Escape");

    // Sizes.
    t.resize(100, 30);
    t.wait("the small layout", |s| s.contains("what changed") && !s.contains("1  Earshot"));
    t.resize(70, 20);
    t.wait_text("make it larger");
    t.resize(160, 47);
    t.wait_text("1  Earshot");
    t.key("q");
    t.wait_text("[exit 0]");
}

#[test]
fn a_query_is_asked_as_several_people_and_a_table_is_let_stream() {
    let t = demo("5");
    t.key("2");
    t.wait_text("what several people see");
    t.type_text("calls WHERE agency = :agency");
    t.key("Enter");
    // One of the three has the claim; the others are told what is missing, below its place.
    t.wait("one result and the reason for none", |s| {
        s.contains("Oyelaran  agent") && s.contains("rows") && s.contains("▴ ")
    });
    t.key("Escape");
    t.key("a");
    t.wait_text("Who asks");
    t.key("Space");
    t.key("Down");
    t.key("Space");
    for _ in 0..3 {
        t.key("Down");
    }
    t.key("Space");
    t.key("Enter");
    t.wait("two agencies side by side", |s| {
        s.contains("Tove") && !s.contains("Imre") && s.contains("agency = 'Brightwater'")
    });
    t.wait("its feed and its cost", |s| s.contains("µs a change"));
    t.key("k");
    t.wait_text("Keep the query");
    t.type_text("my_calls");
    t.key("Enter");
    t.wait_text("kept as query.my_calls");

    t.key("3");
    t.wait_text("dues");
    t.key("Down");
    t.key("Down");
    t.wait_text("It does not stream");
    t.key("s");
    t.wait_text("Let dues stream");
    t.key("Enter");
    t.wait_text("dues streams");
    t.wait("it does", |s| s.lines().any(|l| l.contains("dues") && l.contains("● yes")));
    // A change on it is heard of now.
    t.key("m");
    t.wait_text("Make a change");
    t.key("Left");
    t.key("Tab");
    t.key("C-u");
    t.type_text("INSERT INTO dues (vessel, amount) VALUES ('Ardent Tern', 12)");
    t.key("Enter");
    t.key("1");
    t.wait("it is in the stream", |s| s.lines().any(|l| l.contains("dues 1") && l.contains("(yours)")));
    t.key("3");
    t.key("s");
    t.wait_text("Stream dues no longer");
    t.key("Enter");
    t.wait_text("dues streams no longer");
    t.wait("it does not", |s| s.lines().any(|l| l.contains("dues") && l.contains("· no")));
    t.key("q");
    t.wait_text("[exit 0]");
}

#[test]
fn an_instance_ends_and_comes_back() {
    let t = demo("5");
    t.key("i");
    t.wait_text("Instances of this process");
    t.key("Down");
    t.key("e");
    t.wait_text("south has been ended");
    t.key("Escape");
    t.wait("south's watchers say so, north's still hear", |s| s.contains("1 of 2 instances") && s.contains("∅ "));
    t.wait("changes while it is away", |s| s.lines().any(|l| l.contains('●') && l.contains('∅')));
    t.key("i");
    t.wait_text("Instances of this process");
    t.key("Down");
    t.key("e");
    t.wait_text("south runs again");
    t.key("Escape");
    t.wait("all are back", |s| {
        s.contains("2 instances · reader") && s.lines().nth(5).is_some_and(|l| l.matches("south").count() == 3)
    });
    t.wait("and hear", |s| s.lines().nth(7).is_some_and(|l| !l.contains('∅') && !l.contains('?')));

    // A lost message is noticed and healed; nobody misses anything.
    t.key("i");
    t.key("l");
    t.wait_text("will be lost");
    t.key("Escape");
    t.wait("the line after it", |s| !s.contains("will be lost"));
    let screen = t.screen();
    assert!(!screen.lines().any(|l| l.contains("✖ missed") && l.contains("calls")), "{screen}");
    t.key("q");
    t.wait_text("[exit 0]");
}

/// Keys that it takes, every typed letter counted.
const KEYS: usize = 80;

/// From a folder with nothing but somebody's database to a second persona who does not hear a change, and why.
#[test]
fn a_new_user_comes_from_a_database_of_their_own_to_the_reason_why_somebody_did_not_hear() {
    let dir = tempfile::tempdir().unwrap();
    let schema = "CREATE TABLE orchards (id INTEGER PRIMARY KEY, name TEXT NOT NULL);
      CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER REFERENCES orchards(id), fruit TEXT, kilos REAL);
      CREATE TABLE weather (day TEXT, note TEXT);
      INSERT INTO orchards VALUES (1, 'Upper Row'), (2, 'Millside');
      INSERT INTO crates VALUES ('A-1', 1, 'pear', 12.5), ('A-2', 1, 'plum', 8), ('B-1', 2, 'apple', 15);";
    assert!(testbed::sqlite3(&dir.path().join("harvest.db"), schema).0.wait().unwrap().success());
    let program = format!("cd {} && {} open", dir.path().display(), env!("CARGO_BIN_EXE_gossip"));
    let t = Tmux::start(160, 47, &program);
    let keys = std::cell::Cell::new(0);
    let key = |k: &str| {
        keys.set(keys.get() + 1);
        t.key(k);
    };
    let text = |text: &str| {
        keys.set(keys.get() + text.len());
        t.type_text(text);
    };
    t.wait_text("▸ harvest.db");
    key("Enter");
    t.wait("a table without a key is told so", |s| s.contains("■ crates") && s.contains("╳ weather"));
    key("Enter");
    t.wait_text("gossip prepare --remove takes all of it away");
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
    key("C-u");
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
    key("C-u");
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
    t.wait_text("UPDATE crates SET fruit = 'plum' WHERE number = 'A-1'");
    key("Enter");
    key("1");
    t.wait("Ada hears it, Ben does not", |s| {
        s.lines().any(|l| l.contains("fruit pear → plum  (yours)") && l.contains('●') && l.contains('◆'))
    });
    key("w");
    let why = t.wait("the reason", |s| s.contains("why Ben did not hear") && s.contains("orchard = claim.orchard"));
    assert!(why.contains("1 = 2"), "both values: {why}");
    // The README says how many.
    assert_eq!(keys.get(), KEYS, "keys from nothing to the reason");

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

/// The workbench on an instance in another process, which is killed and comes back.
#[test]
fn attached_to_another_process_it_does_what_needs_no_file_and_survives_the_instance() {
    let dir = tempfile::tempdir().unwrap();
    let schema = "CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER, fruit TEXT); INSERT INTO crates VALUES ('A-1', 1, 'pear');";
    let db = dir.path().join("harvest.db");
    assert!(testbed::sqlite3(&db, schema).0.wait().unwrap().success());
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let config = format!(
        "[instance]\nlisten = '127.0.0.1:{port}'\n[source.harvest]\nurl = 'sqlite:harvest.db'\ntables = ['crates']\n\
         [auth]\nsecret_env = 'HARVEST_SECRET'\noperators = 'ops'\n\
         [[rule]]\nrole = 'reader'\ntable = 'crates'\nmay = ['read']\nrows = 'orchard = claim.orchard'\n"
    );
    std::fs::write(dir.path().join("gossip.toml"), config).unwrap();
    let gossip = |args: &[&str]| {
        let mut c = std::process::Command::new(env!("CARGO_BIN_EXE_gossip"));
        c.args(args).current_dir(dir.path()).env("HARVEST_SECRET", "a secret of at least thirty-two bytes");
        c
    };
    assert!(gossip(&["prepare"]).output().unwrap().status.success());
    for (file, claims) in [
        ("ops", r#"{"sub":"ops","roles":["ops"]}"#),
        ("ada", r#"{"sub":"ada","roles":["reader"],"orchard":1}"#),
        ("ben", r#"{"sub":"ben","roles":["reader"],"orchard":2}"#),
    ] {
        let token = gossip(&["token", "--claims", claims]).output().unwrap();
        std::fs::write(dir.path().join(file), token.stdout).unwrap();
    }
    let serve =
        || gossip(&["serve"]).stdout(std::process::Stdio::null()).stderr(std::process::Stdio::null()).spawn().unwrap();
    let mut instance = testbed::Process(serve());
    let attach = format!(
        "cd {} && {} attach localhost:{port} --token-file ops --persona Ada=ada --persona Ben=ben",
        dir.path().display(),
        env!("CARGO_BIN_EXE_gossip")
    );
    let t = Tmux::start(160, 47, &attach);
    t.wait_text("1 instance · reader one");
    // Nothing that needs a database or a file is offered.
    let foot = t.screen().lines().last().unwrap_or_default().to_string();
    assert!(!foot.contains("make a change") && !foot.contains("instances") && foot.contains("new watcher"), "{foot}");
    for (who, steps) in [("Ada", 0), ("Ben", 2)] {
        t.key("n");
        t.wait_text("New watcher");
        (0..steps).for_each(|_| t.key("Right"));
        t.wait_text(&format!("‹ {who} ›"));
        t.key("Tab");
        t.key("C-u");
        t.type_text("SELECT * FROM crates");
        t.key("Enter");
        t.wait("it listens", |s| s.lines().nth(3).is_some_and(|l| l.contains(who)));
    }
    t.wait("both listen", |s| s.lines().nth(5).is_some_and(|l| l.matches("one").count() == 2));
    let write = |sql: &str| assert!(testbed::sqlite3(&db, sql).0.wait().unwrap().success());
    write("UPDATE crates SET fruit = 'plum';");
    t.wait("one hears", |s| s.lines().any(|l| l.contains("pear → plum") && l.contains('●') && l.contains('◆')));
    t.key("3");
    t.wait("Tables, without what only the file knows", |s| {
        s.contains("● yes") && s.contains("cannot be reached from here")
    });
    t.key("2");
    t.type_text("crates");
    t.key("Enter");
    t.wait("Ada's row, and why there is none for those without a rule", |s| {
        s.contains("plum") && s.contains("refused")
    });

    instance.0.kill().unwrap();
    instance.0.wait().unwrap();
    t.wait("it says since when", |s| s.contains("0 of 1 instances") && s.contains("out of touch for"));
    write("UPDATE crates SET fruit = 'quince';");
    let _instance = testbed::Process(serve());
    t.wait("Ask is right again", |s| s.contains("quince") && s.contains("1 instance · reader one"));
    t.key("Escape");
    t.key("1");
    t.wait("so are the watchers", |s| s.lines().nth(5).is_some_and(|l| l.matches("one").count() == 2));
    write("UPDATE crates SET fruit = 'medlar';");
    t.wait("and hear", |s| s.lines().any(|l| l.contains("quince → medlar") && l.contains('●') && l.contains('◆')));
    t.key("q");
    t.wait_text("[exit 0]");
}

/// Every action of every view is reached by its key, and does what it says. The table and this test cannot drift apart.
#[test]
fn every_action_of_every_view_is_reached_by_its_key() {
    let dir = tempfile::tempdir().unwrap();
    let schema = "CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER, fruit TEXT);
      CREATE TABLE notes (id INTEGER PRIMARY KEY, text TEXT);
      INSERT INTO crates VALUES ('A-1', 1, 'pear'), ('B-1', 2, 'plum');";
    let db = dir.path().join("harvest.db");
    let write = |sql: &str| assert!(testbed::sqlite3(&db, sql).0.wait().unwrap().success());
    write(schema);
    let config = "[instance]\nlisten = '127.0.0.1:0'\n[source.harvest]\nurl = 'sqlite:harvest.db'\ntables = ['crates']\n\
        [[rule]]\nrole = 'reader'\ntable = 'crates'\nmay = ['read']\n\
        [persona.Ada]\nroles = ['reader']\n[persona.Ben]\nroles = ['reader']\n\
        [[watcher]]\npersona = 'Ada'\nquery = 'SELECT * FROM crates'\n\
        [[watcher]]\npersona = 'Ben'\nquery = 'SELECT * FROM crates WHERE orchard = 2'\n";
    std::fs::write(dir.path().join("gossip.toml"), config).unwrap();
    let gossip = env!("CARGO_BIN_EXE_gossip");
    let prepared = std::process::Command::new(gossip).arg("prepare").current_dir(dir.path()).output().unwrap();
    assert!(prepared.status.success());
    let t = Tmux::start(160, 47, &format!("cd {} && {gossip} open", dir.path().display()));
    t.wait("both listen", |s| s.lines().nth(5).is_some_and(|l| l.matches("one").count() == 2));

    let reached = std::cell::RefCell::new(std::collections::BTreeSet::new());
    let reach = |view: View, action: Action, what: &str| {
        let here = |e: &&Entry| e.action == action && e.view.is_none_or(|v| v == view);
        let e = ACTIONS.iter().find(here).unwrap_or_else(|| panic!("{action:?} is not in {view:?}"));
        reached.borrow_mut().insert(format!("{:?} {:?}", e.view, e.action));
        let key = match e.key {
            KeyCode::Char(' ') => "Space".to_string(),
            KeyCode::Char(c) => c.to_string(),
            KeyCode::BackTab => "BTab".into(),
            KeyCode::Esc => "Escape".into(),
            KeyCode::PageUp => "PPage".into(),
            KeyCode::PageDown => "NPage".into(),
            other => format!("{other:?}"),
        };
        t.key(&key);
        t.wait(&format!("{action:?} in {view:?}: {what:?}"), |s| s.contains(what));
    };
    let back = |view: View, what: &str| {
        t.key("Escape");
        t.wait(&format!("back in {view:?}"), |s| s.contains(what));
    };
    use View::{Ask, Earshot, Steps, Tables};

    // Steps, while one is still to be done.
    reach(Earshot, Action::Go(Steps), "▸ first change");
    reach(Steps, Action::NextStep, "Make a change");
    back(Steps, "▸ first change");
    reach(Steps, Action::Grant, "Nothing is readable without one");
    back(Steps, "▸ first change");
    reach(Steps, Action::NewWatcher, "New watcher");
    back(Steps, "▸ first change");

    reach(Steps, Action::Go(Earshot), "Nothing has changed yet");
    for n in 1..=60 {
        write(&format!("UPDATE crates SET fruit = 'fruit {n}' WHERE number = 'A-1';"));
        // One line each: what is committed between two reads arrives as one.
        t.wait_text(&format!("→ fruit {n}"));
    }
    reach(Earshot, Action::Hold, "held");
    reach(Earshot, Action::Down, "held");
    reach(Earshot, Action::PageDown, "held,");
    reach(Earshot, Action::PageUp, "→ fruit 59");
    reach(Earshot, Action::Up, "→ fruit 60");
    reach(Earshot, Action::Unfold, "· crates A-1");
    reach(Earshot, Action::Fold, "→ fruit 60");
    t.wait("its rows are hidden", |s| !s.contains("· crates A-1"));
    reach(Earshot, Action::NextWatcher, "Ben");
    reach(Earshot, Action::Why, "why Ben did not hear");
    reach(Earshot, Action::PreviousWatcher, "why Ada heard");
    reach(Earshot, Action::Journey, "relayed to one");
    reach(Earshot, Action::Frame, "frame to Ada");
    reach(Earshot, Action::Export, "written: gossip-journey-");
    reach(Earshot, Action::Back, "who heard what");
    reach(Earshot, Action::Newest, "what changed");
    reach(Earshot, Action::Frames, "← received");
    back(Earshot, "who heard what");
    reach(Earshot, Action::Copy, "copied: crates A-1");
    reach(Earshot, Action::Filter, "Empty shows all");
    back(Earshot, "who heard what");
    reach(Earshot, Action::Change, "Make a change");
    back(Earshot, "who heard what");
    // Repeated, with a value that varies, until it is stopped.
    reach(Earshot, Action::Change, "Make a change");
    t.key("Left");
    t.key("Tab");
    t.key("C-u");
    t.type_text("UPDATE crates SET fruit = 'again {n}' WHERE number = 'B-1'");
    t.key("Tab");
    t.key("C-u");
    t.type_text("100000");
    t.wait_text("a second");
    t.key("Enter");
    t.wait("one of them", |s| s.contains("→ again "));
    reach(Earshot, Action::StopChanges, "of 100000 changes were made");
    reach(Earshot, Action::Personas, "claims as JSON");
    back(Earshot, "who heard what");
    reach(Earshot, Action::NewPersona, "Cleo");
    back(Earshot, "who heard what");
    reach(Earshot, Action::Instances, "Instances of this process");
    back(Earshot, "who heard what");
    reach(Earshot, Action::Record, "Save a recording");
    t.key("Tab");
    t.type_text("crates.fruit");
    t.key("Enter");
    t.wait_text("recorded:");
    let saved = std::fs::read_to_string(dir.path().join("gossip-recording.jsonl")).unwrap();
    assert!(saved.contains("gossip.verdicts") && !saved.contains("fruit 60"), "masked in the file");
    reach(Earshot, Action::Palette, "What do you want to do?");
    back(Earshot, "who heard what");
    reach(Earshot, Action::Help, "Keys and marks");
    back(Earshot, "who heard what");
    reach(Earshot, Action::NewWatcher, "New watcher");
    back(Earshot, "who heard what");
    reach(Earshot, Action::DropWatcher, "Ben");
    t.wait("Ada's column is gone", |s| !s.lines().nth(3).is_some_and(|l| l.contains("Ada")));

    reach(Earshot, Action::Go(Ask), "what several people see");
    t.type_text("crates");
    t.key("Escape");
    reach(Ask, Action::Edit, "leave the query");
    t.key("Escape");
    reach(Ask, Action::Run, "2 rows");
    reach(Ask, Action::MoreColumns, "orchard");
    t.wait("the first column is aside", |s| !s.contains("number"));
    reach(Ask, Action::FewerColumns, "number");
    reach(Ask, Action::Who, "Who asks");
    back(Ask, "who asks");
    reach(Ask, Action::Filter, "only rows with");
    t.type_text("again");
    t.key("Enter");
    t.wait("only that row", |s| s.contains("shown with “again”") && !s.contains("fruit 60"));
    t.key("Escape");
    t.wait_text("fruit 60");
    reach(Ask, Action::Keep, "Keep the query");
    back(Ask, "who asks");

    reach(Ask, Action::Go(Tables), "journal mode is delete");
    reach(Tables, Action::Filter, "only tables with");
    t.type_text("orchard");
    t.key("Enter");
    t.wait("only the table with that column", |s| s.contains("● yes") && !s.contains("notes"));
    t.key("Escape");
    t.wait_text("notes");
    reach(Tables, Action::Grant, "Nothing is readable without one");
    back(Tables, "what is in the way");
    reach(Tables, Action::NextFinding, "PRAGMA journal_mode = WAL");
    reach(Tables, Action::Mend, "enter do it");
    t.key("Enter");
    t.wait("it is mended", |s| s.contains("done") && !s.contains("journal mode is delete"));
    t.key("Down");
    let triggers = || {
        let count = "SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'notes'";
        rusqlite::Connection::open(&db).unwrap().query_row(count, [], |r| r.get::<_, i64>(0)).unwrap()
    };
    for (proposed, done, followed) in
        [("Let notes stream", "notes streams", true), ("Stream notes no longer", "notes streams no longer", false)]
    {
        reach(Tables, Action::Stream, proposed);
        t.key("Enter");
        t.wait(done, |s| s.contains(done) && !s.contains("Let notes"));
        t.wait("the list follows", |s| {
            s.lines().any(|l| l.contains("notes ") && l.contains("● yes") == followed && l.contains('┊'))
        });
        assert_eq!(triggers() > 0, followed);
    }
    reach(Tables, Action::Quit, "[exit 0]");

    let all = ACTIONS.iter().map(|e| format!("{:?} {:?}", e.view, e.action)).collect();
    let missed: Vec<_> = std::collections::BTreeSet::difference(&all, &reached.borrow()).cloned().collect();
    assert!(missed.is_empty(), "actions without a test: {missed:?}");
}

/// Two recordings of an instance in another process, one with a masked column, looked at afterwards.
#[test]
fn what_was_recorded_is_looked_at_later_and_masks_hold() {
    let dir = tempfile::tempdir().unwrap();
    let db = dir.path().join("harvest.db");
    let write = |sql: &str| assert!(testbed::sqlite3(&db, sql).0.wait().unwrap().success());
    write(
        "CREATE TABLE crates (number TEXT PRIMARY KEY NOT NULL, orchard INTEGER, fruit TEXT);
      INSERT INTO crates VALUES ('A-1', 1, 'pear'), ('B-1', 2, 'apple');",
    );
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let config = format!(
        "[instance]\nlisten = '127.0.0.1:{port}'\n[source.harvest]\nurl = 'sqlite:harvest.db'\ntables = ['crates']\n\
         [auth]\nsecret_env = 'HARVEST_SECRET'\noperators = 'ops'\n\
         [[rule]]\nrole = 'reader'\ntable = 'crates'\nmay = ['read']\nrows = 'orchard = claim.orchard'\n"
    );
    std::fs::write(dir.path().join("gossip.toml"), config).unwrap();
    let gossip = |args: &[&str]| {
        let mut c = std::process::Command::new(env!("CARGO_BIN_EXE_gossip"));
        c.args(args).current_dir(dir.path()).env("HARVEST_SECRET", "a secret of at least thirty-two bytes");
        c.stdout(std::process::Stdio::piped()).stderr(std::process::Stdio::piped());
        c
    };
    assert!(gossip(&["prepare"]).output().unwrap().status.success());
    for (file, claims) in
        [("ops", r#"{"sub":"ops","roles":["ops"]}"#), ("ada", r#"{"sub":"ada","roles":["reader"],"orchard":1}"#)]
    {
        let token = gossip(&["token", "--claims", claims]).output().unwrap();
        std::fs::write(dir.path().join(file), token.stdout).unwrap();
    }
    let _instance = testbed::Process(gossip(&["serve"]).stderr(std::process::Stdio::null()).spawn().unwrap());
    testbed::wait_for(|| "the instance".into(), || std::net::TcpStream::connect(("127.0.0.1", port)).ok());
    let url = format!("localhost:{port}");
    let here = dir.path().display();
    // A watcher, of whom the recording tells as well.
    let attach =
        format!("cd {here} && {} attach {url} --token-file ops --persona Ada=ada", env!("CARGO_BIN_EXE_gossip"));
    let live = Tmux::start(160, 47, &attach);
    live.wait_text("1 instance · reader one");
    live.key("n");
    live.wait_text("‹ Ada ›");
    live.key("Tab");
    live.key("C-u");
    live.type_text("SELECT * FROM crates");
    live.key("Enter");
    live.wait("she listens", |s| s.lines().nth(5).is_some_and(|l| l.contains("one")));
    write("UPDATE crates SET fruit = 'quince' WHERE number = 'A-1';");
    write("UPDATE crates SET fruit = 'medlar' WHERE number = 'B-1';");
    live.wait("one is heard and one withheld", |s| {
        let with = |text: &str, mark: char| s.lines().any(|l| l.contains(text) && l.contains(mark));
        with("medlar", '◆') && with("quince", '●')
    });
    // Who is connected is sampled once a second.
    testbed::wait_for(
        || "the instance to tell of her".into(),
        || {
            let query = "SELECT subject, subscriptions FROM gossip.clients WHERE subject = 'ada'";
            let told = gossip(&["watch", &url, query, "--token-file", "ops", "--count", "1"]).output().unwrap();
            String::from_utf8_lossy(&told.stdout).contains("SELECT * FROM crates").then_some(())
        },
    );
    for (file, mask) in [("plain.jsonl", ""), ("masked.jsonl", "crates.fruit")] {
        let args = ["record", &url, "-o", file, "--token-file", "ops", "--mask", mask];
        let mut recorder = testbed::Process(gossip(&args).spawn().unwrap());
        // It begins with what its instance remembers, and says so when it has that.
        let mut said = String::new();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(recorder.0.stderr.take().unwrap()), &mut said)
            .unwrap();
        assert!(said.contains("recording into"), "{said}");
        let pid = recorder.0.id().to_string();
        assert!(std::process::Command::new("kill").args(["-INT", &pid]).status().unwrap().success());
        assert!(recorder.0.wait().unwrap().code().is_some_and(|c| c == 0));
    }
    live.key("q");
    live.wait_text("[exit 0]");
    let read = |file: &str| std::fs::read_to_string(dir.path().join(file)).unwrap();
    assert!(read("plain.jsonl").contains("quince"));
    for secret in ["quince", "medlar", "pear", "apple"] {
        assert!(!read("masked.jsonl").contains(secret), "{secret} in the masked recording");
    }
    for (file, shown) in [("plain.jsonl", "fruit apple → medlar"), ("masked.jsonl", "crates B-1")] {
        let t = Tmux::start(160, 47, &format!("cd {here} && {} open --recording {file}", env!("CARGO_BIN_EXE_gossip")));
        let screen = t.wait("what happened, and to whom", |s| {
            let with = |text: &str, mark: char| s.lines().any(|l| l.contains(text) && l.contains(mark));
            s.contains("ada") && with(shown, '◆') && with("crates A-1", '●')
        });
        assert!(file == "plain.jsonl" || !screen.contains("medlar"), "{screen}");
        // What happened to this key.
        t.key("/");
        t.type_text("A-1");
        t.key("Enter");
        t.wait("only its lines", |s| s.contains("crates A-1") && !s.contains("crates B-1"));
        t.key("w");
        t.wait_text("a recording has no instance");
        t.key("Escape");
        t.key("3");
        t.wait("its tables", |s| s.contains("● yes"));
        t.key("q");
        t.wait_text("[exit 0]");
    }
    let bad = gossip(&["open", "--recording", "gossip.toml"]).output().unwrap();
    let text = String::from_utf8_lossy(&bad.stderr).to_string();
    assert!(bad.status.code() == Some(2) && text.contains("gossip.toml:1: not JSON"), "{text}");
}
