//! Every action of every view, by its key.

use crossterm::event::KeyCode;
use gossip::workbench::action::Action;
use gossip::workbench::keymap::{ACTIONS, Entry};
use gossip::workbench::rail::View;
use testbed::{Broker, Kind, Tmux};

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
        [topic.radio]\ncolumns = { text = 'text' }\n\
        [[rule]]\nrole = 'reader'\ntable = 'crates'\nmay = ['read']\n\
        [persona.Ada]\nroles = ['reader']\n[persona.Ben]\nroles = ['reader']\n[persona.Cy]\n\
        [[watcher]]\npersona = 'Ada'\nquery = 'SELECT * FROM crates'\n\
        [[watcher]]\npersona = 'Ben'\nquery = 'SELECT * FROM crates WHERE orchard = 2'\n";
    std::fs::write(dir.path().join("gossip.toml"), config).unwrap();
    let gossip = env!("CARGO_BIN_EXE_gossip");
    let prepared = std::process::Command::new(gossip).arg("prepare").current_dir(dir.path()).output().unwrap();
    assert!(prepared.status.success());
    let t = Tmux::start(160, 47, &format!("cd {} && {gossip} open", dir.path().display()));
    t.wait("both listen", |s| s.lines().nth(5).is_some_and(|l| l.matches("one").count() == 2));

    let reached = std::cell::RefCell::new(std::collections::BTreeSet::new());
    let reach_in = |t: &Tmux, view: View, action: Action, what: &str| {
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
    let reach = |view: View, action: Action, what: &str| reach_in(&t, view, action, what);
    let back = |view: View, what: &str| {
        t.key("Escape");
        t.wait(&format!("back in {view:?}"), |s| s.contains(what));
    };
    use View::{Ask, Charts, Clients, Earshot, Relay, Rules, Steps, Tables};

    // Steps, while one is still to be done.
    reach(Earshot, Action::Go(Steps), "▸ first change");
    reach(Steps, Action::NextStep, "Make a change");
    back(Steps, "▸ first change");
    reach(Steps, Action::Grant, "Nothing is readable without one");
    back(Steps, "▸ first change");
    reach(Steps, Action::NewWatcher, "New watcher");
    back(Steps, "▸ first change");
    // A broker is tried before it is written.
    let broker = Broker::start(Kind::Nats);
    for (address, answer) in [("nats://127.0.0.1:1", "nothing was written"), (&*broker.url(), "answers; written to")] {
        reach(Steps, Action::Broker, "names begin with");
        t.type_text(address);
        t.key("Enter");
        t.wait_text(answer);
    }
    let written = std::fs::read_to_string(dir.path().join("gossip.toml")).unwrap();
    assert!(written.contains(&format!("url = \"{}\"", broker.url())), "{written}");

    reach(Steps, Action::Go(Earshot), "Nothing has changed yet");
    for n in 1..=60 {
        write(&format!("UPDATE crates SET fruit = 'fruit {n}' WHERE number = 'A-1';"));
        // One line each: what is committed between two reads arrives as one.
        t.wait_text(&format!("→ fruit {n}"));
    }
    reach(Earshot, Action::Hold, "paused");
    reach(Earshot, Action::Down, "paused");
    reach(Earshot, Action::PageDown, "paused,");
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
    // The explanation is still open.
    back(Earshot, "who heard what");
    reach(Earshot, Action::OnlyThisKey, "what happened to crates A-1");
    back(Earshot, "what changed");
    reach(Earshot, Action::StopAt, "Stop at the first line with this mark");
    back(Earshot, "what changed");
    reach(Earshot, Action::Kinds, "■ events of topics");
    back(Earshot, "what changed");
    reach(Earshot, Action::Publish, "Publish an event");
    t.key("Enter");
    t.wait_text("no rule lets reader publish to radio");
    back(Earshot, "what changed");
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
    reach(Earshot, Action::Report, "written: gossip-report.pdf");
    let report = std::fs::read_to_string(dir.path().join("gossip-report.txt")).unwrap();
    assert!(report.contains(" found") && report.contains("rules "), "{report}");
    reach(Earshot, Action::Palette, "What do you want to do?");
    back(Earshot, "who heard what");
    reach(Earshot, Action::Help, "Keys and marks");
    back(Earshot, "who heard what");
    reach(Earshot, Action::NewWatcher, "New watcher");
    back(Earshot, "who heard what");
    reach(Earshot, Action::DropWatcher, "Ben");
    t.wait("Ada's column is gone", |s| !s.lines().nth(3).is_some_and(|l| l.contains("Ada")));

    reach(Earshot, Action::Go(Ask), "what several people see");
    t.type_text("SELECT * FROM crates");
    t.key("Escape");
    reach(Ask, Action::Edit, "leave the query");
    t.key("Escape");
    reach(Ask, Action::Run, "2 rows");
    reach(Ask, Action::MoreColumns, "orchard");
    t.wait("the first column is aside", |s| !s.contains("number"));
    reach(Ask, Action::FewerColumns, "number");
    reach(Ask, Action::Who, "Run as");
    back(Ask, "run as");
    reach(Ask, Action::Filter, "only rows with");
    t.type_text("again");
    t.key("Enter");
    t.wait("only that row", |s| s.contains("shown with “again”") && !s.contains("fruit 60"));
    t.key("Escape");
    t.wait_text("fruit 60");
    reach(Ask, Action::SaveQuery, "Save the query");
    back(Ask, "run as");

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
    reach(Tables, Action::Fix, "enter do it");
    t.key("Enter");
    t.wait("it is mended", |s| s.contains("done") && !s.contains("journal mode is delete"));
    t.key("Down");
    let triggers = || {
        let count = "SELECT count(*) FROM sqlite_master WHERE type = 'trigger' AND tbl_name = 'notes'";
        rusqlite::Connection::open(&db).unwrap().query_row(count, [], |r| r.get::<_, i64>(0)).unwrap()
    };
    for (proposed, done, followed) in
        [("Stream notes", "notes streams", true), ("Stop streaming notes", "notes no longer streams", false)]
    {
        reach(Tables, Action::Stream, proposed);
        t.key("Enter");
        t.wait(done, |s| s.contains(done) && !s.contains("Stream notes"));
        t.wait("the list follows", |s| {
            s.lines().any(|l| l.contains("notes ") && l.contains("● yes") == followed && l.contains('┊'))
        });
        assert_eq!(triggers() > 0, followed);
    }

    reach(Tables, Action::Go(Rules), "reader on crates");
    reach(Rules, Action::NextRole, "anonymous on crates");
    reach(Rules, Action::Edit, "leave the text");
    t.key("Enter");
    t.type_text("rows = \"orchard = 2\"");
    t.wait_text("edited, not saved");
    t.key("Escape");
    reach(Rules, Action::UndoRules, "Nothing: no rule grants it");
    reach(Rules, Action::Edit, "leave the text");
    t.key("Enter");
    t.type_text("rows = \"orchard = 2\"");
    t.wait_text("edited, not saved");
    t.key("Escape");
    reach(Rules, Action::SaveRules, "anonymous on crates: kept in");
    reach(Rules, Action::PreviousRole, "reader on crates");

    reach(Rules, Action::Go(Relay), "one reads");
    reach(Relay, Action::Hold, "paused, ");
    reach(Relay, Action::Export, "written: gossip-relay");
    reach(Relay, Action::Kinds, "□ what instances say to each other");
    back(Relay, "one reads");

    reach(Relay, Action::Go(Clients), "came and went");
    t.wait("who is connected", |s| s.lines().any(|l| l.contains("reader") && l.contains("one")));
    reach(Clients, Action::Frames, "what went over a connection");
    back(Clients, "came and went");
    reach(Clients, Action::HoldClient, "as if it were slow");
    reach(Clients, Action::Disconnect, "goes on from where it was");
    t.key("Enter");
    t.wait_text("an operator has ended this");
    reach(Clients, Action::Filter, "only clients with");
    t.type_text("orchard");
    t.key("Enter");
    t.wait_text("1 with “orchard”");
    t.key("Escape");

    reach(Clients, Action::Go(Charts), "from commit to socket");
    reach(Charts, Action::Earlier, " UTC");
    reach(Charts, Action::Later, "read at the newest");
    reach(Charts, Action::LongerSpan, "5 minutes");
    reach(Charts, Action::ShorterSpan, "a minute");
    reach(Charts, Action::Export, "written: gossip-charts");
    // Whatever is wrong stands in the head line, and one key lists it with what to do.
    t.key("i");
    t.wait_text("Instances of this process");
    t.key("e");
    t.wait_text("one out of touch");
    back(Charts, "changes and deltas");
    reach(Charts, Action::Alarms, "to look at");
    back(Charts, "changes and deltas");
    reach(Charts, Action::Quit, "[exit 0]");

    // What was recorded on the way is played.
    let r = Tmux::start(
        160,
        47,
        &format!("cd {} && {gossip} open --recording gossip-recording.jsonl", dir.path().display()),
    );
    r.wait_text("at its end");
    reach_in(&r, Earshot, Action::Rewind, "paused, 0 of");
    reach_in(&r, Earshot, Action::PlayOne, "crates A-1");
    reach_in(&r, Earshot, Action::Slower, "events, 0.5×");
    reach_in(&r, Earshot, Action::Faster, "events, 1×");
    reach_in(&r, Earshot, Action::Play, "played at 1×");
    r.key("q");
    r.wait_text("[exit 0]");

    let all = ACTIONS.iter().map(|e| format!("{:?} {:?}", e.view, e.action)).collect();
    let missed: Vec<_> = std::collections::BTreeSet::difference(&all, &reached.borrow()).cloned().collect();
    assert!(missed.is_empty(), "actions without a test: {missed:?}");
}
